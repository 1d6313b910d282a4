"""The thin lens: blur circles, depth of field, hyperfocal distance, diffraction.

Textbook relations (e.g. S. F. Ray, Applied Photographic Optics, 3rd ed., 2002, chapters 4 and 22).
Lengths are metres unless a name says otherwise.
"""

from __future__ import annotations

import math

WAVELENGTH_MM = 0.00055
"""Green light, to which eyes and sensors answer most."""
AIRY_SIGMA = 0.42
"""Standard deviation of the Gaussian nearest to an Airy pattern, in wavelengths times f-number (Zhang, Zerubia and
Olivo-Marin 2007)."""


def blur_diameter(focal_mm: float, f_number: float, focus_m: float, distance_m: float) -> float:
    """Diameter on the sensor, in mm, of the blur circle of a point.

    `focus_m` and `distance_m` are measured from the lens and may be `math.inf`.
    Raises ValueError where either is not beyond the focal length.
    """
    f = focal_mm / 1000
    if focus_m <= f or distance_m <= f:
        raise ValueError("focus and distance must be beyond the focal length")
    aperture = f / f_number
    dioptres = abs(1 / focus_m - 1 / distance_m)
    reach = f if math.isinf(focus_m) else f * focus_m / (focus_m - f)
    return 1000 * aperture * reach * dioptres


def hyperfocal(focal_mm: float, f_number: float, blur_mm: float) -> float:
    """Focus distance in metres at which infinity is blurred by just `blur_mm`; more than one focal length.

    >>> round(hyperfocal(24, 8, 0.03), 2)
    2.42
    """
    return (focal_mm**2 / (f_number * blur_mm) + focal_mm) / 1000


def even_focus_steps(nearest_m: float, farthest_m: float, count: int) -> list[float]:
    """Focus distances from near to far, evenly spaced in dioptres, in which blur grows evenly.

    >>> even_focus_steps(0.5, math.inf, 3)
    [0.5, 1.0, inf]
    """
    if count == 1:
        return [nearest_m]
    near, far = 1 / nearest_m, (0.0 if math.isinf(farthest_m) else 1 / farthest_m)
    steps = [near + (far - near) * i / (count - 1) for i in range(count)]
    return [math.inf if d <= 1e-9 else 1 / d for d in steps]


def depth_of_field(focal_mm: float, f_number: float, focus_m: float, blur_mm: float) -> tuple[float, float]:
    """Nearest and farthest distance in metres that are blurred by no more than `blur_mm`; the far one may be `inf`.

    Exact for a thin lens. Raises ValueError where the focus is not beyond the focal length.
    """
    f = focal_mm / 1000
    if focus_m <= f:
        raise ValueError("the focus must be beyond the focal length")
    focus = 0.0 if math.isinf(focus_m) else 1 / focus_m
    reach = blur_mm / 1000 * (1 - f * focus) / (f / f_number * f)
    near, far = focus + reach, focus - reach
    return 1 / near, (1 / far if far > 1e-12 else math.inf)


def airy_diameter(f_number: float) -> float:
    """Diameter in mm of the first dark ring of the Airy pattern of a distant point."""
    return 2.44 * WAVELENGTH_MM * f_number
