"""Reading a picture file of any kind into codes and what the codes mean."""

from __future__ import annotations

import io
from dataclasses import dataclass, replace
from pathlib import Path

import imagecodecs
import numpy as np
import rawpy
import tifffile
from numpy.typing import NDArray
from PIL import Image

from .colour import D65_XY, WORK_FROM_SRGB, XYZ_FROM_WORK, temperature_of, white_xyz
from .errors import PictureError
from .exif import Metadata, read_metadata
from .icc import Encoding, NotAMatrixProfile, linear_encoding, read_profile, standard_encoding
from .lensdata import LensData, read_opcodes

RAW_SUFFIXES = frozenset(
    [
        *(".dng", ".nef", ".nrw", ".cr2", ".cr3", ".crw", ".arw", ".srf", ".sr2", ".raf", ".orf", ".rw2"),
        *(".pef", ".srw", ".3fr", ".fff", ".iiq", ".mos", ".mrw", ".x3f", ".erf", ".kdc", ".dcr", ".rwl", ".gpr"),
    ]
)
PICTURE_SUFFIXES = RAW_SUFFIXES | frozenset([".tif", ".tiff", ".png", ".jpg", ".jpeg"])
MOST_PIXELS = 400_000_000
LONGEST_SIDE = 60_000
Image.MAX_IMAGE_PIXELS = MOST_PIXELS


DAYLIGHT = (6504.0, 0.0)


@dataclass(frozen=True, eq=False)
class Picture:
    """`codes` (height, width, 3), uint8 or uint16, upright; `encoding` says what light they are.

    `raw` tells that the codes are scene-linear camera channels under the as-shot white balance, `shot` of which
    light that is: temperature in kelvin and tint. `peak` is the brightest light they hold, `lens` the profile in the file.
    """

    codes: NDArray[np.uint8] | NDArray[np.uint16]
    encoding: Encoding
    meta: Metadata
    raw: bool
    shot: tuple[float, float] = DAYLIGHT
    peak: float = 1.0
    lens: LensData | None = None


@dataclass(frozen=True)
class Facts:
    """What is known of a file without decoding it: upright size, kind (`raw`, `tiff`, `png`, `jpeg`), metadata."""

    width: int
    height: int
    kind: str
    meta: Metadata


def kind_of(path: Path) -> str:
    """`raw`, `tiff`, `png` or `jpeg`, by content. Raises PictureError."""
    try:
        with path.open("rb") as file:
            head = file.read(16)
    except FileNotFoundError:
        raise PictureError(path, "is not there any more.", "Put it back or leave the frame out.") from None
    except (PermissionError, IsADirectoryError) as error:
        raise PictureError(path, f"cannot be opened ({error.strerror}).", "Check its permissions.") from error
    if not head:
        raise PictureError(path, "is empty.", "Copy it from the card again.")
    suffix = path.suffix.lower()
    if head[:2] == b"\xff\xd8":
        return "jpeg"
    if head[:8] == b"\x89PNG\r\n\x1a\n":
        return "png"
    if suffix in RAW_SUFFIXES:
        return "raw"
    if head[:4] in (b"II*\0", b"MM\0*", b"II+\0", b"MM\0+"):
        return "tiff"
    raise PictureError(path, "is not a picture, whatever its name says.", "Bring in raw, TIFF, PNG or JPEG files.")


def _check_size(path: Path, width: int, height: int) -> None:
    if width < 16 or height < 16:
        raise PictureError(path, f"is only {width} × {height} pixels.", "Frames need at least 16 pixels a side.")
    if width > LONGEST_SIDE or height > LONGEST_SIDE or width * height > MOST_PIXELS:
        raise PictureError(path, f"says it has {width} × {height} pixels, more than can be true.", "Export it again.")


def damaged(path: Path, error: Exception) -> PictureError:
    """What to say of a file that a decoder stumbled over."""
    return PictureError(path, f"is damaged or cut off ({type(error).__name__}).", "Copy it from the card again.")


def _turned(width: int, height: int, orientation: int) -> tuple[int, int]:
    return (height, width) if orientation >= 5 else (width, height)


def _upright(codes: NDArray[np.uint16], orientation: int) -> NDArray[np.uint16]:
    if orientation in (2, 5, 7):
        codes = codes[:, ::-1]
    if orientation == 4:
        codes = codes[::-1]
    turns = {3: 2, 6: 3, 8: 1, 5: 1, 7: 3}.get(orientation, 0)
    return np.ascontiguousarray(np.rot90(codes, turns))


def facts(path: Path) -> Facts:
    """Look at a file without decoding its pixels. Raises PictureError."""
    kind = kind_of(path)
    meta = read_metadata(path)
    try:
        if kind == "raw":
            with rawpy.imread(str(path)) as raw:
                width, height = raw.sizes.width, raw.sizes.height
                if raw.sizes.flip in (5, 6):
                    width, height = height, width
        elif kind == "tiff":
            with tifffile.TiffFile(path) as tif:
                page = tif.pages[0]
                assert isinstance(page, tifffile.TiffPage)
                width, height = _turned(page.imagewidth, page.imagelength, meta.orientation)
        else:
            with Image.open(path) as image:
                width, height = _turned(*image.size, meta.orientation)
    except Image.DecompressionBombError as error:
        raise PictureError(path, "says it has more pixels than can be true.", "Export it again.") from error
    except Exception as error:
        raise damaged(path, error) from error
    _check_size(path, width, height)
    return Facts(width, height, kind, meta.upright())


