"""Grey pictures of 16 bits as TIFF, for masks: out to other programs and in again without a code changed."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import tifffile
from numpy.typing import NDArray

from .errors import PictureError
from .pyramid import Size
from .write import put_in_place

Codes = NDArray[np.uint16]


def read_grey(path: Path, size: Size | None = None, name: str = "") -> Codes:
    """Codes (h, w) of a grey TIFF of 16 bits, of a size (w, h) if one is given. Raises PictureError, naming the file (`name` if
    given), what is wrong and what to do."""
    shown = Path(name) if name else path
    wanted = "A mask is a grey TIFF of 16 bits" + (f" and {size[0]} × {size[1]} px, the size of the reference frame." if size else ".")
    try:
        with tifffile.TiffFile(path) as tif:
            page = tif.pages[0]
            assert isinstance(page, tifffile.TiffPage)
            found = (page.imagewidth, page.imagelength)
            if page.samplesperpixel != 1 or page.dtype != np.uint16 or page.photometric != tifffile.PHOTOMETRIC.MINISBLACK:
                raise PictureError(shown, "is no grey picture of 16 bits.", wanted)
            if size and found != size:
                raise PictureError(shown, f"is {found[0]} × {found[1]} px.", wanted)
            return np.ascontiguousarray(page.asarray(), np.uint16)
    except PictureError:
        raise
    except Exception as error:
        raise PictureError(shown, f"cannot be read as a TIFF ({type(error).__name__}).", wanted) from error


def keep_grey(path: Path, codes: Codes) -> None:
    """Keep codes (h, w) as a grey TIFF; one that is there already under this name is the same."""

    def write(part: Path) -> None:
        tifffile.imwrite(part, codes, photometric="minisblack", compression="zlib", predictor=True, metadata=None)

    path.parent.mkdir(exist_ok=True)
    put_in_place(path, write, replace=True)


def open_grey(path: Path, size: Size) -> Codes:
    """A grey TIFF (h, w) of 16 bits on disk, to be filled part by part; what is not filled is black."""
    return np.asarray(tifffile.memmap(path, shape=(size[1], size[0]), dtype=np.uint16, photometric="minisblack", metadata=None), np.uint16)


def shared_codes(masks: list[NDArray[np.float32]]) -> list[Codes]:
    """Masks (h, w) that sum to one as codes that sum to 65535 exactly, each within one code of its mask: what is left over by rounding
    down goes to those that lost most by it.

    >>> [int(c[0]) for c in shared_codes([np.full(1, 1 / 3, np.float32)] * 3)]
    [21845, 21845, 21845]
    >>> [int(c[0]) for c in shared_codes([np.full(1, v, np.float32) for v in (0.1, 0.2, 0.7)])]
    [6554, 13107, 45874]
    """
    stack = np.stack(masks).astype(np.float64)
    stack *= 65535 / np.maximum(stack.sum(axis=0), 1e-9)
    codes = np.floor(stack + 1e-4)
    left = np.round(65535 - codes.sum(axis=0)).astype(np.int64)
    ranks = np.argsort(np.argsort(-(stack - codes), axis=0, kind="stable"), axis=0, kind="stable")
    codes += ranks < left
    return [np.asarray(c, np.uint16) for c in codes]
