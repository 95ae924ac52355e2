"""What of the sky only the simulated phone needs: waves of airglow, refraction, the turn during an
exposure."""

import numpy as np
import numpy.typing as npt

from vinter.core.camera.projection import east_north_up
from vinter.core.constants import SIDEREAL_ARCSEC
from vinter.core.sky.refraction import refraction
from vinter.core.sky.site import Site

Array = npt.NDArray[np.float64]
AIRGLOW_KM, AIRGLOW_WAVE = 90.0, 0.02  # height of the layer, and each wave's share of the natural sky


def airglow(enu: Array, unix: float, seed: int) -> Array:
    """Faint waves of the airglow (n,), as factors on the natural sky towards unit vectors: ripples of a layer
    90 km up that drift and change from night to night."""
    rng = np.random.default_rng([seed, 90])
    up = np.maximum(enu[:, 2], 0.16)
    x, y = (AIRGLOW_KM * enu[:, k] / up for k in (0, 1))
    out = np.ones(len(enu))
    for _ in range(4):
        way, length = rng.uniform(0, 2 * np.pi), rng.uniform(70, 260)
        phase = 2 * np.pi * ((x * np.cos(way) + y * np.sin(way)) / length + unix / rng.uniform(500, 1500))
        out += AIRGLOW_WAVE * np.sin(phase + 1.5 * np.sin(phase / 3.1 + rng.uniform(0, 6)))
    return out


def refracted(enu: Array) -> Array:
    """Lift unit vectors (n, 3) by refraction."""
    altitude = np.degrees(np.arcsin(np.clip(enu[:, 2], -1, 1)))
    azimuth = np.degrees(np.arctan2(enu[:, 0], enu[:, 1]))
    return east_north_up(altitude + refraction(altitude), azimuth)


def turned(enu: Array, site: Site, seconds: float) -> Array:
    """Unit vectors after the sky has turned for some seconds (rotation about the pole, westward)."""
    angle = -np.radians(SIDEREAL_ARCSEC / 3600 * seconds)
    lat = np.radians(site.lat)
    axis = np.array([0.0, np.cos(lat), np.sin(lat)])
    return np.asarray(
        enu * np.cos(angle)
        + np.cross(axis, enu) * np.sin(angle)
        + axis * (enu @ axis)[:, None] * (1 - np.cos(angle))
    )
