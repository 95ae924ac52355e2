"""How dark the zenith of a site is taken to be: which of several sources counts."""

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import date
from statistics import median_high

from vinter.core.sky.brightness import CLASS_MIDDLES

READINGS_USED = 3  # the newest ones; their median


@dataclass(frozen=True)
class ZenithSource:
    """Zenith brightness in V mag/arcsec^2 (None: the town model is to be asked) and where it comes from."""

    zenith: float | None
    name: str
    day: date | None = None


def zenith_source(
    readings: Sequence[tuple[date, float]], given: float | None, sky_class: int | None
) -> ZenithSource:
    """What to compute with: a meter's readings win over a given brightness, that over a class read off a map
    (1 to 9), that over the town model.

    ``readings`` are (evening, V mag/arcsec^2); of the three newest the median counts, of two the darker one.
    """
    newest = sorted(readings, key=lambda r: r[0], reverse=True)[:READINGS_USED]
    if newest:
        return ZenithSource(median_high(zenith for _, zenith in newest), "meter", newest[0][0])
    if given is not None:
        return ZenithSource(given, "given")
    if sky_class:
        return ZenithSource(CLASS_MIDDLES[sky_class - 1], f"class {sky_class}")
    return ZenithSource(None, "town model")
