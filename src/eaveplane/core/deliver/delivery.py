"""What is delivered, as data: outputs of a format, profile and size, what they say of the picture, and where they go."""

from __future__ import annotations

from typing import Literal

from pydantic import Field

from ...parameter import Parameters, parameter

Format = Literal["tiff", "png", "jpeg", "avif", "ora", "pages"]
Profile = Literal["input", "srgb", "p3", "rec2020", "file"]
SUFFIX: dict[Format, str] = {"tiff": ".tif", "png": ".png", "jpeg": ".jpg", "avif": ".avif", "ora": ".ora", "pages": ".tif"}
SUFFIXES_TOLD = ".tif, .png, .jpg, .avif or .ora (OpenRaster: result, registered frames with their masks)"
ALSO = {".tiff": ".tif", ".jpeg": ".jpg"}
"""Other suffixes of the same formats."""
LAYERED = ("ora", "pages")
Intent = Literal["perceptual", "relative", "saturation", "absolute"]
Size = Literal["full", "edge", "megapixels", "print"]
DEEP = ("tiff", "png", "ora", "pages")
"""Formats that take 16 bits."""


class Delivery(Parameters):
    """One output: how a finished picture is written. `profile_file` is the digest of a profile that was brought in, for the profile `file`;
    lengths are in centimetres, `paper_w` of 0 is no paper around the picture."""

    title: str = Field("Picture", min_length=1, max_length=60)
    ticked: bool = True
    format: Format = "tiff"
    bits: Literal[8, 16] = 16
    packing: Literal["none", "deflate", "lzw"] = "none"
    tiled: bool = False
    quality: float = parameter(92, 40, 100, 1, "Quality", "Of a JPEG or AVIF; higher is larger.", "", "File")
    most_kb: float = parameter(0, 0, 1_000_000, 50, "At most", "Lowers the quality of a JPEG or AVIF until it is no larger; 0 allows any size.", "kB", "File")
    profile: Profile = "input"
    profile_file: str = Field("", max_length=64, pattern="^[0-9a-f]*$")
    profile_name: str = Field("", max_length=120)
    intent: Intent = "relative"
    black_point: bool = True
    size: Size = "full"
    long_edge: int = Field(0, ge=0, le=60000)
    megapixels: float = parameter(2, 0.05, 400, 0.5, "Megapixels", "Of the picture.", "MP", "Size")
    print_long: float = parameter(60, 2, 300, 0.5, "Long side", "Of the picture on paper, without its border.", "cm", "Size")
    density: float = parameter(300, 30, 1200, 10, "Density", "Pixels an inch.", "px/in", "Size")
    paper_w: float = parameter(0, 0, 300, 0.5, "Paper, long side", "The picture is set in the middle of white paper; 0 is none.", "cm", "Size")
    paper_h: float = parameter(0, 0, 300, 0.5, "Paper, short side", "The picture is set in the middle of white paper; 0 is none.", "cm", "Size")
    border: float = parameter(0, 0, 50, 0.5, "Border", "White that stays on each side of the paper at least.", "cm", "Size")
    enlarge: bool = False
    sharpen: Literal["finish", "none", "screen", "paper"] = "finish"
    position: bool = True
    recipe_inside: bool = True
    provenance: bool = False
    name: str = Field("{scene} {frames}f {date}", max_length=120)
    folder: str = Field("", max_length=1000)

    @property
    def deep(self) -> bool:
        """Whether it has 16 bits a channel."""
        return self.bits == 16 and self.format in DEEP

    @property
    def on_paper(self) -> bool:
        """Whether white paper lies around the picture."""
        return self.size == "print" and self.paper_w > 0 and self.paper_h > 0


class About(Parameters):
    """What delivered files say of the picture, where it is not what the frames say already; keywords are parted by commas."""

    title: str = Field("", max_length=200)
    caption: str = Field("", max_length=2000)
    author: str = Field("", max_length=120)
    rights: str = Field("", max_length=200)
    keywords: str = Field("", max_length=1000)


class OutputSet(Parameters):
    """Outputs that are written together, kept under a name, with what is the same in every picture."""

    outputs: list[Delivery] = Field(min_length=1, max_length=12)
    author: str = Field("", max_length=120)
    rights: str = Field("", max_length=200)


START: dict[str, OutputSet] = {
    "Archive and web": OutputSet(
        outputs=[
            Delivery(title="Archive", packing="deflate", name="{scene} {frames}f {date}"),
            Delivery(title="Web", format="jpeg", profile="srgb", size="edge", long_edge=2400, quality=88, sharpen="screen", position=False, recipe_inside=False, name="{scene} web"),
        ]
    ),
    "Print": OutputSet(outputs=[Delivery(title="Print", packing="deflate", size="print", print_long=60, sharpen="paper", name="{scene} {output} {width}x{height}cm")]),
    "Layers": OutputSet(outputs=[Delivery(title="Layers", format="ora", name="{scene} layers")]),
}
"""Sets to begin with."""
