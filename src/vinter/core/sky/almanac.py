"""What else happens in the sky of a year at a site: meteor showers, eclipses of the Moon, meetings,
oppositions, zodiacal light."""

from collections.abc import Iterator
from dataclasses import dataclass
from datetime import date
from enum import StrEnum

import numpy as np

from vinter.core.sky import ephemeris as eph
from vinter.core.sky.eclipse import shadow
from vinter.core.sky.ephemeris import Array
from vinter.core.sky.nights import Night, moments, nights
from vinter.core.sky.site import Site
from vinter.core.sky.target_track import track
from vinter.core.sky.targets import PLANETS, Target, place, position

OBLIQUITY = np.radians(23.4366)
FULL_LIMIT, LIMIT_SCALE = 7.93, 4.316  # naked-eye limit from sky brightness (Schaefer 1990)
SHOWER_LIMIT = 6.5  # mag, limiting magnitude for which a zenithal hourly rate is stated
CAUGHT = 1.0  # magnitude of a meteor that a phone's frame holds
SEEN_SHARE = 0.35  # share of the hemisphere's meteors that one sees looking one way
FRAME_SECONDS, LONG_WAIT = 11.0, 20.0  # s from frame to frame, and hours beyond which nobody waits
LEAST_RATE = 3.0  # meteors an hour under which a shower is not worth a night
CLOSE, PLEIADES_CLOSE = 4.0, 3.0  # degrees within which the Moon stands beside something
PLEIADES = (56.75, 24.12)
STEEP = 55.0  # degrees of the ecliptic to the horizon from which zodiacal light stands up
DUSK = -18.0  # degrees of the Sun at which it is looked for
OUTER = ("mars", "jupiter", "saturn")


class Kind(StrEnum):
    """Kinds of events."""

    SHOWER = "meteor shower"
    ECLIPSE = "eclipse of the Moon"
    MEETING = "meeting"
    OPPOSITION = "opposition"
    ZODIACAL = "zodiacal light"


@dataclass(frozen=True, kw_only=True)
class Event:
    """Something in the sky of the night of ``day``: when it is best (Unix s), what to say, the target to plan
    it with and the mode; ``last`` where it goes on for days."""

    kind: Kind
    day: date
    unix: float
    name: str
    words: str
    target: str
    mode: str
    last: date | None = None


@dataclass(frozen=True)
class Shower:
    """A meteor shower: solar longitude of its maximum and radiant (degrees, J2000), zenithal hourly rate
    there, population index, and by how many powers of ten it falls a degree of solar longitude from it."""

    name: str
    longitude: float
    radiant: tuple[float, float]
    rate: float
    index: float
    fall: float


SHOWERS = (
    Shower("Quadrantids", 283.15, (230.0, 49.0), 80, 2.1, 1.8),
    Shower("Lyrids", 32.32, (271.0, 34.0), 18, 2.1, 0.22),
    Shower("Eta Aquariids", 45.5, (338.0, -1.0), 50, 2.4, 0.08),
    Shower("Southern delta Aquariids", 127.6, (340.0, -16.0), 25, 2.5, 0.09),
    Shower("Perseids", 140.0, (48.0, 58.0), 100, 2.2, 0.2),
    Shower("Orionids", 208.0, (95.0, 16.0), 20, 2.5, 0.12),
    Shower("Leonids", 235.27, (152.0, 22.0), 12, 2.5, 0.39),
    Shower("Geminids", 262.2, (112.0, 33.0), 150, 2.6, 0.39),
    Shower("Ursids", 270.7, (217.0, 76.0), 10, 2.8, 0.61),
)


def events(site: Site, year: int) -> list[Event]:
    """All of a calendar year at a site, by date."""
    every = nights(site, date(year, 1, 1), date(year, 12, 31))
    found = [
        *_showers(site, every),
        *_eclipses(site, every),
        *_meetings(site, every),
        *_oppositions(site, every),
        *_zodiacal(site, every),
    ]
    return sorted(found, key=lambda e: (e.day, e.unix))


def solar_longitude(year: int, t: Array) -> Array:
    """Ecliptic longitude of the Sun, degrees of J2000, at Unix times within a year."""
    v = eph.year_ephemeris(year).sun(t)
    of_date = np.degrees(np.arctan2(v[:, 1] * np.cos(OBLIQUITY) + v[:, 2] * np.sin(OBLIQUITY), v[:, 0]))
    centuries = (t / 86400 + 2440587.5 - 2451545.0) / 36525
    return np.asarray((of_date - 1.39697 * centuries) % 360)  # degrees that the equinox moves in a century


def limiting_magnitude(brightness: Array | float) -> Array:
    """The faintest star for a dark-adapted eye under a sky in V mag/arcsec^2 (Schaefer 1990)."""
    return np.asarray(FULL_LIMIT - 5 * np.log10(1 + 10 ** (LIMIT_SCALE - np.asarray(brightness) / 5)))


