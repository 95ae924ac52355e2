"""The times that a card carries: when the target stands best, when the Moon comes and goes, when it dawns."""

from dataclasses import dataclass

import numpy as np

from vinter.core.sky.nights import Night
from vinter.core.sky.targets import CORE, Target

BY_DAY = "by day"  # says that the Moon rises or sets outside the night


@dataclass(frozen=True)
class CardTime:
    """A line of the card: Unix times of it, and words that stand after them or for them."""

    label: str
    at: tuple[float, ...] = ()
    words: str = ""


def short_name(what: Target) -> str:
    """What a target is called where there is little room."""
    return "Core" if what.key == CORE.key else what.name.removeprefix("The ").partition(" (")[0].capitalize()


def card_times(night: Night) -> list[CardTime]:
    """Target, Moon and dawn of one night. Moonrise and moonset are those between this night's sunset and
    sunrise; where there is none, that it does so by day, or whether the Moon is up all night."""
    best = night.best.best if night.best else None
    name = short_name(night.what)
    dawns = tuple(night.sun["astronomical_dawn"])
    return [
        CardTime(
            f"{name} best", (best.t,) if best else (), f"{best.altitude:.0f}°" if best else "not tonight"
        ),
        *_moon(night),
        CardTime("Dawn", dawns, "" if dawns else "it never gets dark"),
    ]


def _moon(night: Night) -> list[CardTime]:
    start = min(night.sun["set"], default=night.start)
    end = max((t for t in night.sun["rise"] if t > start), default=night.end)
    rise, sets = (tuple(t for t in night.moon[name] if start < t < end) for name in ("rise", "set"))
    inside = (night.strip.t >= start) & (night.strip.t <= end)
    up = night.strip.moon_alt[inside] > 0 if inside.any() else np.zeros(1, bool)
    if not rise and not sets:
        lit = f"{100 * night.illuminated:.0f} % lit"
        return [
            CardTime("Moon", words=f"up all night, {lit}" if bool(up[len(up) // 2]) else "down all night")
        ]
    return [
        CardTime("Moon rises", rise, "" if rise else BY_DAY),
        CardTime("Moon sets", sets, "" if sets else BY_DAY),
    ]
