"""Glow of towns: how bright they make the zenith, and from which side (docs/models.md, Towns)."""

import sys
from collections.abc import Sequence
from dataclasses import dataclass, replace
from functools import cache, lru_cache
from pathlib import Path
from typing import overload

import numpy as np
import numpy.typing as npt

from vinter.core.sky.brightness import (
    NATURAL_ZENITH,
    NL_OF_MAG,
    SIGMA,
    layer_airmass,
    sky_class,
    to_magnitudes,
    to_nanolamberts,
)
from vinter.core.sky.ephemeris import Array
from vinter.core.sky.site import Site
from vinter.core.sky.site_sky import READING_SIGMA

PLACES = Path(__file__).parent / "data" / "places.npz"
REACH_KM = 300.0
STRENGTH = 0.0051  # zenith light per inhabitant against the natural sky, at 1 km
HEIGHT2 = 19.9  # km^2; squared height at which the air over a town scatters its light
DENSITY = 3197.0  # inhabitants per km^2 of a town of a million; a denser town counts as a larger one
DENSITY_POWER = 0.295
LIGHT_POWER = 0.096  # exponent by which light per head grows with the town, against one of 100,000
COUNTRIES = {
    1.22: ("US", "CA"),
    2.70: ("AE", "QA", "KW", "BH", "SA", "OM"),
    0.60: ("DE", "AT", "CH", "IN", "BD", "PK"),
}  # light per head, against 1 elsewhere
LOW_AIRMASS = 1.2  # airmass above the zenith's from which the pattern's whole error counts
LOWEST, BEND = 10.0, 5.0  # degrees; the pattern is held at its value there, and bends into it so far about
COARSE = 5.0  # degrees between the directions in which every town is asked
STEP = 1.0  # degrees between those that are kept; in between them the light is a plane
PATTERN_SIGMA = 0.25  # relative error of town light low in the sky; none at the zenith, where it is measured
EXTINCTION_SIGMA = 0.05  # mag/airmass


@dataclass(frozen=True)
class Places:
    """Inhabited places, largest first: latitudes, longitudes (degrees), inhabitants, names, countries (two
    letters).

    ``own`` are the inhabitants that no district of it counts, ``light`` what those add to the zenith at 1 km
    against the natural sky; ``softening`` (km^2) its area and the scattering height; ``city`` the index of
    the city it
    is a part of, its own where of none.
    """

    lat: Array
    lon: Array
    pop: Array
    own: Array
    light: Array
    softening: Array
    city: npt.NDArray[np.intp]
    names: "Names"
    countries: list[str]


class Names(Sequence[str]):
    """Names as one text and where each begins: a fifth of the memory of as many strings."""

    def __init__(self, text: str) -> None:
        self._text = text
        breaks = np.flatnonzero(np.frombuffer(text.encode("utf-32-le"), np.uint32) == ord("\n"))
        self._bounds = np.r_[-1, breaks, len(text)].astype(np.int32)

    def __len__(self) -> int:
        return len(self._bounds) - 1

    @overload
    def __getitem__(self, index: int) -> str: ...
    @overload
    def __getitem__(self, index: slice) -> list[str]: ...
    def __getitem__(self, index: int | slice) -> str | list[str]:
        if isinstance(index, slice):
            return [self[i] for i in range(*index.indices(len(self)))]
        if not 0 <= index < len(self):
            raise IndexError(index)
        return self._text[self._bounds[index] + 1 : self._bounds[index + 1]]


@cache
def places() -> Places:
    """The shipped places, largest first."""
    with np.load(PLACES) as data:
        codes = np.frombuffer(data["countries"].tobytes(), "S2")
        pop, own = data["pop"].astype(float), data["own"].astype(float)
        per_head = np.ones(len(pop))
        for share, countries in COUNTRIES.items():
            per_head[np.isin(codes, np.array(countries, "S2"))] = share
        density = DENSITY * (np.maximum(pop, 1000) / 1e6) ** DENSITY_POWER
        return Places(
            data["lat"].astype(float),
            data["lon"].astype(float),
            pop,
            own,
            STRENGTH * own * per_head * (pop / 1e5) ** LIGHT_POWER,
            pop / (2 * np.pi * density) + HEIGHT2,
            data["root"].astype(np.intp),
            Names(data["names"].tobytes().decode()),
            [sys.intern(code) for code in codes.astype("U2").tolist()],
        )


