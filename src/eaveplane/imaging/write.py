"""Files written whole or not at all, and never over another unasked."""

from __future__ import annotations

import os
import uuid
from collections.abc import Callable
from pathlib import Path

from .errors import PictureError


def put_in_place(path: Path, write: Callable[[Path], None], replace: bool = False) -> None:
    """Let `write` fill a file beside `path` and move it there; FileExistsError if it stands and may not be replaced."""
    part = path.with_name(f".{path.name}.{uuid.uuid4().hex[:8]}.part")
    try:
        try:
            write(part)
            if replace:
                os.replace(part, path)
                return
            try:
                # a link fails where the name is taken, even if it was taken this moment
                os.link(part, path)
            except FileExistsError:
                raise
            except OSError:
                if path.exists():
                    raise FileExistsError(path) from None
                os.rename(part, path)
        except FileExistsError:
            raise
        except OSError as error:
            raise PictureError(path, f"cannot be written ({error.strerror or error}).", "Choose another folder or make room.") from error
    finally:
        part.unlink(missing_ok=True)


def writes(text: str) -> Callable[[Path], None]:
    """For `put_in_place`: a file of this text."""

    def write(part: Path) -> None:
        part.write_text(text, encoding="utf-8")

    return write


def free_name(path: Path) -> Path:
    """`path`, or the first of `name 2`, `name 3`, … beside it that is not taken."""
    number, candidate = 1, path
    while candidate.exists():
        number += 1
        candidate = path.with_name(f"{path.stem} {number}{path.suffix}")
    return candidate
