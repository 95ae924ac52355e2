"""What of the sky only the simulated phone needs: faint stars, refraction, the turn during an exposure."""

from functools import cache

import numpy as np
import numpy.typing as npt

from vinter.core.camera.projection import east_north_up
from vinter.core.constants import SIDEREAL_ARCSEC
from vinter.core.sky import galaxy
from vinter.core.sky.catalogue import MAP_STEP, milky_way
from vinter.core.sky.refraction import refraction
from vinter.core.sky.site import Site

Array = npt.NDArray[np.float64]


@cache
def faint_stars(seed: int = 8, count: int = 150_000) -> tuple[Array, Array, Array]:
    """Made-up stars of magnitude 8 to 10, crowded where the Milky Way is bright, as in ``star_table``."""
    rng = np.random.default_rng(seed)
    light, _ = milky_way()
    sin_b = rng.uniform(-1, 1, count * 6)
    l, b = rng.uniform(-180, 180, count * 6), np.degrees(np.arcsin(sin_b))
    density = light[
        np.minimum(((90 - b) / MAP_STEP).astype(int), light.shape[0] - 1),
        np.minimum(((l + 180) / MAP_STEP).astype(int), light.shape[1] - 1),
    ]
    keep = np.flatnonzero(rng.uniform(0, 1, l.size) < 0.06 + density / 160)[:count]
    icrs = galaxy.unit(l[keep], b[keep]) @ galaxy.galactic_axes()
    magnitude = 8 + np.log10(1 + rng.uniform(0, 1, keep.size) * (10**0.9 - 1)) / 0.45
    return icrs, magnitude, rng.normal(0.75, 0.35, keep.size)


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
