"""What goes wrong with a picture file, in words for the person who owns it."""

from __future__ import annotations

from pathlib import Path


class PictureError(Exception):
    """A file that cannot be used: which, what is wrong with it, what to do about it."""

    def __init__(self, path: Path | str, problem: str, remedy: str) -> None:
        self.path, self.problem, self.remedy = Path(path), problem, remedy
        super().__init__(f"{self.path.name}: {problem} {remedy}")

    def __reduce__(self) -> tuple[type[PictureError], tuple[str, str, str]]:
        return PictureError, (str(self.path), self.problem, self.remedy)
