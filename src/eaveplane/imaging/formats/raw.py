"""Raw files of cameras, decoded by LibRaw."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import rawpy
from numpy.typing import NDArray

from ..colour import D65_XY, WORK_FROM_SRGB, XYZ_FROM_WORK, temperature_of, white_xyz
from ..errors import PictureError
from ..exif import Metadata
from ..icc import linear_encoding
from ..lensdata import read_opcodes
from ..pyramid import Size
from .format import Format
from .picture import DAYLIGHT, Picture, check_size

SUFFIXES = (
    *(".dng", ".nef", ".nrw", ".cr2", ".cr3", ".crw", ".arw", ".srf", ".sr2", ".raf", ".orf"),
    *(".rw2", ".pef", ".srw", ".3fr", ".fff", ".iiq", ".mos", ".mrw", ".x3f", ".erf", ".kdc", ".dcr", ".rwl", ".gpr"),
)
DEMOSAIC = {
    "dht": rawpy.DemosaicAlgorithm.DHT,
    "ahd": rawpy.DemosaicAlgorithm.AHD,
    "dcb": rawpy.DemosaicAlgorithm.DCB,
    "aahd": rawpy.DemosaicAlgorithm.AAHD,
    "vng": rawpy.DemosaicAlgorithm.VNG,
    "ppg": rawpy.DemosaicAlgorithm.PPG,
}
HIGHLIGHTS = {"clip": rawpy.HighlightMode.Clip, "blend": rawpy.HighlightMode.Blend, "rebuild": rawpy.HighlightMode.Reconstruct(5)}


def _read(path: Path, meta: Metadata, demosaic: str, highlights: str) -> Picture:
    """Scene-linear camera channels, as-shot balanced; light 1 is where the first channel of a white clips.

    `adjust_maximum_thr=0` keeps LibRaw from rescaling each file to its own brightest pixel, which would make
    the frames of one scene unequally bright. Clipped highlights end at the balanced white, so they stay neutral; where
    they are kept, LibRaw scales the channel that clips last to the end of the codes.
    """
    with rawpy.imread(str(path)) as raw:
        check_size(path, raw.sizes.width, raw.sizes.height)
        codes = raw.postprocess(
            use_camera_wb=True,
            no_auto_bright=True,
            adjust_maximum_thr=0.0,
            gamma=(1, 1),
            output_bps=16,
            output_color=rawpy.ColorSpace.raw,
            highlight_mode=HIGHLIGHTS[highlights],
            demosaic_algorithm=DEMOSAIC[demosaic],
        )
        to_srgb = np.asarray(raw.color_matrix, np.float64)[:, :3]
        daylight, camera = list(raw.daylight_whitebalance), list(raw.camera_whitebalance)
    if codes.ndim != 3 or codes.shape[2] != 3:
        raise PictureError(path, "does not have three colours.", "Convert it to TIFF first.")
    if abs(np.linalg.det(to_srgb)) < 1e-6:
        to_srgb = np.eye(3)
    to_work = WORK_FROM_SRGB @ to_srgb
    multipliers = [m for m in camera if m > 0]
    peak = 1.0 if highlights == "clip" or not multipliers else max(multipliers) / min(multipliers)
    return Picture(codes, linear_encoding(to_work, peak), meta, raw=True, shot=_as_shot(to_work, daylight, camera), peak=peak, lens=read_opcodes(path))


def _as_shot(to_work: NDArray[np.float64], daylight: list[float], camera: list[float]) -> tuple[float, float]:
    """Temperature and tint of a raw file's white balance, from its multipliers for daylight and for this shot."""
    with np.errstate(divide="ignore", invalid="ignore"):
        ratio = np.array(daylight[:3]) / np.array(camera[:3])
        seen = XYZ_FROM_WORK @ to_work @ (ratio / ratio[1])
        seen /= seen[1]
    if not np.isfinite(seen).all() or (seen <= 0).any() or np.allclose(seen, white_xyz(D65_XY), rtol=2e-3):
        return DAYLIGHT
    return temperature_of(seen)


def _size(path: Path, meta: Metadata) -> Size:
    with rawpy.imread(str(path)) as raw:
        width, height = raw.sizes.width, raw.sizes.height
        return (height, width) if raw.sizes.flip in (5, 6) else (width, height)


RAW = Format("raw", SUFFIXES, None, _size, _read)