def hourly_rate(shower: Shower, altitude: Array, brightness: Array, away: Array) -> Array:
    """Meteors an hour that one sees: the zenithal rate, less by the radiant's height (degrees), by the sky
    (mag/arcsec^2) and by the degrees of solar longitude from the maximum."""
    high = np.sin(np.radians(np.maximum(altitude, 0)))
    faint = shower.index ** np.minimum(limiting_magnitude(brightness) - SHOWER_LIMIT, 0.0)
    return np.asarray(shower.rate * 10 ** (-shower.fall * np.abs(away)) * high * faint)


def _dark(night: Night) -> Array:
    return night.strip.t[night.strip.sun_alt < DUSK]


def _showers(site: Site, every: list[Night]) -> Iterator[Event]:
    for shower in SHOWERS:
        what = Target(
            key=f"at:{shower.radiant[0]:g},{shower.radiant[1]:g}",
            name=f"the radiant of the {shower.name}",
            kind="place",
            needs="",
            radec=shower.radiant,
        )
        best: tuple[float, Night, float, float, float] | None = None
        for night in every:
            t = _dark(night)[::4]
            if not len(t):
                continue
            away = (solar_longitude(night.day.year, t) - shower.longitude + 180) % 360 - 180
            if np.abs(away).min() > 2:
                continue
            way = track(site, night.day.year, t, what)
            sky = np.array([m.brightness for m in moments(way, np.arange(len(t)))])
            rate = hourly_rate(shower, way.alt, sky, away)
            k = int(np.argmax(rate))
            if best is None or rate[k] > best[0]:
                best = (float(rate[k]), night, float(t[k]), float(way.alt[k]), float(sky[k]))
        if best is None or best[0] < LEAST_RATE:
            continue
        seen, night, unix, altitude, sky_there = best
        yield Event(
            kind=Kind.SHOWER,
            day=night.day,
            unix=unix,
            name=shower.name,
            words=(
                f"about {seen:.0f} an hour for the eye under this sky{_moon_then(night, unix)}, radiant "
                f"{altitude:.0f}° up. {_in_frames(shower, seen, sky_there)}: aim 40° beside the radiant, "
                "half way up, and let it run"
            ),
            target=what.key,
            mode="timelapse",
        )


def _moon_then(night: Night, unix: float) -> str:
    up = float(np.interp(unix, night.strip.t, night.strip.moon_alt)) > 0
    return f", Moon up, {100 * night.illuminated:.0f} % lit" if up else ", no Moon"


def _in_frames(shower: Shower, seen: float, brightness: float) -> str:
    """How long frames run until one holds a meteor that is bright enough."""
    bright = seen * shower.index ** (CAUGHT - float(limiting_magnitude(brightness))) * SEEN_SHARE
    hours = 1 / max(bright, 1e-6)
    if hours > LONG_WAIT:
        return "A phone's frame hardly catches one"
    frames = round(hours * 3600 / FRAME_SECONDS, -2)
    return f"A phone's frame catches one in about {hours:.0f} h, some {frames:.0f} frames of 10 s"


def _eclipses(site: Site, every: list[Night]) -> Iterator[Event]:
    for night in every:
        if night.illuminated < 0.98:
            continue
        t = np.arange(night.start, night.end, 120.0)
        e = eph.year_ephemeris(night.day.year)
        found = shadow(e.sun(t), e.moon(t))
        k = int(np.argmax(found.umbral))
        if found.umbral[k] <= 0:
            continue
        up = eph.altitude(e.moon(t), e.gast(t), site) > 0
        seen = up & (found.umbral > 0)
        if not seen.any():
            continue
        at = int(np.flatnonzero(seen)[np.argmax(found.umbral[seen])])
        deep = float(found.umbral[at])
        total = float((found.umbral[up] >= 1).sum() * 2)
        word = f"total for {total:.0f} min" if total else f"{100 * deep:.0f} % of its diameter in the shadow"
        dark = "; meanwhile the sky is as dark as without a Moon: a window for the band" if total else ""
        yield Event(
            kind=Kind.ECLIPSE,
            day=night.day,
            unix=float(t[at]),
            name="Eclipse of the Moon",
            words=f"{word}, umbral magnitude {float(found.umbral[k]):.2f}{dark}",
            target="moon",
            mode="moon",
        )


def _vectors(year: int, t: Array, what: Target) -> Array:
    v = eph.year_body(year, what.body)(t)
    return np.asarray(v / np.linalg.norm(v, axis=1)[:, None])


