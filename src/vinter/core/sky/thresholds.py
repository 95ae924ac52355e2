"""Where the lines are drawn: what makes a minute usable, and what the schools say yes to.

Every threshold has its label, its bounds and its help here; forms, stored preferences and the schools follow.
A school is one function and one entry of ``SCHOOLS``.
"""

from collections.abc import Callable
from dataclasses import dataclass, field, fields
from typing import Any, TypeVar

from vinter.core.errors import BadInput
from vinter.core.sky.targets import Target

N = TypeVar("N", int, float)
STRICT_LIT, GENEROUS_LIT = 20.0, 33.0  # per cent; where the other thin-Moon schools draw their line


def _line(default: N, label: str, low: float, high: float, note: str = "") -> N:
    """A threshold a person may move, with its label, bounds and a note on how others draw it."""
    return field(default=default, metadata={"label": label, "low": low, "high": high, "note": note})


@dataclass(frozen=True, kw_only=True)
class Thresholds:
    """What makes a moment usable, and where the schools draw their lines; all can be moved by the user.

    Altitudes in degrees (airless), contrasts in per cent of the sky's light, hours counted from local noon
    and None for no limit. BadInput names the one that is out of bounds.
    """

    min_altitude: float = _line(
        10.0,
        "Target at least this high, °",
        0,
        60,
        "10° is usual; at 50° north the core never gets there, try 3",
    )
    sun_below: float = _line(
        -18.0,
        "Sun at most this high, °",
        -18,
        -6,
        "−18 is full darkness; −15 gives far northern summers a chance",
    )
    least_contrast: float = _line(
        25.0,
        "The target's light, of the sky's: at least, %",
        1,
        200,
        "a minute counts as usable from here; towns, Moon, twilight, height and haze all enter",
    )
    suburb_contrast: float = _line(
        8.0,
        "Suburban threshold: at least, %",
        1,
        200,
        "what a long stack can still lift out of a bright sky",
    )
    new_moon_days: float = _line(3.0, "Near new Moon: within, days", 0, 14)
    lit_percent: float = _line(25.0, "Thin Moon: lit under, %", 0, 100, "people draw it at 20, 25 or 33")
    moon_up_minutes: float = _line(0.0, "Moon down: up at most, min", 0, 600)
    darkest_class: int = _line(4, "Map readers: this class or darker", 1, 9)
    suburb_class: int = _line(6, "A suburb will do: down to class", 1, 9)
    earliest: float | None = None
    latest: float | None = None

    def __post_init__(self) -> None:
        if not -5 <= self.min_altitude < 90:
            raise BadInput(f"min-altitude {self.min_altitude} is not within -5 to 90 degrees")
        if not -18 <= self.sun_below <= 0:
            raise BadInput(f"sun-below {self.sun_below} is not within -18 to 0 degrees")
        for label, share in (("least", self.least_contrast), ("suburb's", self.suburb_contrast)):
            if not share > 0:
                raise BadInput(f"the {label} contrast {share:g} is not above 0 per cent")
        for label, hours in (("earliest", self.earliest), ("latest", self.latest)):
            if hours is not None and not 0 <= hours <= 24:
                raise BadInput(f"{label} hour {hours:g} is not within 0 to 24 hours after noon")

    def sun_for(self, what: Target) -> float:
        """Altitude of the Sun in degrees below which a target can be shot."""
        return self.sun_below if what.twilight is None else max(self.sun_below, what.twilight)


MOVABLE = tuple(f for f in fields(Thresholds) if f.metadata)


def thresholds_from(
    stored: dict[str, float], earliest: float | None = None, latest: float | None = None
) -> Thresholds:
    """Thresholds from stored values by name; what is not stored is as usual, what is no longer known is
    left."""
    known: dict[str, Any] = {f.name: stored[f.name] for f in MOVABLE if f.name in stored}
    for f in MOVABLE:
        if isinstance(f.default, int) and f.name in known:
            known[f.name] = int(known[f.name])
    return Thresholds(**known, earliest=earliest, latest=latest)


@dataclass(frozen=True)
class SchoolFacts:
    """What schools judge a night by: lit share of the Moon in per cent, days from new Moon, minutes of the
    windows with the Moon up (None without a window) and their length, class of the sky on maps (1 to 9)."""

    lit_percent: float
    new_moon_days: float
    moon_up_minutes: float | None
    window_minutes: float
    sky_class: int


@dataclass(frozen=True)
class School:
    """One school's yes or no: the value it looks at, its threshold and both in words."""

    name: str
    yes: bool
    value: float
    threshold: float
    words: str


@dataclass(frozen=True)
class SchoolKind:
    """A school: what judges by it, and its name as a filter of nights (empty: it judges places, not
    nights)."""

    judge: Callable[[SchoolFacts, Thresholds], School]
    filter_name: str = ""


def _near_new_moon(facts: SchoolFacts, limits: Thresholds) -> School:
    days, most = facts.new_moon_days, limits.new_moon_days
    return School(f"Within {most:g} days of new Moon", days <= most, days, most, f"{days:.1f} d")


def _lit_under(facts: SchoolFacts, most: float) -> School:
    lit = facts.lit_percent
    return School(f"Lit under {most:g} %", lit < most, lit, most, f"{lit:.0f} %")


def _thin_moon(facts: SchoolFacts, limits: Thresholds) -> School:
    return _lit_under(facts, limits.lit_percent)


def _strict_moon(facts: SchoolFacts, limits: Thresholds) -> School:
    return _lit_under(facts, STRICT_LIT)


def _generous_moon(facts: SchoolFacts, limits: Thresholds) -> School:
    return _lit_under(facts, GENEROUS_LIT)


def _moon_down(facts: SchoolFacts, limits: Thresholds) -> School:
    up, most = facts.moon_up_minutes, limits.moon_up_minutes
    name = "Moon down while shooting" if most == 0 else f"Moon up at most {most:g} min"
    if up is None:
        return School(name, False, 0.0, most, "no window")
    return School(name, up <= most, up, most, f"up {up:.0f} of {facts.window_minutes:.0f} min")


def _dark_class(facts: SchoolFacts, limits: Thresholds) -> School:
    found, most = facts.sky_class, limits.darkest_class
    return School(f"Class {most} or darker", found <= most, found, most, f"class {found}")


def _suburb_class(facts: SchoolFacts, limits: Thresholds) -> School:
    found, most = facts.sky_class, limits.suburb_class
    return School(f"A suburb will do: class {most}", found <= most, found, most, f"class {found}")


SCHOOLS: dict[str, SchoolKind] = {
    "near_new_moon": SchoolKind(_near_new_moon, "near new Moon"),
    "strict_moon": SchoolKind(_strict_moon, f"Moon lit under {STRICT_LIT:g} %"),
    "thin_moon": SchoolKind(_thin_moon, "thin Moon"),
    "generous_moon": SchoolKind(_generous_moon, f"Moon lit under {GENEROUS_LIT:g} %"),
    "moon_down": SchoolKind(_moon_down, "Moon down while shooting"),
    "dark_class": SchoolKind(_dark_class),
    "suburb_class": SchoolKind(_suburb_class),
}
MOON_SCHOOLS = {key: kind.filter_name for key, kind in SCHOOLS.items() if kind.filter_name}
