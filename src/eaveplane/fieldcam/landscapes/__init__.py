"""The landscapes by name, in the order in which they are offered."""

from . import larch, lava, saltpan, thistle

LANDSCAPES = {scape.name: scape for scape in (saltpan.LANDSCAPE, thistle.LANDSCAPE, larch.LANDSCAPE, lava.LANDSCAPE)}
