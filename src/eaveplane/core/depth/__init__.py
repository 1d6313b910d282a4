"""How far off everything lies."""
