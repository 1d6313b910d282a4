"""What the page sees of a scene: opened from what is kept, shown for any box at any level, with overlays by kind."""

from .memory import Memory
from .opening import Frames, open_view
from .overlays import ViewOptions
from .screen import overview, screen, viewport
from .trial import seams_tried
from .view import View

__all__ = ["Frames", "Memory", "View", "ViewOptions", "open_view", "overview", "screen", "seams_tried", "viewport"]
