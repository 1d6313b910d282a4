"""Files of pictures: one module a format, and one registry of them all."""
