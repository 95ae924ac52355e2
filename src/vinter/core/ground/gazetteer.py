"""Places by their names, and where a time zone lies."""

import re
import unicodedata
from dataclasses import dataclass
from functools import cache
from importlib.resources import files

import numpy as np

from vinter.core.sky.glow import bearing_distance, places

SHORTEST = 2  # letters from which names are searched
MOST, CANDIDATES = 8, 400
DRIVE_KM = 300.0  # km: places nearer than this come before larger ones
DEGREES = re.compile(r"([+-]?)(\d{2,3})(\d{2})(\d{2})?")


@dataclass(frozen=True)
class FoundPlace:
    """A place by name: position in degrees, inhabitants, country (two letters), and how far it lies from
    where
    one asked (km, degrees; None where nowhere was given)."""

    name: str
    country: str
    lat: float
    lon: float
    people: int
    distance_km: float | None = None
    azimuth: float | None = None


def plain(name: str) -> str:
    """A name without accents and capitals, its words of letters and figures parted by single spaces."""
    bare = unicodedata.normalize("NFKD", name.replace("ß", "ss").replace("ø", "o").replace("Ø", "o"))
    kept = "".join(c if c.isalnum() else " " for c in bare.casefold() if not unicodedata.combining(c))
    return " ".join(kept.split())


@cache
def _names() -> str:
    """All names, plain, each after a line break."""
    return "\n" + "\n".join(plain(name) for name in places().names) + "\n"


@cache
def _starts() -> "np.ndarray[tuple[int], np.dtype[np.intp]]":
    """Where in that text each name starts."""
    return np.flatnonzero(np.frombuffer(_names().encode("utf-32-le"), np.uint32) == ord("\n")) + 1


def find_places(text: str, near: tuple[float, float] | None = None, most: int = MOST) -> list[FoundPlace]:
    """Places whose names begin with a text, then those of which a later word does; accents and capitals do
    not matter. Of either the exact name comes first, then what lies within a drive of ``near`` (latitude,
    longitude), then the largest. ``near`` also adds distances."""
    wanted = plain(text)
    if len(wanted) < SHORTEST:
        return []
    names, p = _names(), places()
    found: dict[int, bool] = {}  # by index: whether the name begins so
    for pattern in (f"\n{wanted}", f" {wanted}"):
        at, count = names.find(pattern), 0
        while at >= 0 and count < CANDIDATES:
            found.setdefault(int(np.searchsorted(_starts(), at + 1, "right")) - 1, pattern[0] == "\n")
            at, count = names.find(pattern, at + 1), count + 1
    at_all = list(found)
    azimuth, distance = bearing_distance(*(near or (0.0, 0.0)), p.lat[at_all], p.lon[at_all])
    rows = [
        (not found[i], plain(p.names[i]) != wanted, near is not None and d > DRIVE_KM, i, float(d), float(a))
        for i, d, a in zip(at_all, distance, azimuth, strict=True)
    ]
    return [_found(i, d if near else None, a if near else None) for _, _, _, i, d, a in sorted(rows)[:most]]


def _found(i: int, distance: float | None, azimuth: float | None) -> FoundPlace:
    p = places()
    return FoundPlace(
        p.names[i],
        p.countries[i],
        round(float(p.lat[i]), 4),
        round(float(p.lon[i]), 4),
        int(p.pop[i]),
        distance,
        azimuth,
    )


def _degrees(text: str) -> float:
    sign, whole, minutes, seconds = DEGREES.fullmatch(text).groups()  # type: ignore[union-attr]
    value = int(whole) + int(minutes) / 60 + int(seconds or 0) / 3600
    return -value if sign == "-" else value


@cache
def zone_places() -> dict[str, tuple[float, float]]:
    """The chief place (latitude, longitude in degrees) of every time zone, from the zone table that ships
    with
    the time zones themselves."""
    out = {}
    for line in files("tzdata").joinpath("zoneinfo/zone.tab").read_text(encoding="utf-8").splitlines():
        if line and not line.startswith("#"):
            _, where, zone, *_ = line.split("\t")
            split = max(where.rfind("+"), where.rfind("-"))
            out[zone] = (round(_degrees(where[:split]), 4), round(_degrees(where[split:]), 4))
    return out
