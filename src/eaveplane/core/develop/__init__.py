"""The look on pixels: what is set, and how light is developed under it."""
