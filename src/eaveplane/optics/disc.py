"""The blur disc of a thin lens as a kernel."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray


def disc_kernel(radius: float) -> NDArray[np.float32]:
    """A disc of `radius` pixels that sums to one, its rim falling over one pixel."""
    if radius < 0.3:
        return np.ones((1, 1), np.float32)
    reach = int(np.ceil(radius))
    y, x = np.mgrid[-reach : reach + 1, -reach : reach + 1]
    kernel = np.clip(radius + 0.5 - np.hypot(x, y), 0, 1).astype(np.float32)
    return np.asarray(kernel / kernel.sum())
