"""Nights at a site: events, windows, score and verdict. A night runs from local noon to local noon."""

from dataclasses import dataclass
from datetime import date, datetime, time, timedelta
from functools import lru_cache
from itertools import groupby, pairwise

import numpy as np
import numpy.typing as npt

from vinter.core.errors import BadInput
from vinter.core.sky import ephemeris as eph
from vinter.core.sky.ephemeris import Array
from vinter.core.sky.events import crossings, sample_grid
from vinter.core.sky.site import Site
from vinter.core.sky.target_track import Track, track
from vinter.core.sky.targets import CORE, Target, position
from vinter.core.sky.thresholds import Thresholds

MOON_RADIUS_KM = 1737.4
HORIZON_REFRACTION = 34 / 60
SUN_LEVELS = {"horizon": -0.8333, "civil": -6.0, "nautical": -12.0, "astronomical": -18.0}
SAMPLE_SECONDS = 300.0
SHORTEST_WINDOW = 60.0
EDGE = 1.25  # factor of contrast over which a minute becomes usable
DAY_LIMIT = 3.0  # degrees of Sun above which a night is not sampled
LONGEST_SPAN = timedelta(days=800)


@dataclass(frozen=True, kw_only=True)
class Moment:
    """One time with the target's place, the sky's brightness there (mag/arcsec^2), what a minute is worth (in
    minutes under a perfect sky), the target's light over the sky's, and the costs in magnitudes."""

    t: float
    altitude: float
    azimuth: float
    tilt: float
    brightness: float
    uncertainty: float
    worth: float
    contrast: float
    cost: dict[str, float]


@dataclass(frozen=True)
class Window:
    """Unix start and end of an unbroken time with the Sun low and the target high enough.

    ``usable`` counts the minutes in it with contrast enough, ``suburb`` those by the suburb's lower measure,
    with a smooth edge; ``moon_lost`` the usable minutes that moonlight takes. ``equivalent`` weighs every
    minute by what it gives a camera, so that an hour under a perfect zenith counts 60.
    """

    start: float
    end: float
    usable: float
    suburb: float
    moon_lost: float
    equivalent: float
    best: Moment

    @property
    def minutes(self) -> float:
        """Length in minutes."""
        return (self.end - self.start) / 60


@dataclass(frozen=True, kw_only=True)
class Night:
    """A night named by the date of its evening. Event times are Unix seconds, in lists of any length."""

    day: date
    start: float
    end: float
    sun: dict[str, list[float]]
    moon: dict[str, list[float]]
    illuminated: float
    new_moon_days: float
    target: dict[str, list[float]]
    highest: Moment
    lowest_sun: float
    windows: list[Window]
    strip: Track
    what: Target

    @property
    def usable(self) -> float:
        """Usable minutes over all windows."""
        return sum(w.usable for w in self.windows)

    @property
    def suburb(self) -> float:
        """Minutes usable by the suburb's measure over all windows."""
        return sum(w.suburb for w in self.windows)

    @property
    def minutes(self) -> float:
        """Length of all windows together."""
        return sum(w.minutes for w in self.windows)

    @property
    def equivalent(self) -> float:
        """Minutes weighed by what they give a camera over all windows: an hour under a perfect sky is 60."""
        return sum(w.equivalent for w in self.windows)

    @property
    def best(self) -> Window | None:
        """The window worth most."""
        return max(self.windows, key=lambda w: (w.equivalent, w.minutes), default=None)


def noon(site: Site, day: date) -> float:
    """Unix time of civil noon at the site (nights of 23 and 25 hours exist)."""
    return datetime.combine(day, time(12), site.zone).timestamp()


def evening_of(site: Site, unix: float) -> date:
    """Date of the evening whose night, local noon to local noon, holds a Unix time."""
    return (datetime.fromtimestamp(unix, site.zone) - timedelta(hours=12)).date()


def night_at(site: Site, unix: float, limits: Thresholds | None = None, what: Target = CORE) -> "Night":
    """The night that holds a Unix time."""
    day = evening_of(site, unix)
    return nights(site, day, day, limits, what)[0]


