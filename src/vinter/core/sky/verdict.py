"""Is the night worth it: a score, a verdict, the reasons, and what the schools would say."""

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import date, datetime
from functools import lru_cache

import numpy as np

from vinter.core.sky import ephemeris as eph
from vinter.core.sky.brightness import sky_class
from vinter.core.sky.glow import site_zenith
from vinter.core.sky.nights import SUN_LEVELS, Night, Window, nights
from vinter.core.sky.site import Site
from vinter.core.sky.targets import Target, position
from vinter.core.sky.thresholds import SCHOOLS, School, SchoolFacts, Thresholds

GOOD, FAIR = 50.0, 20.0  # % of the best night of the year from which a night is good or fair
LEAST_USABLE = 1.0  # minutes: a night without one is neither
WHOLE, HOUR = 0.9, 60.0  # share of the windows and minutes that are usable, of a night that is good anyhow
COMPASS = ("north", "north-east", "east", "south-east", "south", "south-west", "west", "north-west")


@dataclass(frozen=True)
class Verdict:
    """``score``: the night's weighed minutes in per cent of those of the best night of its year at its site,
    0 to 100; one of good, fair, poor, none; reasons as sentences; the schools beside it."""

    score: float
    word: str
    reasons: list[str]
    schools: dict[str, School]

    @property
    def worth_going(self) -> bool:
        """Whether the night is good or fair."""
        return self.word in ("good", "fair")


def compass(azimuth: float) -> str:
    """One of eight compass points for an azimuth in degrees."""
    return COMPASS[round(azimuth / 45) % 8]


def clock(site: Site, unix: float) -> str:
    """Hour and minute in the site's zone."""
    return datetime.fromtimestamp(round(unix / 60) * 60, site.zone).strftime("%H:%M")


def _moon_up_minutes(night: Night, window: Window) -> float:
    """Minutes of a window during which the Moon stands above the horizon."""
    changes = sorted([(t, 1) for t in night.moon["rise"]] + [(t, 0) for t in night.moon["set"]])
    earlier = [up for t, up in changes if t <= window.start]
    later = [(t, up) for t, up in changes if window.start < t < window.end]
    up = earlier[-1] if earlier else 1 - changes[0][1] if changes else int(night.strip.moon_alt[0] > 0)
    total, since = 0.0, window.start
    for t, becomes in [*later, (window.end, 0)]:
        total += (t - since) / 60 * up
        since, up = t, becomes
    return total


def schools(site: Site, night: Night, limits: Thresholds) -> dict[str, School]:
    """What the Moon schools and the map readers say of a night, by key; each has its own threshold."""
    zenith = site_zenith(site).value
    facts = SchoolFacts(
        lit_percent=night.illuminated * 100,
        new_moon_days=night.new_moon_days,
        moon_up_minutes=sum(_moon_up_minutes(night, w) for w in night.windows) if night.windows else None,
        window_minutes=night.minutes,
        sky_class=sky_class(zenith),
    )
    return {key: kind.judge(facts, limits) for key, kind in SCHOOLS.items()}


WITHOUT_ARTICLE = ("omega-centauri",)


def _named(night: Night) -> str:
    """The target's name inside a sentence."""
    what = night.what
    if what.kind == "cloud" and what.key not in WITHOUT_ARTICLE:
        return f"the {what.name}"
    return {
        "band": "the core" if what.key == "core" else "this stretch of the band",
        "arch": "the top of the arch",
        "moon": "the Moon",
        "pole": "the pole",
        "point": "the chosen point",
    }.get(what.kind, what.name)


def _sentence(text: str) -> str:
    return text[:1].upper() + text[1:]


