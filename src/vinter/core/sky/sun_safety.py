"""Nothing is planned, drawn or pointed near a Sun above the horizon: eye, phone and telescope would be
burnt."""

from collections.abc import Sequence
from datetime import datetime

import numpy as np
import numpy.typing as npt

from vinter.core.errors import BadInput
from vinter.core.sky import ephemeris as eph
from vinter.core.sky.ephemeris import Array
from vinter.core.sky.nights import SUN_LEVELS
from vinter.core.sky.site import Site
from vinter.core.sky.targets import Target, position

LEAST_DEG = 20.0  # degrees from a Sun above the horizon within which nothing is aimed
SUN_RADIUS = 0.27  # degrees; a Moon nearer than two of them stands before it
LOWEST_DEG = 5.0  # degrees of altitude at which a target is up again for the next safe time
STEP, LOOK_AHEAD = 600.0, 800 * 86400.0  # seconds
MOON = "moon"


class SunTooNear(BadInput):
    """Something is asked for too near the Sun; the text says how near, and when it is safe."""


def sun_distance(site: Site, t: Array, alt: Array, az: Array) -> tuple[Array, npt.NDArray[np.bool_]]:
    """Angle in degrees (n,) from the Sun's centre to directions (airless altitude and azimuth, degrees) at
    Unix times (n,) of one year, and whether the Sun is above a flat horizon then (refraction and radius
    counted)."""
    e = eph.year_ephemeris(eph.year_of(float(t[0])))
    sun_alt, sun_az, _ = eph.horizontal(e.sun(t), e.gast(t), site)
    return eph.separation(alt, az, sun_alt, sun_az), np.asarray(sun_alt > SUN_LEVELS["horizon"])


def near_sun(site: Site, t: Array, alt: Array, az: Array) -> npt.NDArray[np.bool_]:
    """Whether directions (degrees, (n,)) lie within 20 degrees of a Sun above the horizon at Unix times
    (n,)."""
    apart, up = sun_distance(site, t, alt, az)
    return np.asarray(up & (apart < LEAST_DEG))


def next_safe(site: Site, unix: float, what: Target) -> float | None:
    """The first Unix time from ``unix`` on, to ten minutes, at which a target is 5 degrees up and not near
    the Sun; None when there is none within 800 days."""
    at, last = unix, unix + LOOK_AHEAD
    while at < last:
        year = eph.year_of(at)
        if year > eph.LAST_YEAR:
            return None
        t = np.arange(at, min(at + eph.MARGIN_DAYS * 86400.0, last), STEP)  # the year's curves reach as far
        alt, az = position(site, year, t, what)
        good = (alt > LOWEST_DEG) & ~near_sun(site, t, alt, az)
        if good.any():
            return float(t[np.argmax(good)])
        at = float(t[-1]) + STEP
    return None


def check_sun(
    site: Site, unix: float, aims: Sequence[tuple[float, float]], what: Target | None = None
) -> None:
    """SunTooNear when one of the directions (altitude, azimuth in degrees) lies within 20 degrees of a Sun
    above the horizon at a Unix time; ``what`` is the target, for its name and its next safe time."""
    alt, az = (np.array(v, float) for v in zip(*aims, strict=True))
    apart, up = sun_distance(site, np.full(len(alt), float(unix)), alt, az)
    if not (up & (apart < LEAST_DEG)).any():
        return
    nearest = float(apart.min())
    who = f"{what.name} stands" if what and apart[0] <= nearest + 0.05 else "the lens would point"
    safe = next_safe(site, unix, what) if what else None
    raise SunTooNear(f"{_sentence(who, nearest, what)} {_when(site, safe)}")


def _sentence(who: str, apart: float, what: Target | None) -> str:
    eclipse = (
        " This is an eclipse of the Sun: it needs filters made for that over every lens; read what an "
        "observatory or the authorities publish for your place."
        if what and what.key == MOON and apart < 2 * SUN_RADIUS
        else ""
    )
    return (
        f"{who[:1].upper()}{who[1:]} {apart:.1f}° from the Sun, which is up: refused. Nothing is "
        f"planned within {LEAST_DEG:.0f}° of it: eyes, phone and telescope would be burnt.{eclipse}"
    )


def _when(site: Site, safe: float | None) -> str:
    if safe is None:
        return "Choose another time or direction"
    at = datetime.fromtimestamp(safe, site.zone)
    return f"Next safe time: {at.day} {at:%B %Y, %H:%M} ({site.tz})"
