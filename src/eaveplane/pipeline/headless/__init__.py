"""What the command line does: from files to scenes, to an inspection, to a finished picture, each with its report."""

from .inspect import inspect
from .read import read_frames
from .sets import sets
from .stack import Stack, recipe_for, stack

__all__ = ["Stack", "inspect", "read_frames", "recipe_for", "sets", "stack"]