def moments(strip: Track, index: npt.NDArray[np.intp]) -> list[Moment]:
    """Some samples of a track as Moments."""
    some = strip.take(index)
    parts, costs = some.parts, some.costs
    columns = zip(
        some.t,
        some.alt,
        some.az,
        some.tilt,
        parts.brightness,
        parts.uncertainty,
        some.worth,
        some.contrast_over(parts.total),
        strict=True,
    )
    out = []
    for i, row in enumerate(columns):
        t, alt, az, tilt, mag, error, worth, contrast = map(float, row)
        out.append(
            Moment(
                t=t,
                altitude=alt,
                azimuth=az,
                tilt=tilt,
                brightness=mag,
                uncertainty=error,
                worth=worth,
                contrast=contrast,
                cost={name: float(value[i]) for name, value in costs.items()},
            )
        )
    return out


def vertices(t: Array, values: Array) -> tuple[Array, Array]:
    """Times and values of the maximum of each row of evenly sampled curves (n, m), by a parabola."""
    top = np.clip(np.argmax(values, axis=1), 1, values.shape[1] - 2)
    rows = np.arange(len(values))
    left, mid, right = values[rows, top - 1], values[rows, top], values[rows, top + 1]
    bend = left - 2 * mid + right
    shift = np.clip(np.where(bend < 0, 0.5 * (left - right) / np.where(bend < 0, bend, -1), 0), -1, 1)
    return t[rows, top] + shift * (t[rows, top + 1] - t[rows, top]), mid - 0.25 * (left - right) * shift


@lru_cache(maxsize=8)
def _sun_on_grid(site: Site, year: int, start: float, end: float) -> Array:
    """Altitudes of the Sun (degrees) at the times among which crossings are looked for."""
    e, t = eph.year_ephemeris(year), sample_grid(start, end)
    return eph.altitude(e.sun(t), e.gast(t), site)


@lru_cache(maxsize=64)
def _sun_crossings(site: Site, year: int, start: float, end: float, level: float) -> tuple[Array, Array]:
    """When the Sun rises and sinks through a level (degrees); the same whatever is looked for."""
    e = eph.year_ephemeris(year)
    grid = _sun_on_grid(site, year, start, end)
    return crossings(lambda t: eph.altitude(e.sun(t), e.gast(t), site) - level, start, end, grid - level)


@lru_cache(maxsize=16)
def _moon_crossings(site: Site, year: int, start: float, end: float) -> tuple[Array, Array]:
    """When the Moon's upper edge rises and sets; the same whatever is looked for."""
    e = eph.year_ephemeris(year)

    def above(t: Array) -> Array:
        alt, _, distance = eph.horizontal(e.moon(t), e.gast(t), site)
        return np.asarray(alt + HORIZON_REFRACTION + np.degrees(np.arcsin(MOON_RADIUS_KM / distance)))

    return crossings(above, start, end)


@dataclass(frozen=True)
class _Span:
    """All crossings of a run of nights within one ephemeris year."""

    site: Site
    year: int
    start: float
    end: float
    what: Target

    def sun(self, level: float) -> tuple[Array, Array]:
        return _sun_crossings(self.site, self.year, self.start, self.end, level)

    def moon(self) -> tuple[Array, Array]:
        return _moon_crossings(self.site, self.year, self.start, self.end)

    def clearance(self, t: Array, level: float) -> Array:
        """Degrees by which the target stands above a level and above the ground."""
        alt, az = position(self.site, self.year, t, self.what)
        return alt - (np.maximum(self.site.horizon.at(az), level) if self.site.horizon else level)

    def target(self, level: float) -> tuple[Array, Array]:
        return crossings(lambda t: self.clearance(t, level), self.start, self.end)

    def too_high(self) -> tuple[Array, Array]:
        if self.what.highest >= 90:
            return np.empty(0), np.empty(0)
        return crossings(
            lambda t: position(self.site, self.year, t, self.what)[0] - self.what.highest,
            self.start,
            self.end,
        )


