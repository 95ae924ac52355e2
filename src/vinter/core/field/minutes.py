"""What a card says at every ten minutes of a night, worked out before one leaves: where to point, what to
set, what stands where, and what comes next."""

from dataclasses import dataclass, replace

import numpy as np

from vinter.core.camera.projection import Pose
from vinter.core.errors import BadInput
from vinter.core.field.pointing import Mark, bent, by_hand, known_marks, seen
from vinter.core.field.times import short_name
from vinter.core.planning.picture import Wish, plan_picture
from vinter.core.sky.catalogue import to_horizon
from vinter.core.sky.galaxy import to_equatorial, unit
from vinter.core.sky.nights import Night, moments
from vinter.core.sky.target_track import track

STEP = 600.0  # s between the minutes of a card
BEFORE, AFTER = 2700.0, 2700.0  # s that a card reaches beyond the window, or beside the planned minute
LONGEST = 14 * 3600.0  # s of a card: a polar night is cut
BAND_STEP = 8.0  # degrees of galactic longitude between points of the band
LOWEST_BAND = -4.0  # degrees of altitude under which the band is not drawn
MOON_UP, DARK_SUN = -0.8, -18.0  # degrees of altitude


@dataclass(frozen=True)
class Settings:
    """What to set at a minute."""

    iso: int
    shutter: float
    frames: int


@dataclass(frozen=True)
class Minute:
    """A minute of the card; directions are (azimuth, altitude) in degrees as the air shows them, brightness
    in mag/arcsec^2 at the target. ``settings`` is None where nothing is planned then, ``why`` says why."""

    t: float
    pose: Pose
    settings: Settings | None
    why: str
    target: tuple[float, float]
    brightness: float
    moon: tuple[float, float]
    sun: float
    marks: list[Mark]
    band: list[tuple[float, float]]
    hands: str


@dataclass(frozen=True)
class Coming:
    """Something that happens at a Unix time, in a few words."""

    t: float
    words: str


def card_minutes(wish: Wish, planned: Pose, own_pose: bool) -> list[Minute]:
    """The minutes of a shot's card, every ten from before its window to after it.

    ``planned`` is the pose of the shot; where the photographer set it (``own_pose``) it stays whatever the
    hour, else the lens follows the target from the planned pose on.
    """
    night = wish.night
    assert night is not None
    start, end = _span(wish, night)
    t = np.arange(np.ceil(start / STEP) * STEP, end + 1, STEP)
    way = track(wish.site, night.day.year, t, wish.target)
    at = moments(way, np.arange(len(t)))
    ra, dec = to_equatorial(np.arange(0.0, 360.0, BAND_STEP), 0.0)
    band = unit(ra, dec)
    out = []
    for i, unix in enumerate(t):
        target = bent(float(way.alt[i]), float(way.az[i]))
        settings, aimed, why = _planned(wish, float(unix))
        pose = planned if own_pose or aimed is None else aimed
        marks = known_marks(wish.site, float(unix))
        points = [seen(v) for v in band @ to_horizon(wish.site, float(unix)).T]
        out.append(
            Minute(
                t=float(unix),
                pose=pose,
                settings=settings,
                why=why,
                target=target,
                brightness=at[i].brightness,
                moon=bent(float(way.moon_alt[i]), float(way.moon_az[i])),
                sun=float(way.sun_alt[i]),
                marks=marks,
                band=[p for p in points if p[1] > LOWEST_BAND],
                hands=by_hand(pose, marks),
            )
        )
    return out


def _span(wish: Wish, night: Night) -> tuple[float, float]:
    own = next((w for w in night.windows if w.start - BEFORE <= wish.unix <= w.end + AFTER), None)
    start, end = (own.start, own.end) if own else (wish.unix, wish.unix)
    start, end = min(start, wish.unix) - BEFORE, max(end, wish.unix) + AFTER
    return max(start, wish.unix - LONGEST / 2), min(end, wish.unix + LONGEST / 2)


def _planned(wish: Wish, unix: float) -> tuple[Settings | None, Pose | None, str]:
    """Settings and pose of the same wish at another minute, or why there are none."""
    try:
        found = plan_picture(replace(wish, unix=unix))
    except BadInput as error:
        return None, None, str(error)
    plan = found.mode_plan
    return Settings(plan.iso, plan.shutter, plan.frames), found.plan.pose, ""


def coming(wish: Wish) -> list[Coming]:
    """What happens in a night at its minutes, in order: the target rises, stands highest and sets behind the
    ground, the Moon comes and goes, it gets dark and dawns."""
    night = wish.night
    assert night is not None
    name = short_name(night.what)
    found = [
        *(Coming(t, "Moon rises") for t in night.moon["rise"]),
        *(Coming(t, "Moon sets") for t in night.moon["set"]),
        *(Coming(t, "dark: the Sun is 18° down") for t in night.sun["astronomical_dusk"]),
        *(Coming(t, "dawn: the Sun is 18° down") for t in night.sun["astronomical_dawn"]),
        *(Coming(t, "sunrise") for t in night.sun["rise"]),
        *(Coming(w.best.t, f"{name} at its best, {w.best.altitude:.0f}° up") for w in night.windows),
        *(Coming(w.start, "the window opens") for w in night.windows),
        *(Coming(w.end, "the window closes") for w in night.windows),
        *_behind(night, name),
    ]
    return sorted((c for c in found if night.start <= c.t <= night.end), key=lambda c: c.t)


def _behind(night: Night, name: str) -> list[Coming]:
    """When the target comes over the ground of the site and goes behind it."""
    strip = night.strip
    over = strip.alt > np.maximum(strip.ground, 0.0)
    dark = strip.sun_alt < 0
    steps = np.flatnonzero((over[1:] != over[:-1]) & dark[1:])
    ground = "the ground" if (strip.ground > 0.5).any() else "the horizon"
    return [
        Coming(
            float((strip.t[k] + strip.t[k + 1]) / 2),
            f"{name} comes over {ground}" if over[k + 1] else f"{name} goes behind {ground}",
        )
        for k in steps
    ]
