"""How dark the zenith of a site is taken to be: which of several sources counts."""

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import date
from statistics import median_high

from vinter.core.sky.brightness import CLASS_LIMITS, CLASS_MIDDLES

READING_SIGMA = 0.10  # mag/arcsec^2, standard error of a zenith that somebody reads or gives
DARKEST_ZENITH, BRIGHTEST_ZENITH = 22.0, 17.0  # mag/arcsec^2, ends of the darkest and the brightest class
READINGS_USED = 3  # readings, the newest, whose median counts


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
    """What an evening's zenith was: by a meter, or measured from the frames of that night."""

    day: date
    zenith: float
    source: str = METER


def class_error(sky_class: int) -> float:
    """Half the width of a class, mag/arcsec^2: anywhere in it the zenith may be. Of the darkest and the
    brightest class that to its only limit."""
    edges = [DARKEST_ZENITH, *CLASS_LIMITS, BRIGHTEST_ZENITH]
    return round((edges[sky_class - 1] - edges[sky_class]) / 2, 3)


def zenith_source(readings: Sequence[SkyReading], given: float | None, sky_class: int | None) -> ZenithSource:
    """What to compute with: what one's own frames told last, if nothing newer is known; else a meter's
    readings, over a given brightness, over a class read off a map (1 to 9), over the town model.

    Of the three newest of a kind the median counts, of two the darker one.
    """
    newest = sorted(readings, key=lambda r: r.day, reverse=True)
    if newest:
        same = [r for r in newest if r.source == newest[0].source][:READINGS_USED]
        return ZenithSource(median_high(r.zenith for r in same), newest[0].source, newest[0].day, len(same))
    if given is not None:
        return ZenithSource(given, "given")
    if sky_class:
        return ZenithSource(CLASS_MIDDLES[sky_class - 1], f"class {sky_class}", error=class_error(sky_class))
    return ZenithSource(None, "town model")
