"""What runs for the page: the queue, the worker that empties it, and the kinds of jobs, one a file.

A kind is registered by being decorated; importing it here is all it needs beside.
"""

from . import beside, bring_in, deliver, frames, inspect, masks, register, shoot, weave, whole

__all__ = ["beside", "bring_in", "deliver", "frames", "inspect", "masks", "register", "shoot", "weave", "whole"]