def _by_night(times: Array, bounds: list[tuple[float, float]]) -> list[list[float]]:
    """Of times in order those of each night."""
    ends = np.searchsorted(times, np.array(bounds, float)).tolist()
    known = times.tolist()
    return [known[first:last] for first, last in ends]


def _at_hour(site: Site, day: date, hours: float) -> float:
    """Unix time of a wall-clock hour counted from local noon (clocks may change in between)."""
    wall = datetime.combine(day, time(12)) + timedelta(hours=hours)
    return wall.replace(tzinfo=site.zone).timestamp()


def _willing(
    site: Site, days: list[date], bounds: list[tuple[float, float]], limits: Thresholds
) -> list[tuple[float, float]]:
    """For each night the times between which the user is willing to be out."""
    if limits.earliest is None and limits.latest is None:
        return bounds
    return [
        (
            start if limits.earliest is None else max(start, _at_hour(site, day, limits.earliest)),
            end if limits.latest is None else min(end, _at_hour(site, day, limits.latest)),
        )
        for day, (start, end) in zip(days, bounds, strict=True)
    ]


def _segments(
    span: _Span, bounds: list[tuple[float, float]], edges: list[list[float]], limits: Thresholds
) -> list[list[tuple[float, float]]]:
    """For each night the unbroken times in which the Sun is low and the target high enough."""
    marks = [
        np.array([start, *sorted(x for x in inner if start < x < end), end])
        for (start, end), inner in zip(bounds, edges, strict=True)
    ]
    middle = np.concatenate([(m[:-1] + m[1:]) / 2 for m in marks])
    e = eph.year_ephemeris(span.year)
    good = (
        (eph.altitude(e.sun(middle), e.gast(middle), span.site) < limits.sun_for(span.what))
        & (span.clearance(middle, limits.min_altitude) > 0)
        & (position(span.site, span.year, middle, span.what)[0] <= span.what.highest)
    )
    out, first = [], 0
    for m in marks:
        flags = good[first : first + len(m) - 1]
        first += len(m) - 1
        runs = [list(run) for ok, run in groupby(range(len(flags)), key=flags.__getitem__) if ok]
        pieces = [(float(m[r[0]]), float(m[r[-1] + 1])) for r in runs]
        out.append([(a, b) for a, b in pieces if b - a >= SHORTEST_WINDOW])
    return out


def usable_share(contrast: Array, least: float) -> Array:
    """How far minutes of some contrast count as usable, 0 to 1: half at the least contrast (per cent of the
    sky's light), nothing a quarter below and all a quarter above it, without a step."""
    with np.errstate(divide="ignore"):
        x = np.clip(0.5 + 0.5 * np.log(np.maximum(contrast, 0) * 100 / least) / np.log(EDGE), 0, 1)
    return np.asarray(x * x * (3 - 2 * x))


def _judged(span: _Span, segments: list[tuple[float, float]], limits: Thresholds) -> list[Window]:
    """Windows of segments, each judged on samples of at most five minutes that include its ends."""
    if not segments:
        return []
    grids = [np.linspace(a, b, int(np.ceil((b - a) / SAMPLE_SECONDS)) + 1) for a, b in segments]
    strip = track(span.site, span.year, np.concatenate(grids), span.what)
    sky, worth = strip.parts.total, strip.worth
    use, suburb, moonless = (
        usable_share(strip.contrast_over(light), least)
        for light, least in (
            (sky, limits.least_contrast),
            (sky, limits.suburb_contrast),
            (sky - strip.moon, limits.least_contrast),
        )
    )
    starts = np.cumsum([0, *map(len, grids)])
    bests = moments(strip, np.array([a + np.argmax(worth[a:b]) for a, b in pairwise(starts)]))
    out = []
    for (start, end), a, b, best in zip(segments, starts[:-1], starts[1:], bests, strict=True):
        weight = np.full(b - a, (end - start) / 60 / (b - a - 1))
        weight[[0, -1]] /= 2
        usable, lower, lost, equal = (
            float((weight * v[a:b]).sum()) for v in (use, suburb, moonless - use, worth)
        )
        out.append(Window(start, end, usable, lower, lost, equal, best))
    return out


