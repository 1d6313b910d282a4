"""The job without a page: `eaveplane COMMAND --help`."""

from . import camera, frames, many, page, stack
from .group import main

__all__ = ["camera", "frames", "main", "many", "page", "stack"]
