"""The star catalogue and the map of the Milky Way, and how the sphere of stars stands over a site."""

from functools import cache
from pathlib import Path

import numpy as np
import numpy.typing as npt

from vinter.core.sky import ephemeris as eph
from vinter.core.sky import galaxy
from vinter.core.sky.ephemeris import Array
from vinter.core.sky.site import Site

DATA = Path(__file__).parent / "data"
MAP_STEP = 0.25
MAP_SCALE = 0.75  # brings the brightest clouds of the map to 21.0 mag/arcsec^2


@cache
def star_table() -> tuple[Array, Array, Array]:
    """ICRS unit vectors (n, 3), V magnitudes and B-V of the catalogue, brightest first."""
    with np.load(DATA / "stars.npz") as data:
        ra, dec = data["radec"].astype(float).T
        return galaxy.unit(ra, dec), data["v"].astype(float), data["bv"].astype(float)


@cache
def milky_way() -> tuple[npt.NDArray[np.float32], npt.NDArray[np.float32]]:
    """Brightness (nL above the atmosphere) and B-V on the galactic grid (b from +90, l from -180)."""
    with np.load(DATA / "milkyway.npz") as data:
        return data["nl"].astype(np.float32) * MAP_SCALE, data["bv"].astype(np.float32) / 100


def to_horizon(site: Site, unix: float) -> Array:
    """Rotation (3, 3) from ICRS to east, north, up at a site and moment (aberration left out, 20 arcsec)."""
    t = eph.skyfield_time(np.array([unix]))
    to_date = np.asarray(t.M)[:, :, 0]
    hour = np.radians(15 * float(np.asarray(t.gast)[0]) + site.lon)
    lat = np.radians(site.lat)
    c, s, cl, sl = np.cos(hour), np.sin(hour), np.cos(lat), np.sin(lat)
    local = np.array([[-s, c, 0], [-sl * c, -sl * s, cl], [cl * c, cl * s, sl]])
    return np.asarray(local @ to_date)