def _meetings(site: Site, every: list[Night]) -> Iterator[Event]:
    for night in every:
        t = night.strip.t[(night.strip.sun_alt < -8) & (night.strip.moon_alt > 5)][::4]
        if not len(t):
            continue
        moon_alt, moon_az, _ = eph.horizontal(
            eph.year_ephemeris(night.day.year).moon(t), eph.year_ephemeris(night.day.year).gast(t), site
        )
        for what in PLANETS:
            alt, az = position(site, night.day.year, t, what)
            yield from _meeting(night, t, (moon_alt, moon_az), (alt, az), what.name, CLOSE)
        alt, az = place(site, night.day.year, t, PLEIADES)
        yield from _meeting(night, t, (moon_alt, moon_az), (alt, az), "the Pleiades", PLEIADES_CLOSE)


def _meeting(
    night: Night,
    t: Array,
    moon: tuple[Array, Array],
    other: tuple[Array, Array],
    name: str,
    close: float,
) -> Iterator[Event]:
    apart = eph.separation(moon[0], moon[1], other[0], other[1])
    good = np.where(other[0] > 5, apart, 180.0)
    k = int(np.argmin(good))
    if good[k] < close:
        yield Event(
            kind=Kind.MEETING,
            day=night.day,
            unix=float(t[k]),
            name=f"Moon beside {name}",
            words=f"{good[k]:.1f}° apart, {other[0][k]:.0f}° up, Moon {100 * night.illuminated:.0f} % lit",
            target="moon",
            mode="moon",
        )


def _oppositions(site: Site, every: list[Night]) -> Iterator[Event]:
    noon = np.array([n.start + 43200 for n in every])
    year = every[0].day.year
    sun = eph.year_ephemeris(year).sun(noon)
    sun = sun / np.linalg.norm(sun, axis=1)[:, None]
    for what in (p for p in PLANETS if p.key in OUTER):
        apart = np.degrees(np.arccos(np.clip((sun * _vectors(year, noon, what)).sum(axis=1), -1, 1)))
        k = int(np.argmax(apart))
        if apart[k] < 170 or k in (0, len(every) - 1):
            continue
        night = every[k]
        alt, _ = position(site, year, night.strip.t, what)
        high = int(np.argmax(alt))
        if alt[high] < 5:
            continue
        yield Event(
            kind=Kind.OPPOSITION,
            day=night.day,
            unix=float(night.strip.t[high]),
            name=f"{what.name} in opposition",
            words=f"up all night, at most {alt[high]:.0f}° high: its disc is at its largest of the year",
            target=what.key,
            mode=f"planet-{what.key}",
        )


def ecliptic_slope(site: Site, unix: float, evening: bool) -> float:
    """Degrees that the ecliptic leans from the horizon where the Sun went down or comes up."""
    t = np.array([unix])
    e = eph.year_ephemeris(eph.year_of(unix))
    sun, gast = e.sun(t), e.gast(t)
    x, y, z = sun[0]
    longitude = np.arctan2(y * np.cos(OBLIQUITY) + z * np.sin(OBLIQUITY), x)
    ahead = longitude + np.radians(60.0 if evening else -60.0)
    far = np.array([np.cos(ahead), np.sin(ahead) * np.cos(OBLIQUITY), np.sin(ahead) * np.sin(OBLIQUITY)])
    (sun_alt, sun_az, _), (alt, az, _) = (
        eph.horizontal(vectors, gast, site) for vectors in (sun, far[None] * np.linalg.norm(sun))
    )
    rise = float(alt[0] - sun_alt[0])
    level = float((az[0] - sun_az[0] + 180) % 360 - 180) * float(np.cos(np.radians(alt[0] / 2)))
    return float(np.degrees(np.arctan2(rise, abs(level))))


def _zodiacal(site: Site, every: list[Night]) -> Iterator[Event]:
    """Runs of evenings, and of mornings, on which the ecliptic stands steep and the Moon is down."""
    for evening, side in ((True, "west after dusk"), (False, "east before dawn")):
        run: list[tuple[Night, float]] = []
        for night in [*every, None]:
            t = _dark(night) if night else np.empty(0)
            good = False
            if night is not None and len(t):
                at = float(t[0] if evening else t[-1])
                moon = float(np.interp(at, night.strip.t, night.strip.moon_alt))
                good = moon < 0 and ecliptic_slope(site, at, evening) > STEEP
                if good:
                    run.append((night, at))
            if good or not run:
                continue
            if len(run) >= 5:
                first, last = run[0][0].day, run[-1][0].day
                _, at = run[len(run) // 2]
                yield Event(
                    kind=Kind.ZODIACAL,
                    day=first,
                    last=last,
                    unix=at,
                    name="Zodiacal light",
                    words=(
                        f"in the {side}, {ecliptic_slope(site, at, evening):.0f}° to the horizon, without a "
                        f"Moon from {first.day} {first:%B} to {last.day} {last:%B}; dark sites only"
                    ),
                    target="core",
                    mode="single",
                )
            run = []
