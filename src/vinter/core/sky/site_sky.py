"""How dark the zenith of a site is taken to be: which of several sources counts."""

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import date
from math import sqrt
from statistics import median

from vinter.core.sky.brightness import CLASS_LIMITS, CLASS_MIDDLES

READING_SIGMA = 0.10  # mag/arcsec^2, standard error of a zenith that somebody reads or gives
DARKEST_ZENITH, BRIGHTEST_ZENITH = 22.0, 17.0  # mag/arcsec^2, ends of the darkest and the brightest class
READINGS_USED = 3  # readings, the newest, whose median counts
METER_DAYS = 730  # days by which frames may be newer than a meter's reading that still wins
DRIFT = 0.1  # mag a year by which a sky may have changed since an older reading
LEAST_ERROR = 0.05  # mag/arcsec^2 that the air glows otherwise from night to night, however many are read
MEDIAN_COSTS = 1.2533  # standard error of a median over that of a mean


@dataclass(frozen=True)
class ZenithSource:
    """Zenith brightness in V mag/arcsec^2 (None: the town model is to be asked) with its standard error, and
    where it comes from."""

    zenith: float | None
    name: str
    day: date | None = None
    count: int = 1
    error: float = READING_SIGMA


FROM_FRAMES = "frames"
METER = "meter"


@dataclass(frozen=True)
class SkyReading:
    """What an evening's zenith was, mag/arcsec^2 with its standard error: by a meter, or measured from the
    frames of that night."""

    day: date
    zenith: float
    source: str = METER
    error: float = READING_SIGMA


def class_error(sky_class: int) -> float:
    """Half the width of a class, mag/arcsec^2: anywhere in it the zenith may be. Of the darkest and the
    brightest class that to its only limit."""
    edges = [DARKEST_ZENITH, *CLASS_LIMITS, BRIGHTEST_ZENITH]
    return round((edges[sky_class - 1] - edges[sky_class]) / 2, 3)


def _that_count(newest: Sequence[SkyReading]) -> list[SkyReading]:
    """The readings of the kind that wins, the newest first."""
    meters, frames = ([r for r in newest if (r.source == METER) == wanted] for wanted in (True, False))
    if meters and (not frames or (frames[0].day - meters[0].day).days <= METER_DAYS):
        return meters
    return frames


def _read(same: Sequence[SkyReading]) -> ZenithSource:
    """What one to three readings of a kind, the newest first, say together."""
    first = same[0]
    ages = [(first.day - r.day).days / 365.25 for r in same]
    weights = [1 / (r.error**2 + (DRIFT * age) ** 2) for r, age in zip(same, ages, strict=True)]
    values = [r.zenith for r in same]
    if len(same) > 2:
        zenith, error = median(values), MEDIAN_COSTS / sqrt(sum(weights))
        spread = (max(values) - min(values)) / 4
    else:
        zenith = sum(v * w for v, w in zip(values, weights, strict=True)) / sum(weights)
        error, spread = 1 / sqrt(sum(weights)), (max(values) - min(values)) / 2
    if len(same) > 1:
        error = max(error, spread, LEAST_ERROR)
    return ZenithSource(round(zenith, 3), first.source, first.day, len(same), round(error, 3))


def zenith_source(readings: Sequence[SkyReading], given: float | None, sky_class: int | None) -> ZenithSource:
    """What to compute with: a meter's readings, unless one's own frames are more than two years newer; else
    what the frames told, over a given brightness, over a class read off a map (1 to 9), over the town model.

    Of the three newest of a kind the median counts; of two their mean by the errors, that of the older one
    grown by what a sky may change.
    """
    newest = sorted(readings, key=lambda r: r.day, reverse=True)
    if newest:
        return _read(_that_count(newest)[:READINGS_USED])
    if given is not None:
        return ZenithSource(given, "given")
    if sky_class:
        return ZenithSource(CLASS_MIDDLES[sky_class - 1], f"class {sky_class}", error=class_error(sky_class))
    return ZenithSource(None, "town model")
