"""Colours of light by their temperature: Planck's locus below 4000 K, daylight above 5000 K, between them
both."""

from functools import lru_cache

import numpy as np
import numpy.typing as npt

Array = npt.NDArray[np.float64]
SRGB_OF_XYZ = np.array([[3.2406, -1.5372, -0.4986], [-0.9689, 1.8758, 0.0415], [0.0557, -0.2040, 1.0570]])
PLANCK_BELOW, DAYLIGHT_ABOVE = 4000.0, 5000.0
COLDEST, HOTTEST = 1700.0, 20000.0


def linear_srgb(encoded: npt.NDArray[np.float64]) -> npt.NDArray[np.float64]:
    """The light of sRGB-encoded levels, both 0 to 1, any shape (IEC 61966-2-1)."""
    return np.where(encoded <= 0.04045, encoded / 12.92, ((encoded + 0.055) / 1.055) ** 2.4)


def _planck(t: float) -> tuple[float, float]:
    """Chromaticity of a black body (Kim and others 2002), 1667 to 25,000 K."""
    u = 1e3 / t
    if t < 4000:
        x = -0.2661239 * u**3 - 0.2343589 * u**2 + 0.8776956 * u + 0.179910
    else:
        x = -3.0258469 * u**3 + 2.1070379 * u**2 + 0.2226347 * u + 0.240390
    if t < 2222:
        y = -1.1063814 * x**3 - 1.34811020 * x**2 + 2.18555832 * x - 0.20219683
    elif t < 4000:
        y = -0.9549476 * x**3 - 1.37418593 * x**2 + 2.09137015 * x - 0.16748867
    else:
        y = 3.0817580 * x**3 - 5.87338670 * x**2 + 3.75112997 * x - 0.37001483
    return x, y


def _daylight(t: float) -> tuple[float, float]:
    """Chromaticity of a phase of daylight (CIE D series), 4000 to 25,000 K."""
    u = 1e3 / t
    if t <= 7000:
        x = -4.6070 * u**3 + 2.9678 * u**2 + 0.09911 * u + 0.244063
    else:
        x = -2.0064 * u**3 + 1.9018 * u**2 + 0.24748 * u + 0.237040
    return x, -3.0 * x * x + 2.87 * x - 0.275


def chromaticity(kelvin: float) -> tuple[float, float]:
    """CIE 1931 x, y of light of a temperature in K (kept within 1700 to 20,000)."""
    t = float(np.clip(kelvin, COLDEST, HOTTEST))
    if t <= PLANCK_BELOW:
        return _planck(t)
    share = min((t - PLANCK_BELOW) / (DAYLIGHT_ABOVE - PLANCK_BELOW), 1.0)
    (px, py), (dx, dy) = _planck(t), _daylight(t)
    return px + share * (dx - px), py + share * (dy - py)


def light_srgb(kelvin: float) -> Array:
    """Linear sRGB (3,) of a perfect white in that light, luminance 1; may lie outside sRGB."""
    x, y = chromaticity(kelvin)
    return np.asarray(SRGB_OF_XYZ @ np.array([x / y, 1.0, (1 - x - y) / y]))


def temperature(x: float, y: float) -> float:
    """Temperature in K whose light comes nearest to a chromaticity, to 10 K."""
    kelvins, places = _locus()
    return round(float(kelvins[np.hypot(*(places - _uv(x, y)).T).argmin()]), -1)


@lru_cache(maxsize=1)
def _locus() -> tuple[Array, Array]:
    """Temperatures (n), and the places (n, 2) of their light on the u, v plane."""
    kelvins = np.geomspace(COLDEST, HOTTEST, 400)
    return kelvins, np.array([_uv(*chromaticity(float(k))) for k in kelvins])


def _uv(x: float, y: float) -> tuple[float, float]:
    below = -2 * x + 12 * y + 3
    return 4 * x / below, 6 * y / below
