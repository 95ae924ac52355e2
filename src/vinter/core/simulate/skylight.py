"""What light falls on a lens: stars, the Milky Way and the diffuse sky, at one moment, from one site."""

from dataclasses import dataclass
from functools import cache
from pathlib import Path

import numpy as np
import numpy.typing as npt
from scipy.ndimage import map_coordinates

from vinter.core.camera.projection import east_north_up
from vinter.core.sky import ephemeris as eph
from vinter.core.sky import galaxy
from vinter.core.sky.brightness import airmass, moonlight, natural, twilight
from vinter.core.sky.glow import town_light
from vinter.core.sky.site import Site

Array = npt.NDArray[np.float64]
DATA = Path(eph.__file__).parent / "data"
MAP_STEP = 0.25
MAP_SCALE = 0.75  # brings the brightest clouds of the map to 21.0 mag/arcsec^2
# Colour of each source as B-V; 0.65 is neutral.
COLOUR = {"natural": 0.75, "towns": 1.35, "moon": 0.8, "twilight": 0.15}


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


@cache
def faint_stars(seed: int = 8, count: int = 150_000) -> tuple[Array, Array, Array]:
    """Made-up stars of magnitude 8 to 10, crowded where the Milky Way is bright, as in ``star_table``."""
    rng = np.random.default_rng(seed)
    light, _ = milky_way()
    sin_b = rng.uniform(-1, 1, count * 6)
    l, b = rng.uniform(-180, 180, count * 6), np.degrees(np.arcsin(sin_b))
    density = light[np.minimum(((90 - b) / MAP_STEP).astype(int), light.shape[0] - 1),
                    np.minimum(((l + 180) / MAP_STEP).astype(int), light.shape[1] - 1)]
    keep = np.flatnonzero(rng.uniform(0, 1, l.size) < 0.06 + density / 160)[:count]
    icrs = galaxy.unit(l[keep], b[keep]) @ galaxy.galactic_axes()
    magnitude = 8 + np.log10(1 + rng.uniform(0, 1, keep.size) * (10**0.9 - 1)) / 0.45
    return icrs, magnitude, rng.normal(0.75, 0.35, keep.size)


def to_horizon(site: Site, unix: float) -> Array:
    """Rotation (3, 3) from ICRS to east, north, up at a site and moment (aberration left out, 20 arcsec)."""
    t = eph.skyfield_time(np.array([unix]))
    to_date = np.asarray(t.M)[:, :, 0]
    hour = np.radians(15 * float(np.asarray(t.gast)[0]) + site.lon)
    lat = np.radians(site.lat)
    c, s, cl, sl = np.cos(hour), np.sin(hour), np.cos(lat), np.sin(lat)
    local = np.array([[-s, c, 0], [-sl * c, -sl * s, cl], [cl * c, cl * s, sl]])
    return np.asarray(local @ to_date)


def refracted(enu: Array) -> Array:
    """Lift unit vectors (n, 3) by refraction."""
    altitude = np.degrees(np.arcsin(np.clip(enu[:, 2], -1, 1)))
    azimuth = np.degrees(np.arctan2(enu[:, 0], enu[:, 1]))
    return east_north_up(altitude + eph.refraction(altitude), azimuth)


def turned(enu: Array, site: Site, seconds: float) -> Array:
    """Unit vectors after the sky has turned for some seconds (rotation about the pole, westward)."""
    angle = -np.radians(15.041 / 3600 * seconds)
    lat = np.radians(site.lat)
    axis = np.array([0.0, np.cos(lat), np.sin(lat)])
    return np.asarray(enu * np.cos(angle) + np.cross(axis, enu) * np.sin(angle)
                      + axis * (enu @ axis)[:, None] * (1 - np.cos(angle)))


@dataclass(frozen=True)
class Diffuse:
    """Diffuse light over directions: nanolamberts by source, and the Milky Way's own colour."""

    light: dict[str, Array]
    band: Array
    band_colour: Array

    @property
    def total(self) -> Array:
        """All sources together, nL."""
        return np.asarray(sum(self.light.values()) + self.band)


def diffuse(site: Site, unix: float, enu: Array) -> Diffuse:
    """Diffuse light towards unit vectors (n, 3); below the horizon that of the horizon."""
    altitude = np.degrees(np.arcsin(np.clip(enu[:, 2], -1, 1)))
    azimuth = np.degrees(np.arctan2(enu[:, 0], enu[:, 1])) % 360
    year = eph.year_of(unix)
    e, t = eph.year_ephemeris(year), np.array([unix])
    sun, moon, gast = e.sun(t), e.moon(t), e.gast(t)
    sun_alt, sun_az, _ = eph.horizontal(sun, gast, site)
    moon_alt, moon_az, _ = eph.horizontal(moon, gast, site)
    k = site.extinction
    light = {"natural": natural(altitude, k), "towns": town_light(site).at(altitude, azimuth),
             "moon": moonlight(altitude, azimuth, moon_alt, moon_az, eph.phase_angle(sun, moon), k),
             "twilight": twilight(altitude, azimuth, sun_alt, sun_az, k)}
    rotation = galaxy.galactic_axes() @ to_horizon(site, unix).T
    g = enu @ rotation.T
    b = np.degrees(np.arcsin(np.clip(g[:, 2], -1, 1)))
    l = np.degrees(np.arctan2(g[:, 1], g[:, 0]))
    where = [(90 - b) / MAP_STEP - 0.5, (l + 180) / MAP_STEP - 0.5]
    bright, colour = milky_way()
    through = 10 ** (-0.4 * k * airmass(altitude))
    return Diffuse(light, map_coordinates(bright, where, order=1, mode="grid-wrap") * through,
                   map_coordinates(colour, where, order=1, mode="grid-wrap"))
