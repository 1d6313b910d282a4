"""What is set for all frames of a scene alike, before they are registered and woven."""

from __future__ import annotations

from typing import Literal

from ....parameter import Parameters, parameter

Demosaic = Literal["dht", "ahd", "aahd", "dcb", "vng", "ppg"]
Highlights = Literal["clip", "blend", "rebuild"]


class Capture(Parameters):
    """Settings for all frames of a scene alike; as they stand here, frames are left as they come from the camera."""

    demosaic: Demosaic = "dht"
    highlights: Highlights = "clip"
    fringes: Literal["off", "measured", "lens", "hand"] = "off"
    fringe_red: float = parameter(0, -4, 4, 0.05, "Red", "How far outside of green red lies in the corners.", "px", "Fringes by hand")
    fringe_blue: float = parameter(0, -4, 4, 0.05, "Blue", "How far outside of green blue lies in the corners.", "px", "Fringes by hand")
    vignetting: Literal["off", "lens", "hand"] = "off"
    falloff: float = parameter(0, -2, 3, 0.05, "Corners", "How much the corners are lightened.", "EV", "Vignetting by hand")
    distortion: bool = False
    noise: float = parameter(0, 0, 100, 5, "Noise", "Grain in brightness is smoothed, in multiples of the noise that was measured.", "%", "Noise")
    noise_colour: float = parameter(0, 0, 100, 5, "Colour noise", "Blotches of colour are smoothed, in multiples of the noise that was measured.", "%", "Noise")
    sharpen: float = parameter(0, 0, 100, 5, "Sharpening", "Before weaving; it also sharpens what frames are compared by. Leave it off unless the lens is soft.", "%", "Capture sharpening")
    radius: float = parameter(0.7, 0.4, 2, 0.1, "Radius", "Width of what is sharpened.", "px", "Capture sharpening")
    edges: float = parameter(40, 0, 100, 5, "Only edges", "How clear an edge has to be to be sharpened.", "%", "Capture sharpening")

    def corrects(self) -> bool:
        """Whether pixels are changed after they have been read."""
        read_only = Capture(demosaic=self.demosaic, highlights=self.highlights, radius=self.radius, edges=self.edges, fringe_red=self.fringe_red, fringe_blue=self.fringe_blue, falloff=self.falloff)
        return self != read_only

    def needs_noise(self) -> bool:
        """Whether a frame's noise has to be known for it."""
        return bool(self.noise or self.noise_colour or self.sharpen)

    def coarse(self) -> Capture:
        """What is left of it at smaller sizes, at which neither noise nor sharpening is seen."""
        return self.model_copy(update={"noise": 0.0, "noise_colour": 0.0, "sharpen": 0.0})


CORRECTIONS = {
    "demosaic": ("demosaic",),
    "highlights": ("highlights",),
    "fringes": ("fringes", "fringe_red", "fringe_blue"),
    "vignetting": ("vignetting", "falloff"),
    "distortion": ("distortion",),
    "noise": ("noise", "noise_colour"),
    "sharpening": ("sharpen", "radius", "edges"),
}
"""Corrections by name, and the settings each is made of."""


def without(capture: Capture, name: str) -> Capture:
    """The settings with one correction as if it had not been asked for. Raises KeyError."""
    plain = Capture()
    return capture.model_copy(update={field: getattr(plain, field) for field in CORRECTIONS[name]})
