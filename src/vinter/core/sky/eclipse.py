"""The Moon in the Earth's shadow: how deep it stands in it, and how much of its light is left.

The shadow by Danjon's rule: the Earth's parallax enlarged by a hundredth for its air, on a mean radius. A
point of the Moon sees a share of the Sun that falls from 1 at the penumbra's edge to a red rest at the
umbra's.
"""

from dataclasses import dataclass

import numpy as np

from vinter.core.sky.ephemeris import EARTH_RADIUS_KM, Array

SUN_KM, MOON_KM = 695_700.0, 1737.4
AIR, ROUND = 1.01, 0.99834  # the shadow's enlargement by the air, and the mean radius over the equator's
REST = 4e-5  # share of full light that the air bends into the umbra: about eleven magnitudes; it varies much
POINTS = 24  # points across the disc at which its light is summed


@dataclass(frozen=True)
class Shadow:
    """Of each time (n,), degrees: the Moon's centre from the axis of the shadow, its radius, and the radii of
    umbra and penumbra where it stands."""

    apart: Array
    moon: Array
    umbra: Array
    penumbra: Array

    @property
    def umbral(self) -> Array:
        """Umbral magnitude: the share of the Moon's diameter in the umbra; 1 and more is total."""
        return (self.umbra + self.moon - self.apart) / (2 * self.moon)

    @property
    def penumbral(self) -> Array:
        """Penumbral magnitude."""
        return (self.penumbra + self.moon - self.apart) / (2 * self.moon)


def shadow(sun: Array, moon: Array) -> Shadow:
    """The shadow at geocentric vectors (n, 3; km) of Sun and Moon."""
    far_sun, far_moon = np.linalg.norm(sun, axis=1), np.linalg.norm(moon, axis=1)
    cosine = np.einsum("ij,ij->i", -sun, moon) / far_sun / far_moon
    parallax = AIR * ROUND * np.arcsin(EARTH_RADIUS_KM / far_moon) + np.arcsin(EARTH_RADIUS_KM / far_sun)
    size = np.arcsin(SUN_KM / far_sun)
    radii = (np.arcsin(MOON_KM / far_moon), parallax - size, parallax + size)
    return Shadow(np.degrees(np.arccos(np.clip(cosine, -1, 1))), *(np.degrees(r) for r in radii))


def light_left(sun: Array, moon: Array) -> Array:
    """Share (n,) of its light that the Moon still gets, 1 outside of the shadow."""
    found = shadow(sun, moon)
    out = np.ones(len(moon))
    for i in np.flatnonzero(found.penumbral > 0):
        out[i] = _disc(found.apart[i], found.moon[i], found.umbra[i], found.penumbra[i])
    return out


def _disc(apart: float, radius: float, umbra: float, penumbra: float) -> float:
    """The mean over the disc of what its points see of the Sun."""
    steps = (np.arange(POINTS) + 0.5) / POINTS * 2 - 1
    x, y = np.meshgrid(steps, steps)
    inside = x * x + y * y < 1
    away = np.hypot(apart + radius * x[inside], radius * y[inside])
    share = np.clip((away - umbra) / (penumbra - umbra), 0, 1)
    seen = share - np.sin(2 * np.pi * share) / (2 * np.pi)  # of a disc behind an edge, nearly
    return float(np.maximum(seen, REST).mean())
