"""What the page sees of a scene: opened from what is kept, shown for any box at any level, with overlays by kind."""

from .finished import found_level, proof
from .memory import Memory
from .opening import Frames, open_view
from .overlays import ViewOptions
from .screen import overview, screen, viewport
from .trial import make_ready, seams_tried
from .view import View

__all__ = ["Frames", "Memory", "View", "ViewOptions", "found_level", "make_ready", "open_view", "overview", "proof", "screen", "seams_tried", "viewport"]
