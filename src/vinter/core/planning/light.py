"""Whether there is night enough for a picture: by day, into the dawn, beside the Moon."""

from dataclasses import dataclass
from datetime import UTC, datetime

import numpy as np

from vinter.core.camera.phones import Lens
from vinter.core.camera.photons import sky_rate
from vinter.core.errors import BadInput
from vinter.core.sky import ephemeris as eph
from vinter.core.sky.ephemeris import Array
from vinter.core.sky.nights import Moment, moments
from vinter.core.sky.site import Site
from vinter.core.sky.target_track import track
from vinter.core.sky.targets import Target, position

NIGHT = -18.0  # degrees of the Sun under which the sky is as dark as it gets
BY_DAY = -6.0  # degrees of the Sun above which no star picture is planned
DARK = -12.0  # degrees of the Sun at which a sequence ends in the dawn, and a picture can begin
SHINING = ("moon", "planet")  # kinds of targets that can be photographed by day
STEP, AHEAD = 120.0, 36 * 3600.0  # s between looks at the Sun, and how far ahead
FULL = 0.6  # linear level of the sky from which a frame counts as filled: stars in it clip
FITTING = 0.3  # linear level that a shortened shutter leaves
SHORTEST = 0.5  # s below which a shortened frame shows no faint thing any more
LEAST_CONTRAST = 0.008  # ratio of a target's light to the sky's below which no count of frames brings it out
NEAR_MOON = 60.0  # degrees from the target within which the Moon is named with its distance


class TooBright(BadInput):
    """There is too much light for what is asked; the text says whose, and what would help."""


def sun_altitude(site: Site, t: Array) -> Array:
    """Altitude of the Sun in degrees at Unix times of one year."""
    e = eph.year_ephemeris(eph.year_of(float(t[0])))
    return eph.altitude(e.sun(t), e.gast(t), site)


def first_dark(site: Site, unix: float) -> float | None:
    """The first Unix time from ``unix`` on at which the Sun is 12 degrees down; None within a day and a
    half."""
    t = unix + np.arange(0.0, AHEAD, STEP)
    down = sun_altitude(site, t) < DARK
    return float(t[np.argmax(down)]) if down.any() else None


def dark_until(site: Site, unix: float) -> float | None:
    """When the Sun comes up to 12 degrees below the horizon after ``unix``; None when it does not within a
    day and a half, ``unix`` itself when it stands higher already."""
    t = unix + np.arange(0.0, AHEAD, STEP)
    up = sun_altitude(site, t) >= DARK
    return float(t[np.argmax(up)]) if up.any() else None


def next_in_the_dark(site: Site, unix: float, what: Target, days: int = 366) -> float | None:
    """Unix time, to 10 minutes, at which a target next stands over the horizon with the Sun 18 degrees under
    it; None when it does not within that number of days."""
    t = unix + np.arange(0, days * 86400, 600.0)
    turn = datetime(eph.year_of(unix) + 1, 1, 1, tzinfo=UTC).timestamp()
    for part in (t[t < turn], t[t >= turn]):
        if not part.size or eph.year_of(float(part[-1])) > eph.LAST_YEAR:
            continue
        up = position(site, eph.year_of(float(part[0])), part, what)[0] > 0
        dark = up & (sun_altitude(site, part) < NIGHT)
        if dark.any():
            return float(part[np.argmax(dark)])
    return None


def check_night(site: Site, unix: float, what: Target) -> None:
    """TooBright when a target that needs the night is asked for by day, with when it can begin."""
    if what.kind in SHINING:
        return
    sun = float(sun_altitude(site, np.array([float(unix)]))[0])
    if sun < BY_DAY:
        return
    where = f"{sun:.0f}° up" if sun > 0 else f"only {-sun:.0f}° down"
    at = datetime.fromtimestamp(unix, site.zone)
    dark = first_dark(site, unix)
    if dark is None:
        raise TooBright(
            f"At {at:%H:%M} the Sun is {where}, and this night does not get dark: it never stands "
            f"{-DARK:.0f}° below the horizon. Choose another month, or a place nearer the equator"
        )
    begins = datetime.fromtimestamp(dark, site.zone)
    day = "" if begins.date() == at.date() else f" on {begins.day} {begins:%B}"
    raise TooBright(
        f"At {at:%H:%M} the Sun is {where}: no star shows. It can begin at {begins:%H:%M}{day}, when the Sun "
        f"is {-DARK:.0f}° down ({site.tz})"
    )


@dataclass(frozen=True)
class Filled:
    """How a frame fits its sky: the level of the sky (1 is full), and a shutter that leaves it at 0.3."""

    level: float
    shutter: float

    @property
    def over(self) -> bool:
        """Whether the sky fills the frame."""
        return self.level > FULL


def filled(lens: Lens, brightness: float, iso: int, shutter: float) -> Filled:
    """How full a frame of ``shutter`` s at an ISO is of a sky in mag/arcsec^2."""
    rate = sky_rate(lens, brightness)
    return Filled(rate * shutter / lens.full_scale(iso), FITTING * lens.full_scale(lens.iso_min) / rate)


def who_lights(site: Site, at: Moment, what: Target) -> str:
    """What brightens the sky at a target most, and what would help."""
    cost = {name: at.cost.get(name, 0.0) for name in ("moon", "twilight", "towns")}
    most = max(cost, key=lambda name: cost[name])
    if most == "moon":
        return _moon(site, at, what)
    if most == "twilight":
        dark = first_dark(site, at.t)
        begins = "" if dark is None else f": wait until {datetime.fromtimestamp(dark, site.zone):%H:%M}"
        return f"the twilight lights it{begins}"
    return "the towns around light it: a darker site, or a target higher up, would help"


def _moon(site: Site, at: Moment, what: Target) -> str:
    t = at.t + np.arange(0.0, 12 * 3600.0, STEP)
    way = track(site, eph.year_of(at.t), t, what)
    apart = float(
        eph.separation(np.array([at.altitude]), np.array([at.azimuth]), way.moon_alt[:1], way.moon_az[:1])[0]
    )
    lit = f"{100 * float(way.illuminated[0]):.0f} % lit"
    where = (
        f"the Moon, {lit}, stands {apart:.0f}° from it" if apart < NEAR_MOON else f"the Moon, {lit}, is up"
    )
    down = np.flatnonzero(way.moon_alt < 0)
    good = [k for k in down if way.alt[k] > 5 and way.sun_alt[k] < DARK]
    if good:
        return f"{where}: wait until it is down, {datetime.fromtimestamp(float(t[good[0]]), site.zone):%H:%M}"
    return f"{where} all night long: choose an evening nearer new Moon"


def sky_along(site: Site, what: Target, t: Array) -> Array:
    """Brightness of the sky at a target in mag/arcsec^2 at Unix times of one night."""
    way = track(site, eph.year_of(float(t[0])), t, what)
    return np.array([m.brightness for m in moments(way, np.arange(len(t)))])


def fills_at(site: Site, what: Target, lens: Lens, iso: int, shutter: float, t: Array) -> float | None:
    """The first of Unix times at which the sky fills a frame; None when it never does."""
    full = [filled(lens, float(sky), iso, shutter).level >= 1.0 for sky in sky_along(site, what, t)]
    return float(t[int(np.argmax(full))]) if any(full) else None
