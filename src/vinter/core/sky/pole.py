"""Finding the celestial pole by eye: which stars point to it, as lines over the horizon."""

from dataclasses import dataclass

import numpy as np

from vinter.core.sky.catalogue import to_horizon
from vinter.core.sky.ephemeris import Array
from vinter.core.sky.galaxy import unit
from vinter.core.sky.site import Site

STARS = {  # J2000 right ascension and declination, degrees
    "Merak": (165.460, 56.382),
    "Dubhe": (165.932, 61.751),
    "Polaris": (37.955, 89.264),
    "Gamma Cassiopeiae": (14.177, 60.717),
    "Gacrux": (187.791, -57.113),
    "Acrux": (186.650, -63.099),
    "Hadar": (210.956, -60.373),
    "Rigil": (219.902, -60.834),
    "Achernar": (24.429, -57.237),
}


@dataclass(frozen=True)
class Guide:
    """A line that leads to the pole: names and (altitude, azimuth) in degrees of its ends, and how to follow
    it."""

    start: str
    end: str
    line: list[tuple[float, float]]
    words: str


@dataclass(frozen=True)
class PoleSketch:
    """The visible celestial pole (altitude, azimuth in degrees), the stars used and the lines to follow."""

    altitude: float
    azimuth: float
    stars: dict[str, tuple[float, float]]
    guides: list[Guide]


def _altaz(vector: Array) -> tuple[float, float]:
    v = vector / np.linalg.norm(vector)
    return float(np.degrees(np.arcsin(v[2]))), float(np.degrees(np.arctan2(v[0], v[1])) % 360)


def _arc(a: Array, b: Array) -> list[tuple[float, float]]:
    """Points along the great circle from one direction to another."""
    angle = float(np.arccos(np.clip(a @ b, -1, 1)))
    shares = np.linspace(0, 1, 13)
    return [_altaz(np.sin((1 - s) * angle) * a + np.sin(s * angle) * b) for s in shares]


def times_on(first: str, second: str) -> float:
    """How many times the distance of two stars leads on from the second to the pole of its hemisphere."""
    a, b = unit(*STARS[first]), unit(*STARS[second])
    pole = np.array([0.0, 0.0, 1.0 if STARS[second][1] > 0 else -1.0])
    return float(np.arccos(b @ pole) / np.arccos(a @ b))


def pole_sketch(site: Site, unix: float) -> PoleSketch:
    """How to find the pole above a site's horizon at a moment."""
    turn = to_horizon(site, unix)
    north = site.lat >= 0
    names = (
        ("Merak", "Dubhe", "Polaris", "Gamma Cassiopeiae")
        if north
        else ("Gacrux", "Acrux", "Hadar", "Rigil", "Achernar")
    )
    at = {name: turn @ unit(*STARS[name]) for name in names}
    lat = np.radians(site.lat)
    pole = np.array([0.0, np.cos(lat), np.sin(lat)]) * (1 if north else -1)
    if north:
        guides = [
            Guide(
                "Merak",
                "Dubhe",
                _arc(at["Merak"], pole),
                f"From Merak through Dubhe, {times_on('Merak', 'Dubhe'):.0f} times their distance on, "
                "stands Polaris.",
            ),
            Guide(
                "Gamma Cassiopeiae",
                "Polaris",
                _arc(at["Gamma Cassiopeiae"], pole),
                "The middle star of Cassiopeia points to it from the other side.",
            ),
        ]
    else:
        between = at["Hadar"] + at["Rigil"]
        guides = [
            Guide(
                "Gacrux",
                "Acrux",
                _arc(at["Gacrux"], pole),
                f"From Gacrux through Acrux, along the Cross, {times_on('Gacrux', 'Acrux'):.1f} times their "
                "distance on.",
            ),
            Guide(
                "Hadar",
                "Rigil",
                _arc(between / np.linalg.norm(between), pole),
                "Square across the middle between Hadar and Rigil; where it meets the first line is the "
                "pole.",
            ),
            Guide(
                "Achernar",
                "",
                _arc(at["Achernar"], pole),
                "Achernar stands opposite, about as far away as Hadar.",
            ),
        ]
    return PoleSketch(*_altaz(pole), {name: _altaz(v) for name, v in at.items()}, guides)
