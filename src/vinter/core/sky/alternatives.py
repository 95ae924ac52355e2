"""What can be done in a night in which the target cannot: other targets, or other thresholds."""

from dataclasses import dataclass, replace
from datetime import date

from vinter.core.sky.nights import Night, nights
from vinter.core.sky.site import Site
from vinter.core.sky.targets import CLOUDS, MOON, POLE, STRETCHES, Target, band
from vinter.core.sky.thresholds import Thresholds

LOWER_ALTITUDE, LOWER_SUN = 3.0, -12.0  # degrees: what far northern summers and high latitudes are tried with
LEAST_MINUTES = 20.0


@dataclass(frozen=True)
class Alternative:
    """A night for another target, or for the same one by lower thresholds (``lower``)."""

    night: Night
    lower: bool = False


def alternatives(site: Site, day: date, limits: Thresholds, what: Target, most: int = 5) -> list[Alternative]:
    """What has at least twenty minutes above the thresholds in a night, by a suburb's measure at least, best
    worth first: first the target itself by lower thresholds, then stretches of the band, clouds, the pole for
    trails, the Moon."""
    out = []
    lower = replace(
        limits,
        min_altitude=min(limits.min_altitude, LOWER_ALTITUDE),
        sun_below=max(limits.sun_below, LOWER_SUN),
    )
    same = nights(site, day, day, lower, what)[0]
    if same.minutes >= LEAST_MINUTES:
        out.append(Alternative(same, lower=True))
    others = [*(band(longitude, name) for longitude, name in STRETCHES), *CLOUDS, POLE, MOON]
    found = [nights(site, day, day, limits, other)[0] for other in others if other.key != what.key]
    good = [n for n in found if n.minutes >= LEAST_MINUTES and (n.suburb >= LEAST_MINUTES or not n.what.dark)]
    ordered = sorted(good, key=lambda n: (not n.what.dark, -n.equivalent))
    return (out + [Alternative(n) for n in ordered])[:most]
