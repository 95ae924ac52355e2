"""Is the night worth it: a score, a verdict, the reasons, and what the schools would say."""

from dataclasses import dataclass
from datetime import datetime

import numpy as np

from vinter.core.sky import ephemeris as eph
from vinter.core.sky.brightness import sky_class
from vinter.core.sky.glow import glow
from vinter.core.sky.nights import Night, Thresholds, Window
from vinter.core.sky.site import Site

FULL_SCORE_MINUTES = 120.0  # so many minutes under a perfect zenith score 100
GOOD, FAIR = 40.0, 15.0
COMPASS = ("north", "north-east", "east", "south-east", "south", "south-west", "west", "north-west")


@dataclass(frozen=True)
class School:
    """One school's yes or no: the value it looks at, its threshold and both in words."""

    name: str
    yes: bool
    value: float
    threshold: float
    words: str


@dataclass(frozen=True)
class Verdict:
    """Score 0 to 100, one of good, fair, poor, none; reasons as sentences; the schools beside it."""

    score: float
    word: str
    reasons: list[str]
    schools: dict[str, School]


def compass(azimuth: float) -> str:
    """One of eight compass points for an azimuth in degrees."""
    return COMPASS[round(azimuth / 45) % 8]


def clock(site: Site, unix: float) -> str:
    """Hour and minute in the site's zone."""
    return datetime.fromtimestamp(round(unix / 60) * 60, site.zone).strftime("%H:%M")


def _moon_up_minutes(site: Site, night: Night, window: Window | None) -> float:
    if window is None:
        return 0.0
    t = np.arange(window.start, window.end, 60.0)
    e = eph.year_ephemeris(night.day.year)
    return float((eph.horizontal(e.moon(t), e.gast(t), site)[0] > 0).sum())


def schools(site: Site, night: Night, limits: Thresholds) -> dict[str, School]:
    """What the Moon schools and the map readers say of a night; each has its own threshold."""
    lit, days = night.illuminated * 100, night.new_moon_days
    up = _moon_up_minutes(site, night, night.best)
    length = night.best.minutes if night.best else 0.0
    zenith = site.zenith if site.zenith is not None else glow(site.lat, site.lon).zenith
    by_map = sky_class(zenith)
    return {
        "near_new_moon": School(f"Within {limits.new_moon_days:g} days of new Moon", days <= limits.new_moon_days, days,
                                limits.new_moon_days, f"{days:.1f} d"),
        "thin_moon": School(f"Lit under {limits.lit_percent:g} %", lit < limits.lit_percent, lit, limits.lit_percent,
                            f"{lit:.0f} %"),
        "moon_down": School("Moon down while shooting", night.best is not None and up == 0, up, 0.0,
                            "no window" if night.best is None else f"up {up:.0f} of {length:.0f} min"),
        "class_4_or_darker": School("Class 4 or darker", by_map <= 4, by_map, 4, f"class {by_map}"),
    }


def _why_no_window(site: Site, night: Night, limits: Thresholds) -> str:
    if night.lowest_sun > limits.sun_below:
        return (f"No darkness: the Sun sinks only to {night.lowest_sun:.1f}°, above the {limits.sun_below:g}° "
                "asked for, so twilight lasts all night.")
    top = night.highest
    if top.altitude < limits.min_altitude:
        return f"The target never clears {limits.min_altitude:g}°: highest {top.altitude:.1f}°."
    return f"The target stands above {limits.min_altitude:g}° only by day or in twilight (highest at {clock(site, top.t)})."


def _start_reason(night: Night, window: Window) -> str:
    risen = any(abs(t - window.start) < 1 for t in night.target["rise"])
    return "the target clears the height you set" if risen else "darkness falls"


def _end_reason(night: Night, window: Window) -> str:
    down = any(abs(t - window.end) < 1 for t in night.target["set"])
    return "the target sinks too low" if down else "dawn comes"


def _moon_reason(site: Site, night: Night, window: Window) -> str:
    lit = f"{night.illuminated * 100:.0f} % lit"
    lost = window.minutes - window.usable
    setting = [t for t in night.moon["set"] if window.start < t < window.end]
    rising = [t for t in night.moon["rise"] if window.start < t < window.end]
    event = f", sets {clock(site, setting[0])}" if setting else f", rises {clock(site, rising[0])}" if rising else ""
    if lost < 1:
        return f"Moonlight costs nothing that matters (Moon {lit}{event})."
    return f"The Moon ({lit}{event}) spoils {lost:.0f} of {window.minutes:.0f} minutes."


def _reasons(site: Site, night: Night, limits: Thresholds) -> list[str]:
    window = night.best
    if window is None:
        return [_why_no_window(site, night, limits)]
    best = window.best
    out = [f"From {clock(site, window.start)}, when {_start_reason(night, window)}, "
           f"to {clock(site, window.end)}, when {_end_reason(night, window)}.",
           _moon_reason(site, night, window),
           f"At best ({clock(site, best.t)}) the target is {best.altitude:.0f}° high in the {compass(best.azimuth)} and the "
           f"sky there is {best.brightness:.1f} ± {best.uncertainty:.1f} mag/arcsec²."]
    names = {"towns": "the towns", "altitude": "its low height", "haze": "haze", "moon": "the Moon", "twilight": "twilight"}
    name, cost = max(best.cost.items(), key=lambda item: item[1])
    if cost >= 0.1:
        out.append(f"The largest cost then is {names[name]}: {cost:.1f} mag.")
    return out


def judge(site: Site, night: Night, limits: Thresholds | None = None) -> Verdict:
    """Score, verdict, reasons and schools of a night."""
    limits = limits or Thresholds()
    score = min(100.0, 100 * night.equivalent / FULL_SCORE_MINUTES)
    word = "none" if not night.windows else "good" if score >= GOOD else "fair" if score >= FAIR else "poor"
    return Verdict(round(score, 1), word, _reasons(site, night, limits), schools(site, night, limits))
