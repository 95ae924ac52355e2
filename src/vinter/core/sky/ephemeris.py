"""Sun, Moon and fixed directions for any site, from curves through a planetary ephemeris.

skyfield is asked once a year on a 6-hour grid; every later question is a cubic and a rotation.
Agreement with skyfield itself: 0.5 arcsec and 1.2 s in rise and set (docs/models.md, Ephemeris).
"""

import warnings
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta
from functools import cache, lru_cache

import numpy as np
import numpy.typing as npt
from skyfield.api import Loader, Star, Time, Timescale
from skyfield.jpllib import SpiceKernel
from skyfield.positionlib import Barycentric
from skyfield.vectorlib import VectorFunction
from skyfield_data import get_skyfield_data_path

from vinter.core.errors import BadInput
from vinter.core.sky.site import Site

Array = npt.NDArray[np.float64]

AU_KM = 149597870.7
LIGHT_AU_PER_DAY = 173.14463267
EARTH_RADIUS_KM, EARTH_FLATTENING = 6378.137, 1 / 298.257223563
FIRST_YEAR, LAST_YEAR = 1901, 2051
GRID_HOURS = 6
MARGIN_DAYS = 20  # days beyond both ends of the year, so that neighbouring new Moons are inside
GALACTIC_CENTRE = (266.41683, -29.00781)  # Sgr A*, ICRS right ascension and declination in degrees


@cache
def _kernel() -> tuple[Timescale, SpiceKernel]:
    # Earth-orientation tables age; without them the error stays under a second until 2030.
    warnings.filterwarnings("ignore", message=".*has expired", category=RuntimeWarning)
    load = Loader(get_skyfield_data_path(), verbose=False)
    return load.timescale(builtin=True), load("de421.bsp")


def skyfield_time(unix: Array) -> Time:
    """skyfield Time of Unix seconds (leap seconds handled through calendar dates)."""
    timescale, _ = _kernel()
    moments = [datetime.fromtimestamp(float(u), UTC) for u in np.atleast_1d(unix)]
    return timescale.from_datetimes(moments)


class Curve:
    """A smooth function of Unix seconds through values (n,) or (n, k) at equal steps: cubic pieces whose
    slopes at the steps come from the six values around (error of the order step^4)."""

    def __init__(self, x: Array, values: Array) -> None:
        self.x, self.step = x, float(x[1] - x[0])
        ahead = np.gradient(values, axis=0, edge_order=2)
        ahead[3:-3] = (
            45 * (values[4:-2] - values[2:-4]) - 9 * (values[5:-1] - values[1:-5]) + values[6:] - values[:-6]
        ) / 60
        rise, here, there = np.diff(values, axis=0), ahead[:-1], ahead[1:]
        pieces = (here + there - 2 * rise, 3 * rise - 2 * here - there, here, values[:-1])
        # by component, so that the many times that are asked for at once lie side by side
        self._pieces = np.ascontiguousarray([np.atleast_2d(piece.T) for piece in pieces])
        self._components = values.shape[1:]

    def __call__(self, t: Array | float) -> Array:
        """Values at Unix seconds (m,): (m,) or (m, k)."""
        place = (np.asarray(t, float) - self.x[0]) / self.step
        i = np.clip(place.astype(int), 0, len(self.x) - 2)
        u = place - i
        out = np.empty((self._pieces.shape[1], *place.shape))
        for c in range(len(out)):
            cubic, square, slope, start = self._pieces[:, c]
            out[c] = ((cubic.take(i) * u + square.take(i)) * u + slope.take(i)) * u + start.take(i)
        return np.moveaxis(out, 0, -1) if self._components else out[0]


@dataclass(frozen=True)
class Ephemeris:
    """Curves of one calendar year over Unix seconds: apparent vectors of date in km, GAST in radians."""

    sun: Curve
    moon: Curve
    gast: Curve
    start: float
    end: float


def check_year(year: int) -> None:
    """BadInput for a year that the ephemeris does not cover."""
    if not FIRST_YEAR <= year <= LAST_YEAR:
        raise BadInput(f"year {year} is outside the ephemeris, {FIRST_YEAR} to {LAST_YEAR}")