def _why_no_window(site: Site, night: Night, limits: Thresholds) -> str:
    sun, name, top = limits.sun_for(night.what), _named(night), night.highest
    if night.lowest_sun > sun:
        if night.lowest_sun > SUN_LEVELS["horizon"]:
            return f"No night: the Sun does not set, it sinks only to {night.lowest_sun:.1f}°."
        return (
            f"No darkness: the Sun sinks only to {night.lowest_sun:.1f}°, above the {sun:g}° asked for, "
            "so twilight lasts all night."
        )
    if top.altitude < limits.min_altitude:
        return f"{_sentence(name)} never clears {limits.min_altitude:g}°: highest {top.altitude:.1f}°."
    if site.horizon is not None and not (night.target["rise"] or night.target["set"]):
        return f"{_sentence(name)} stays behind the ground all night, or above it only by day."
    if night.what.highest < 90:
        return (
            f"{_sentence(name)} stands between {limits.min_altitude:g}° and {night.what.highest:g}° "
            "only by day or in twilight."
        )
    if limits.earliest is not None or limits.latest is not None:
        return (
            f"Within the hours you are willing to be out, {name} is not up in darkness (highest at "
            f"{clock(site, top.t)})."
        )
    return (
        f"{_sentence(name)} stands above {limits.min_altitude:g}° only by day or in twilight (highest "
        f"at {clock(site, top.t)})."
    )


def _sun_at(site: Site, t: float) -> float:
    e, at = eph.year_ephemeris(eph.year_of(t)), np.array([t])
    return float(eph.altitude(e.sun(at), e.gast(at), site)[0])


def _ground_at(site: Site, night: Night, t: float) -> float:
    """Altitude in degrees of the horizon profile below the target at a time."""
    if site.horizon is None:
        return 0.0
    return float(site.horizon.at(position(site, eph.year_of(t), np.array([t]), night.what)[1])[0])


def _edge_reason(site: Site, night: Night, limits: Thresholds, t: float, opens: bool) -> str:
    """What opens or closes a window: the target's height, the Sun's depth, or the user's own hours."""
    name = _named(night)
    if any(abs(x - t) < 1 for x in night.target["rise" if opens else "set"]):
        hidden = _ground_at(site, night, t) > limits.min_altitude
        if opens:
            return f"{name} clears {'the ground' if hidden else f'{limits.min_altitude:g}°'}"
        return f"{name} goes behind the ground" if hidden else f"{name} sinks below {limits.min_altitude:g}°"
    if abs(_sun_at(site, t) - limits.sun_for(night.what)) < 0.02:
        return "darkness falls" if opens else "dawn comes"
    if night.what.highest < 90:
        return (
            f"{name} sinks below {night.what.highest:g}°"
            if opens
            else f"{name} climbs above {night.what.highest:g}°"
        )
    if limits.earliest is None and limits.latest is None:
        return "the night begins" if opens else "the night ends"
    return "your hours begin" if opens else "your hours end"


def _moon_reason(site: Site, night: Night) -> str:
    lit = f"{night.illuminated * 100:.0f} % lit"
    lost = sum(w.moon_lost for w in night.windows)
    within = [(w.start, w.end) for w in night.windows]
    setting = [t for t in night.moon["set"] if any(a < t < b for a, b in within)]
    rising = [t for t in night.moon["rise"] if any(a < t < b for a, b in within)]
    event = (
        f", sets {clock(site, setting[0])}"
        if setting
        else f", rises {clock(site, rising[0])}"
        if rising
        else ""
    )
    up = sum(_moon_up_minutes(night, w) for w in night.windows)
    if lost >= 1:
        minutes = "one minute" if round(lost) == 1 else f"{lost:.0f} minutes"
        return f"The Moon ({lit}{event}) takes {minutes} that would be usable without it."
    if up < 1:
        return f"The Moon ({lit}) is down all the while."
    if night.usable < 1:
        return f"The Moon ({lit}{event}) is up for {up:.0f} of {night.minutes:.0f} minutes."
    return f"The Moon ({lit}{event}) is up for {up:.0f} minutes and takes none of them."