def bearing_distance(lat: float, lon: float, lats: Array, lons: Array) -> tuple[Array, Array]:
    """Great-circle azimuth (degrees) and distance (km, sphere of 6371 km) from one place to others."""
    a, b, turn = np.radians(lat), np.radians(lats), np.radians(np.subtract(lons, lon))
    half = np.sin((b - a) / 2) ** 2 + np.cos(a) * np.cos(b) * np.sin(turn / 2) ** 2
    y = np.sin(turn) * np.cos(b)
    x = np.cos(a) * np.sin(b) - np.sin(a) * np.cos(b) * np.cos(turn)
    return np.degrees(np.arctan2(y, x)) % 360, 2 * 6371 * np.arcsin(np.sqrt(np.clip(half, 0, 1)))


@dataclass(frozen=True)
class Town:
    """A town's part in the glow: its share of all artificial light at the zenith, 0 to 1."""

    name: str
    distance_km: float
    azimuth: float
    share: float


@dataclass(frozen=True)
class Glow:
    """Glow over one place: zenith total in mag/arcsec^2, range of classes within its error, largest towns."""

    zenith: float
    class_range: tuple[int, int]
    towns: list[Town]
    azimuth: Array
    distance: Array
    weight: Array

    @property
    def uncertainty(self) -> float:
        """One standard deviation of the zenith, magnitudes: 0.4 under towns, 0.2 where the sky is natural."""
        towns = float(self.weight.sum())
        return float(np.hypot(SIGMA["natural"], SIGMA["towns"] * towns) / (1 + towns))


@lru_cache(maxsize=64)
def glow(lat: float, lon: float) -> Glow:
    """Artificial glow at a place from all towns within 300 km; its error is the result's ``uncertainty``."""
    p = places()
    near = np.flatnonzero((np.abs(p.lat - lat) < 2.8) | (abs(lat) > 80))
    azimuth, distance = bearing_distance(lat, lon, p.lat[near], p.lon[near])
    inside = distance < REACH_KM
    near, azimuth, distance = near[inside], azimuth[inside], distance[inside]
    part = p.light[near] * (distance**2 + p.softening[near]) ** -1.25
    dark = float(to_nanolamberts(NATURAL_ZENITH))
    zenith = float(to_magnitudes(dark * (1 + part.sum())))
    found = Glow(zenith, (0, 0), _largest(lat, lon, p.city[near], part), azimuth, distance, part)
    error = found.uncertainty
    return replace(found, class_range=(sky_class(zenith + error), sky_class(zenith - error)))


def _largest(lat: float, lon: float, cities: npt.NDArray[np.intp], part: Array) -> list[Town]:
    """The eight cities that give most, each with its districts."""
    p = places()
    found, index = np.unique(cities, return_inverse=True)
    light = np.bincount(index, part, len(found))
    top = np.argsort(-light)[:8]
    azimuth, distance = bearing_distance(lat, lon, p.lat[found[top]], p.lon[found[top]])
    return [
        Town(
            p.names[found[i]], round(float(d), 1), round(float(a), 1), round(float(light[i] / part.sum()), 4)
        )
        for i, d, a in zip(top, distance, azimuth, strict=True)
    ]


def direction_factor(altitude: Array | float, away: Array | float, distance: Array | float) -> Array:
    """Glow of a town at an altitude and at an azimuth ``away`` from it, against the zenith (both degrees)."""
    bent = LOWEST + np.clip(altitude - LOWEST + BEND, 0, 2 * BEND) ** 2 / (4 * BEND)
    s = np.sin(np.radians(90 - np.maximum(altitude, bent)))
    d = np.clip(distance, 5, 200)
    cosine = np.cos(np.radians(away))
    peak = s**5.672 * (3.076 - 0.185 * np.log(d / 30)) * np.exp(-(1 - cosine) / 0.266)
    return np.asarray(np.exp(0.712 * s**2 + peak + 0.244 * s * cosine))


@cache
def _between(nodes: int, ring: bool) -> Array:
    """Weights (finer points, nodes) that draw a smooth curve through values ``COARSE`` apart: cubic pieces
    whose slope at a node is that between its neighbours; a ``ring`` closes at its last node."""
    slopes = np.zeros((nodes, nodes))
    for k in range(nodes):
        before, after = max(k - 1, 0), min(k + 1, nodes - 1)
        if ring and k in (0, nodes - 1):
            slopes[k, 1], slopes[k, nodes - 2] = 0.5, -0.5
        else:
            slopes[k, after] += 1 / (after - before)
            slopes[k, before] -= 1 / (after - before)
    at = np.arange(0, nodes - 1 + 1e-9, STEP / COARSE)
    left = np.minimum(at.astype(int), nodes - 2)
    t = (at - left)[:, None]
    values = np.eye(nodes)
    return np.asarray(
        (1 + 2 * t) * (1 - t) ** 2 * values[left]
        + t * (1 - t) ** 2 * slopes[left]
        + t**2 * (3 - 2 * t) * values[left + 1]
        + t**2 * (t - 1) * slopes[left + 1]
    )