def _year_nights(site: Site, year: int, days: list[date], limits: Thresholds, what: Target) -> list[Night]:
    bounds = [(noon(site, day), noon(site, day + timedelta(days=1))) for day in days]
    span = _Span(site, year, bounds[0][0], bounds[-1][1], what)
    e = eph.year_ephemeris(year)
    sun = {name: span.sun(level) for name, level in SUN_LEVELS.items()}
    moon, target, dark = span.moon(), span.target(limits.min_altitude), span.sun(limits.sun_for(what))
    limits_of = np.array(bounds, float)
    grid = np.linspace(limits_of[:, 0], limits_of[:, 1], 146).T
    sun_alt = eph.altitude(e.sun(grid.ravel()), e.gast(grid.ravel()), site).reshape(grid.shape)
    midnight, deepest = vertices(grid, -sun_alt)
    highest, _ = vertices(grid, position(site, year, grid.ravel(), what)[0].reshape(grid.shape))
    tops = moments(track(site, year, highest, what), np.arange(len(days)))
    phase = eph.phase_angle(e.sun(midnight), e.moon(midnight))
    from_new = np.abs(eph.new_moons(e)[:, None] - midnight).min(axis=0) / 86400
    changes = (*dark, *target, *span.too_high())
    edges = [
        [x for times in night for x in times]
        for night in zip(*(_by_night(times, bounds) for times in changes), strict=True)
    ]
    segments = _segments(span, _willing(site, days, bounds, limits), edges, limits)
    windows = iter(_judged(span, [s for night in segments for s in night], limits))
    t = np.arange(np.ceil(span.start / SAMPLE_SECONDS) * SAMPLE_SECONDS, span.end, SAMPLE_SECONDS)
    strip = track(site, year, t[eph.altitude(e.sun(t), e.gast(t), site) < DAY_LIMIT], what)
    names = {name: (f"{name}_dawn", f"{name}_dusk") for name in SUN_LEVELS} | {"horizon": ("rise", "set")}
    sun_events = {
        name: _by_night(times, bounds)
        for level, both in names.items()
        for name, times in zip(both, sun[level], strict=True)
    }
    moon_events, target_events = (
        {name: _by_night(times, bounds) for name, times in zip(("rise", "set"), both, strict=True)}
        for both in (moon, target)
    )
    out = []
    for i, (day, bound) in enumerate(zip(days, bounds, strict=True)):
        out.append(
            Night(
                day=day,
                start=bound[0],
                end=bound[1],
                sun={name: times[i] for name, times in sun_events.items()},
                moon={name: times[i] for name, times in moon_events.items()},
                illuminated=float((1 + np.cos(np.radians(phase[i]))) / 2),
                new_moon_days=float(from_new[i]),
                target={name: times[i] for name, times in target_events.items()},
                highest=tops[i],
                lowest_sun=-float(deepest[i]),
                windows=[next(windows) for _ in segments[i]],
                strip=strip.take(slice(*np.searchsorted(strip.t, bound))),
                what=what,
            )
        )
    return out


def nights(
    site: Site, first: date, last: date, limits: Thresholds | None = None, what: Target = CORE
) -> list[Night]:
    """Every night from ``first`` to ``last`` (evening dates, inclusive) at a site.

    Rise, set and twilight within 2 s of a direct computation with the same ephemeris.
    """
    if last < first:
        raise BadInput(f"the last day {last} is before the first day {first}")
    if last - first > LONGEST_SPAN:
        raise BadInput(f"{first} to {last} is longer than {LONGEST_SPAN.days} days")
    days = [first + timedelta(days=i) for i in range((last - first).days + 1)]
    out: list[Night] = []
    for year, group in groupby(days, key=lambda d: d.year):
        out += _year_nights(site, year, list(group), limits or Thresholds(), what)
    return out
