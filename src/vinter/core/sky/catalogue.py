"""The star catalogue and the map of the Milky Way, and how the sphere of stars stands over a site."""

from dataclasses import dataclass
from functools import cache
from pathlib import Path
from typing import Any

import numpy as np
import numpy.typing as npt
from scipy.ndimage import map_coordinates

from vinter.core.sky import ephemeris as eph
from vinter.core.sky import galaxy
from vinter.core.sky.ephemeris import Array
from vinter.core.sky.site import Site

DATA = Path(__file__).parent / "data"
MAP_STEP = 0.1  # degrees of the maps of the Milky Way
MAP_TENTHS = 10.0  # steps of the maps in one nanolambert
FAINTEST = 10.0  # V to which the catalogue is whole

F32 = npt.NDArray[np.float32]


@cache
def star_table() -> tuple[Array, Array, Array]:
    """ICRS unit vectors (n, 3), V magnitudes and B-V of the catalogue, brightest first."""
    with np.load(DATA / "stars.npz") as data:
        ra, dec = data["radec"].astype(float).T * 1e-4
        return galaxy.unit(ra, dec), data["v"].astype(float) / 1000, data["bv"].astype(float) / 50


@cache
def stars_to(faintest: float) -> tuple[Array, Array, Array]:
    """The part of ``star_table`` up to a V magnitude."""
    vectors, v, bv = star_table()
    many = int(np.searchsorted(v, faintest, side="right"))
    return vectors[:many], v[:many], bv[:many]


@dataclass(frozen=True)
class Grid:
    """Values on the galactic grid (b from +90, l from -180), kept as the whole numbers that they are stored
    as: a third of the memory of their floats in every process that draws the sky."""

    numbers: npt.NDArray[np.integer[Any]]
    unit: float

    @property
    def values(self) -> F32:
        """All of them (rows, columns)."""
        return np.asarray(self.numbers, np.float32) * np.float32(self.unit)

    def at(self, rows: Array, columns: Array) -> F32:
        """Values between the places of the grid, rows and columns (n,)."""
        found = map_coordinates(self.numbers, [rows, columns], np.float32, order=1, mode="grid-wrap")
        return np.asarray(found * np.float32(self.unit))


@cache
def milky_way() -> tuple[Grid, Grid]:
    """Brightness (nL above the atmosphere), faint catalogue stars and all, and B-V."""
    with np.load(DATA / "milkyway.npz") as data:
        return Grid(data["total"], 1 / MAP_TENTHS), Grid(data["bv"], 1 / 100)


@cache
def between_stars() -> tuple[Grid, Grid]:
    """Brightness (nL) of what is no catalogue star, and the red light of nebulae (nL as a red-sensitive pixel
    sees it)."""
    with np.load(DATA / "milkyway.npz") as data:
        return Grid(data["rest"], 1 / MAP_TENTHS), Grid(data["red"].astype(np.uint16) ** 2, 1 / 100)


def aberrated(vectors: Array, unix: float) -> Array:
    """ICRS unit vectors (n, 3) as the moving Earth sees them at a Unix time: up to 20.5 arcsec ahead."""
    moved = vectors + np.array(eph.earth_velocity(unix))
    return np.asarray(moved / np.linalg.norm(moved, axis=1)[:, None])


def to_horizon(site: Site, unix: float) -> Array:
    """Rotation (3, 3) from ICRS to east, north, up at a site and moment; ``aberrated`` goes before it where
    20 arcsec matter."""
    t = eph.skyfield_time(np.array([unix]))
    to_date = np.asarray(t.M)[:, :, 0]
    hour = np.radians(15 * float(np.asarray(t.gast)[0]) + site.lon)
    lat = np.radians(site.lat)
    c, s, cl, sl = np.cos(hour), np.sin(hour), np.cos(lat), np.sin(lat)
    local = np.array([[-s, c, 0], [-sl * c, -sl * s, cl], [cl * c, cl * s, sl]])
    return np.asarray(local @ to_date)