COST_NAMES = {
    "towns": "the towns",
    "altitude": "its low height",
    "haze": "haze",
    "moon": "the Moon",
    "twilight": "twilight",
}
CAUSES = {
    "towns": "the towns leave",
    "moon": "the Moon leaves",
    "twilight": "twilight leaves",
    "altitude": "its low height leaves",
    "haze": "haze leaves",
}


def _largest_cost(night: Night, window: Window) -> tuple[str, float]:
    """What costs most at a window's best minute, and how many magnitudes."""
    costs = ((n, c) for n, c in window.best.cost.items() if night.what.dark or n in ("altitude", "haze"))
    return max(costs, key=lambda item: item[1])


def _unusable(night: Night, window: Window, limits: Thresholds) -> str:
    """Why no minute of a night has contrast enough."""
    percent, name = 100 * window.best.contrast, _named(night)
    text = (
        f"No usable minute: {CAUSES[_largest_cost(night, window)[0]]} {name} at {percent:.0f} % of the "
        "sky's light "
        f"at best; {limits.least_contrast:g} % is asked for."
    )
    if night.suburb >= 1:
        return (
            f"{text} At the suburban threshold ({limits.suburb_contrast:g} %), {night.suburb:.0f} minutes "
            "are usable."
        )
    return text


def _spans(site: Site, night: Night, limits: Thresholds) -> str:
    """When the windows of a night open and close, and why."""
    parts = [
        f"from {clock(site, w.start)}, when {_edge_reason(site, night, limits, w.start, True)}, "
        f"to {clock(site, w.end)}, when {_edge_reason(site, night, limits, w.end, False)}"
        for w in night.windows
    ]
    return _sentence("; and ".join(parts) + ".")


def _reasons(site: Site, night: Night, limits: Thresholds) -> list[str]:
    window = night.best
    if window is None:
        return [_why_no_window(site, night, limits)]
    best = window.best
    out = [_spans(site, night, limits)]
    if night.what.dark:
        if night.usable < 1:
            out.insert(0, _unusable(night, window, limits))
        out.append(_moon_reason(site, night))
    out.append(
        f"At best ({clock(site, best.t)}) {_named(night)} is {best.altitude:.0f}° high in the "
        f"{compass(best.azimuth)} and the "
        f"sky there is {best.brightness:.1f} ± {best.uncertainty:.1f} mag/arcsec²."
    )
    name, cost = _largest_cost(night, window)
    if cost >= 0.1:
        out.append(f"The largest cost then is {COST_NAMES[name]}: {cost:.1f} mag.")
    return out


@lru_cache(maxsize=256)
def best_of_year(site: Site, year: int, limits: Thresholds, what: Target) -> float:
    """``best_of`` the nights of a calendar year at a site."""
    return best_of(nights(site, date(year, 1, 1), date(year, 12, 31), limits, what))


def best_of(found: Sequence[Night]) -> float:
    """Weighed minutes (``Night.equivalent``) of the best of some nights; 0 when none has a usable minute."""
    return max((n.equivalent for n in found if n.usable >= LEAST_USABLE), default=0.0)


def judge(site: Site, night: Night, limits: Thresholds | None = None, best: float | None = None) -> Verdict:
    """Score, verdict, reasons and schools of a night. ``best`` are the weighed minutes of the best night of
    its year there, looked for when they are not given."""
    limits = limits or Thresholds()
    if best is None:
        best = best_of_year(site, night.day.year, limits, night.what)
    score = min(100 * night.equivalent / best, 100.0) if best > 0 else 0.0
    word = "good" if score >= GOOD else "fair" if score >= FAIR else "poor"
    if night.usable >= max(HOUR, WHOLE * night.minutes):
        word = "good"
    if night.usable < LEAST_USABLE:
        word = "poor" if night.windows else "none"
    return Verdict(round(score, 1), word, _reasons(site, night, limits), schools(site, night, limits))