def _year_grid(year: int) -> Array:
    check_year(year)
    first = datetime(year, 1, 1, tzinfo=UTC) - timedelta(days=MARGIN_DAYS)
    hours = (datetime(year + 1, 1, 1, tzinfo=UTC) - first).days * 24 + MARGIN_DAYS * 24
    return np.asarray(first.timestamp() + 3600.0 * np.arange(0, hours + GRID_HOURS, GRID_HOURS))


@lru_cache(maxsize=4)
def _year_frames(year: int) -> tuple[Time, Barycentric, Array]:
    """skyfield Time, the Earth's positions and the rotations to the equator of date on a year's grid."""
    t = skyfield_time(_year_grid(year))
    _, bodies = _kernel()
    return t, bodies["earth"].at(t), np.asarray(t.M)


def _spline_of_date(year: int, body: VectorFunction | Star) -> Curve:
    _, earth, to_date = _year_frames(year)
    au = earth.observe(body).apparent().position.au
    return Curve(_year_grid(year), np.einsum("ijt,jt->ti", to_date, au) * AU_KM)


@lru_cache(maxsize=24)
def year_ephemeris(year: int) -> Ephemeris:
    """Sun, Moon and sidereal time of a calendar year (UTC) with 20 days of margin."""
    grid = _year_grid(year)
    t, _, _ = _year_frames(year)
    _, bodies = _kernel()
    gast = np.unwrap(np.radians(15 * np.asarray(t.gast)))
    return Ephemeris(
        _spline_of_date(year, bodies["sun"]),
        _spline_of_date(year, bodies["moon"]),
        Curve(grid, gast),
        float(grid[0]),
        float(grid[-1]),
    )


@lru_cache(maxsize=64)
def year_direction(year: int, radec: tuple[float, float] = GALACTIC_CENTRE) -> Curve:
    """Apparent vectors of date of a fixed ICRS direction (right ascension, declination in degrees)."""
    return _spline_of_date(year, Star(ra_hours=radec[0] / 15, dec_degrees=radec[1]))


@lru_cache(maxsize=32)
def year_body(year: int, name: str) -> Curve:
    """Apparent vectors of date of the Moon or a planet, by its name in the ephemeris."""
    _, bodies = _kernel()
    return _spline_of_date(year, bodies[name])


@lru_cache(maxsize=64)
def earth_velocity(unix: float) -> tuple[float, float, float]:
    """Velocity of the Earth's centre on ICRS axes at a Unix time, in units of the speed of light."""
    _, bodies = _kernel()
    x, y, z = bodies["earth"].at(skyfield_time(np.array([unix]))[0]).velocity.au_per_d / LIGHT_AU_PER_DAY
    return float(x), float(y), float(z)


def year_of(unix: float) -> int:
    """Calendar year (UTC) of a Unix time."""
    return datetime.fromtimestamp(unix, UTC).year


def observer_km(site: Site) -> tuple[float, float]:
    """Distance of a site from the Earth's axis and above its equator plane, km (WGS84)."""
    lat, height = np.radians(site.lat), site.elevation / 1000
    e2 = EARTH_FLATTENING * (2 - EARTH_FLATTENING)
    n = EARTH_RADIUS_KM / np.sqrt(1 - e2 * np.sin(lat) ** 2)
    return float((n + height) * np.cos(lat)), float((n * (1 - e2) + height) * np.sin(lat))


def _seen_from(vectors: Array, gast: Array, site: Site) -> tuple[Array, Array, Array, Array]:
    """Geocentric vectors of date (n, 3) km from a site: km to the north, east and up, and the distance."""
    hour = gast + np.radians(site.lon)
    c, s = np.cos(hour), np.sin(hour)
    axis, up = observer_km(site)
    x = c * vectors[:, 0] + s * vectors[:, 1] - axis
    y = -s * vectors[:, 0] + c * vectors[:, 1]
    z = vectors[:, 2] - up
    sl, cl = np.sin(np.radians(site.lat)), np.cos(np.radians(site.lat))
    return -sl * x + cl * z, y, cl * x + sl * z, np.sqrt(x * x + y * y + z * z)