def read_picture(path: Path, demosaic: str = "dht", highlights: str = "clip") -> Picture:
    """Decode a file; how raw files are demosaiced (DEMOSAIC) and what becomes of their highlights (HIGHLIGHTS). Raises PictureError naming the file, what is wrong and what to do."""
    kind = kind_of(path)
    meta = read_metadata(path)
    try:
        if kind == "raw":
            picture = _read_raw(path, meta, demosaic, highlights)
        elif kind == "tiff":
            picture = _read_tiff(path, meta)
        else:
            picture = _read_png_or_jpeg(path, meta, kind)
    except PictureError:
        raise
    except Image.DecompressionBombError as error:
        raise PictureError(path, "says it has more pixels than can be true.", "Export it again.") from error
    except Exception as error:
        raise damaged(path, error) from error
    return replace(picture, meta=picture.meta.upright())


DEMOSAIC = {
    "dht": rawpy.DemosaicAlgorithm.DHT,
    "ahd": rawpy.DemosaicAlgorithm.AHD,
    "dcb": rawpy.DemosaicAlgorithm.DCB,
    "aahd": rawpy.DemosaicAlgorithm.AAHD,
    "vng": rawpy.DemosaicAlgorithm.VNG,
    "ppg": rawpy.DemosaicAlgorithm.PPG,
}
HIGHLIGHTS = {"clip": rawpy.HighlightMode.Clip, "blend": rawpy.HighlightMode.Blend, "rebuild": rawpy.HighlightMode.Reconstruct(5)}


def _read_raw(path: Path, meta: Metadata, demosaic: str, highlights: str) -> Picture:
    """Scene-linear camera channels, as-shot balanced; light 1 is where the first channel of a white clips.

    `adjust_maximum_thr=0` keeps LibRaw from rescaling each file to its own brightest pixel, which would make
    the frames of one scene unequally bright. Clipped highlights end at the balanced white, so they stay neutral; where
    they are kept, LibRaw scales the channel that clips last to the end of the codes.
    """
    with rawpy.imread(str(path)) as raw:
        _check_size(path, raw.sizes.width, raw.sizes.height)
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


def _encoding(path: Path, profile: bytes | None, codes: NDArray[np.uint16]) -> tuple[NDArray[np.uint16], Encoding]:
    if not profile:
        return codes, standard_encoding("srgb")
    try:
        return codes, read_profile(bytes(profile))
    except NotAMatrixProfile as error:
        # profiles that work by tables: the colour engine brings the codes to wide standard primaries once
        try:
            target = standard_encoding("rec2020")
            assert target.profile is not None
            converted = imagecodecs.cms_transform(codes, bytes(profile), target.profile, colorspace="rgb", outcolorspace="rgb", outdtype=codes.dtype)
        except Exception:
            raise PictureError(path, f"carries a colour profile that cannot be used: {error}.", "Convert it to sRGB or embed another profile.") from error
        return np.asarray(converted), target


def _three_channels(path: Path, codes: NDArray[np.uint16]) -> NDArray[np.uint16]:
    if codes.ndim == 2:
        codes = codes[..., None]
    if codes.ndim != 3 or codes.shape[2] not in (1, 2, 3, 4):
        raise PictureError(path, f"has an unusual layout {codes.shape}.", "Save it as an RGB picture of one layer.")
    if codes.dtype not in (np.uint8, np.uint16):
        raise PictureError(path, f"stores {codes.dtype} values.", "Save it with 8 or 16 bits a channel.")
    if codes.shape[2] <= 2:
        codes = np.repeat(codes[..., :1], 3, axis=2)
    return np.ascontiguousarray(codes[..., :3])


def _read_tiff(path: Path, meta: Metadata) -> Picture:
    with tifffile.TiffFile(path) as tif:
        page = tif.pages[0]
        assert isinstance(page, tifffile.TiffPage)
        _check_size(path, page.imagewidth, page.imagelength)
        if page.photometric not in (tifffile.PHOTOMETRIC.RGB, tifffile.PHOTOMETRIC.MINISBLACK):
            raise PictureError(path, f"is a {tifffile.PHOTOMETRIC(page.photometric).name} TIFF.", "Save it as RGB.")
        stored = page.dataoffsets[-1] + page.databytecounts[-1] if page.dataoffsets else 0
        if stored > path.stat().st_size:
            raise PictureError(path, "is cut off before its end.", "Copy it from the card again.")
        codes = np.asarray(page.asarray())
        if page.planarconfig == tifffile.PLANARCONFIG.SEPARATE and codes.ndim == 3:
            codes = np.moveaxis(codes, 0, -1)
        profile = page.tags["InterColorProfile"].value if "InterColorProfile" in page.tags else None
    codes, encoding = _encoding(path, profile, _three_channels(path, codes))
    return Picture(_upright(codes, meta.orientation), encoding, meta, raw=False)


def _read_png_or_jpeg(path: Path, meta: Metadata, kind: str) -> Picture:
    data = path.read_bytes()
    with Image.open(io.BytesIO(data)) as image:
        _check_size(path, *image.size)
        if image.mode == "CMYK":
            raise PictureError(path, "is in CMYK, the colours of a printing press.", "Save it as RGB.")
        profile = image.info.get("icc_profile")
        if kind == "png" and image.mode not in ("P", "1", "RGB", "L", "RGBA", "LA"):
            codes = np.asarray(imagecodecs.png_decode(data))
        else:
            image.load()
            codes = np.asarray(image.convert("RGB") if image.mode not in ("RGB", "L") else image)
            if kind == "png" and data[24] == 16:
                codes = np.asarray(imagecodecs.png_decode(data))
    codes, encoding = _encoding(path, profile, _three_channels(path, codes))
    return Picture(_upright(codes, meta.orientation), encoding, meta, raw=False)