@lru_cache(maxsize=32)
def _pattern(lat: float, lon: float) -> Array:
    """Mean direction factor of all towns on an altitude-azimuth grid of ``STEP`` (91, 361)."""
    g = glow(lat, lon)
    alts, azs = np.arange(0, 90.1, COARSE), np.arange(0, 360.1, COARSE)
    up, around = _between(len(alts), False), _between(len(azs), True)
    keep = np.argsort(-g.weight)[:400]  # the rest adds under 1 %
    if not keep.size or g.weight.sum() == 0:
        return np.ones((len(up), len(around)))
    weight = g.weight[keep] / g.weight[keep].sum()
    away = azs[None, :, None] - g.azimuth[keep]
    coarse = (direction_factor(alts[:, None, None], away, g.distance[keep]) * weight).sum(axis=2)
    return np.asarray(np.exp(up @ np.log(coarse) @ around.T))


@dataclass(frozen=True)
class TownLight:
    """Town light over a site: its zenith brightness in nL and its pattern over the sky; whether the zenith's
    total was measured, by how much the natural sky must be fainter than usual to fit it, and the total's
    standard error in mag."""

    zenith_nl: float
    pattern: npt.NDArray[np.float64]
    measured: bool
    natural_share: float = 1.0
    error: float = READING_SIGMA

    def factor(self, altitude: Array, azimuth: Array) -> Array:
        """Town light towards altitudes and azimuths in degrees, against the zenith."""
        rows = np.clip(altitude, 0, 90) / STEP
        columns = np.mod(azimuth, 360) / STEP
        r = np.minimum(rows.astype(int), self.pattern.shape[0] - 2)
        c = np.minimum(columns.astype(int), self.pattern.shape[1] - 2)
        below, across = rows - r, columns - c
        p = self.pattern
        low = p[r, c] * (1 - across) + p[r, c + 1] * across
        high = p[r + 1, c] * (1 - across) + p[r + 1, c + 1] * across
        return np.asarray(low * (1 - below) + high * below)

    def at(self, altitude: Array, azimuth: Array) -> Array:
        """Brightness in nL towards altitudes and azimuths in degrees."""
        return np.asarray(self.zenith_nl * self.factor(altitude, azimuth))

    def spread(self, altitude: Array, azimuth: Array, natural: Array) -> Array:
        """One standard deviation of natural light and towns together, nL.

        A reading fixes the zenith's total: what the natural sky is brighter the towns are darker, so that
        there both errors cancel and only the reading's is left; elsewhere the pattern of the towns, the
        natural sky and the extinction enter. Without a reading both models' errors count.
        """
        factor, airmasses = self.factor(altitude, azimuth), layer_airmass(altitude)
        towns = self.zenith_nl * factor
        haze = NL_OF_MAG * EXTINCTION_SIGMA * (airmasses - 1) * natural
        if not self.measured:
            own = np.hypot(SIGMA["natural"] * natural, SIGMA["towns"] * towns) * NL_OF_MAG
            return np.asarray(np.hypot(own, haze))
        dark = float(to_nanolamberts(NATURAL_ZENITH)) * self.natural_share
        lit = 1.0 if self.zenith_nl > 0 else 0.0
        reading = NL_OF_MAG * self.error * np.where(lit, (dark + self.zenith_nl) * factor, natural)
        sky = NL_OF_MAG * SIGMA["natural"] * lit * (natural - dark * factor)
        low = PATTERN_SIGMA * np.clip((airmasses - 1) / LOW_AIRMASS, 0, 1) * towns
        return np.asarray(np.sqrt(reading**2 + sky**2 + low**2 + haze**2))


@dataclass(frozen=True)
class Zenith:
    """The zenith that a site is computed with: V mag/arcsec^2, its standard error, and whether the towns
    alone say so."""

    value: float
    error: float
    modelled: bool


def site_zenith(site: Site) -> Zenith:
    """A site's zenith: as it is given with its error, else by the town model. The one place where that is
    decided."""
    if site.zenith is not None:
        return Zenith(site.zenith, READING_SIGMA if site.zenith_error is None else site.zenith_error, False)
    model = glow(site.lat, site.lon)
    return Zenith(model.zenith, model.uncertainty, True)


def town_light(site: Site) -> TownLight:
    """Town light at a site: a given zenith brightness wins over the town model, which still gives the
    sides."""
    known = site_zenith(site)
    dark, total = float(to_nanolamberts(NATURAL_ZENITH)), float(to_nanolamberts(known.value))
    return TownLight(
        max(total - dark, 0.0),
        _pattern(site.lat, site.lon),
        not known.modelled,
        min(total / dark, 1.0),
        known.error,
    )