def _risen(zenith: Array, distance: Array) -> Array:
    return np.asarray(np.degrees(np.arcsin(np.clip(zenith / distance, -1, 1))))


def horizontal(vectors: Array, gast: Array, site: Site) -> tuple[Array, Array, Array]:
    """Altitude and azimuth (degrees, airless, topocentric) and distance (km) of geocentric vectors of date.

    vectors: (n, 3) km; gast: (n,) radians. Azimuth runs from north through east, 0 to 360.
    """
    north, east, zenith, distance = _seen_from(vectors, gast, site)
    return _risen(zenith, distance), np.degrees(np.arctan2(east, north)) % 360, distance


def altitude(vectors: Array, gast: Array, site: Site) -> Array:
    """Altitude alone, as ``horizontal`` has it."""
    _, _, zenith, distance = _seen_from(vectors, gast, site)
    return _risen(zenith, distance)


def diurnal_path(lat: float, declination: float, count: int = 145) -> list[tuple[float, float]]:
    """Azimuth and airless altitude (degrees) along a day's way of a declination, in the order of azimuth."""
    hour, dec, phi = np.radians(np.linspace(-180, 180, count)), np.radians(declination), np.radians(lat)
    altitude = np.arcsin(np.clip(np.sin(phi) * np.sin(dec) + np.cos(phi) * np.cos(dec) * np.cos(hour), -1, 1))
    east = -np.cos(dec) * np.sin(hour)
    north = np.cos(phi) * np.sin(dec) - np.sin(phi) * np.cos(dec) * np.cos(hour)
    azimuth = np.degrees(np.arctan2(east, north)) % 360
    return sorted(
        (round(float(a), 2), round(float(h), 2)) for a, h in zip(azimuth, np.degrees(altitude), strict=True)
    )


def separation(alt1: Array, az1: Array, alt2: Array, az2: Array) -> Array:
    """Angle in degrees between two directions given in degrees (haversine, exact at small angles)."""
    a, b = np.radians(alt1), np.radians(alt2)
    half = (
        np.sin((b - a) / 2) ** 2 + np.cos(a) * np.cos(b) * np.sin(np.radians(np.subtract(az2, az1)) / 2) ** 2
    )
    return np.asarray(2 * np.degrees(np.arcsin(np.sqrt(np.clip(half, 0, 1)))))


def phase_angle(sun: Array, moon: Array) -> Array:
    """Angle Sun-Moon-Earth in degrees from geocentric vectors (n, 3) km; 0 is full Moon."""
    to_sun, to_earth = sun - moon, -moon
    cosine = (
        np.sum(to_sun * to_earth, axis=1) / np.linalg.norm(to_sun, axis=1) / np.linalg.norm(to_earth, axis=1)
    )
    return np.asarray(np.degrees(np.arccos(np.clip(cosine, -1, 1))))


def elongation_east(sun: Array, moon: Array) -> Array:
    """Right-ascension-like elongation of the Moon east of the Sun in the ecliptic, degrees, -180 to 180."""
    tilt = np.radians(23.4366)

    def longitude(v: Array) -> Array:
        return np.asarray(np.degrees(np.arctan2(v[:, 1] * np.cos(tilt) + v[:, 2] * np.sin(tilt), v[:, 0])))

    return (longitude(moon) - longitude(sun) + 180) % 360 - 180


def new_moons(ephemeris: Ephemeris) -> Array:
    """Unix times of the new Moons within an ephemeris (good to a minute)."""
    grid = ephemeris.sun.x
    east = elongation_east(ephemeris.sun(grid), ephemeris.moon(grid))
    at = np.flatnonzero((east[:-1] < 0) & (east[1:] >= 0) & (east[1:] - east[:-1] < 90))
    share = -east[at] / (east[at + 1] - east[at])
    return np.asarray(grid[at] + share * (grid[at + 1] - grid[at]))
