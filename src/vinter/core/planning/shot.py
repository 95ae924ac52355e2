"""A shot: a site, a minute and a lens brought together into settings, a pose and the times that matter."""

from dataclasses import asdict, dataclass, field
from datetime import datetime

import numpy as np

from vinter.core.camera.exposure import BRIGHTEST_SKY, DARKEST_SKY, Exposure, OwnSettings, expose
from vinter.core.camera.frame_count import DARKER
from vinter.core.camera.phones import Lens
from vinter.core.camera.projection import Pose, View, east_north_up, project, view_of
from vinter.core.camera.shutter import USES
from vinter.core.camera.trailing import drift_map
from vinter.core.errors import BadInput
from vinter.core.planning.light import BY_DAY, SHINING, check_night, next_in_the_dark, sun_altitude
from vinter.core.sky.brightness import ray_airmass
from vinter.core.sky.ephemeris import year_of
from vinter.core.sky.nights import Moment, Night, moments
from vinter.core.sky.refraction import refraction
from vinter.core.sky.site import Site
from vinter.core.sky.sun_safety import check_sun
from vinter.core.sky.target_track import STAND_IN, track
from vinter.core.sky.targets import CORE, Target, position
from vinter.core.versions import Data, Schema

GROUND_SHARE = 0.16  # share of the frame's height that a level horizon leaves to the ground
NAMED_COST = 0.7  # mag from which the Moon or twilight is named as what drowns a target
HIGHEST_OFF = 0.3  # share of the frame's height that the core may stand above the centre


@dataclass(frozen=True, kw_only=True)
class ShotPlan:
    """Settings for a minute at a site, where to point, and minutes left in the window."""

    pose: Pose
    portrait: bool
    at: Moment
    exposure: Exposure
    minutes_left: float | None
    trail_grid: list[list[float]]
    in_frame: float | None = None  # minutes until the target leaves the standing frame
    trail_map: list[list[float]] = field(
        default_factory=list
    )  # px at the chosen shutter, 9 x 9 over the frame

    def data(self) -> Data:
        """Plain JSON data, with the version of their form."""
        return SHOT_PLAN.stamped(asdict(self))


SHOT_PLAN = Schema("shot plan")


def field_of_view(lens: Lens, portrait: bool) -> tuple[float, float]:
    """Width and height of the frame in degrees."""
    sides = (lens.height, lens.width) if portrait else (lens.width, lens.height)
    w, h = (float(2 * np.degrees(np.arctan(side / 2 / lens.focal_px))) for side in sides)
    return w, h


def aim(lens: Lens, portrait: bool, altitude: float, azimuth: float) -> Pose:
    """Point at the core's azimuth with a strip of ground below, higher only when the core would be cut."""
    height = field_of_view(lens, portrait)[1]
    level = height * (0.5 - GROUND_SHARE)
    return Pose(
        round(azimuth, 1), round(float(np.clip(max(level, altitude - HIGHEST_OFF * height), 0, 90)), 1)
    )


def declination(site: Site, altitude: float, azimuth: float) -> float:
    """Declination in degrees (of date, airless) of a direction over a site."""
    h, a, p = np.radians([altitude, azimuth, site.lat])
    return float(
        np.degrees(np.arcsin(np.clip(np.sin(h) * np.sin(p) + np.cos(h) * np.cos(p) * np.cos(a), -1, 1)))
    )


def darker_by(cost: dict[str, float]) -> str:
    """What would darken a sky most, by what its parts cost (mag): another site unless the Moon or the Sun
    costs more than the towns do."""
    most = max(("towns", "moon", "twilight"), key=lambda name: cost.get(name, 0.0))
    lost = cost.get(most, 0.0)
    if most == "moon" and lost >= NAMED_COST:
        return f"a time without the Moon, which costs {lost:.1f} mag here"
    if most == "twilight" and lost >= NAMED_COST:
        return f"a darker hour (twilight costs {lost:.1f} mag now)"
    return DARKER


def leaves_frame(site: Site, unix: float, what: Target, view: View, hours: float = 8.0) -> float | None:
    """Minutes until a target leaves a standing frame; None when it stays in for ``hours`` or is not in it."""
    t = unix + np.arange(0, hours * 3600, 60.0)
    alt, az = position(site, year_of(unix), t, what)
    x, y, front = project(view, east_north_up(alt + refraction(alt), az))
    inside = front & (x >= 0) & (x < view.width) & (y >= 0) & (y < view.height)
    if not inside[0] or inside.all():
        return None
    return float(np.argmin(inside))


def dimmed_band(site: Site, what: Target, altitude: float) -> float:
    """A target's own light as it reaches the camera, V mag/arcsec^2."""
    return (STAND_IN if what.surface is None else what.surface) + site.extinction * float(
        ray_airmass(altitude)
    )


def next_rise(site: Site, unix: float, what: Target, days: float = 2.0) -> float | None:
    """Unix time at which a target that is down comes over the horizon next, to the minute; None when it does
    not within that number of days."""
    t = unix + np.arange(0, days * 86400, 60.0)
    up = position(site, year_of(unix), t, what)[0] > 0
    return float(t[np.argmax(up)]) if up.any() else None


def below_horizon(site: Site, unix: float, what: Target, altitude: float) -> str:
    """What to say of a target that is down: how far, and when it rises."""
    name = "The core" if what.key == CORE.key else what.name
    rises = next_rise(site, unix, what)
    when = datetime.fromtimestamp(unix, site.zone)
    text = f"{name} is below the horizon at {when:%H:%M}, {-altitude:.0f}° under it"
    if rises is None:
        return f"{text}, and does not rise within two days"
    rise = datetime.fromtimestamp(rises, site.zone)
    day = "" if rise.date() == when.date() else f" on {rise.day} {rise:%B}"
    text += f"; it rises at {rise:%H:%M}{day} ({site.tz})"
    if what.kind in SHINING or sun_altitude(site, np.array([rises]))[0] < BY_DAY:
        return text
    dark = next_in_the_dark(site, rises, what)
    if dark is None:
        return f"{text}, by day, and stands in no dark sky within a year"
    then = datetime.fromtimestamp(dark, site.zone)
    return f"{text}, by day, and stands in a dark sky next on {then.day} {then:%B %Y} at {then:%H:%M}"


def plan_shot(
    site: Site,
    unix: float,
    lens: Lens,
    night: Night | None = None,
    use: str = "screen",
    portrait: bool = False,
    count: int | None = None,
    what: Target = CORE,
    pose: Pose | None = None,
    own: OwnSettings | None = None,
    direction: tuple[float, float] | None = None,
) -> ShotPlan:
    """Plan a shot of a target at a Unix time. ``use`` is one of post, screen, print (tolerance of trails).

    ``pose`` points the lens; without one it is aimed at the target with a strip of ground below. ``own`` is
    what the photographer sets; BadInput when the lens cannot do it, or when the target is down, with when it
    rises; TooBright by day, with when it can begin; SunTooNear within 20 degrees of a Sun above the horizon.
    ``direction`` (altitude, azimuth in degrees) stands for a target that no ephemeris knows.
    """
    if use not in USES:
        raise BadInput(f"use {use!r} is not one of {', '.join(USES)}")
    fixed = None if direction is None else tuple(np.array([v]) for v in direction)
    now = track(site, year_of(unix), np.array([float(unix)]), what, fixed)  # type: ignore[arg-type]
    at = moments(now, np.array([0]))[0]
    if at.altitude < 0:
        raise BadInput(below_horizon(site, unix, what, at.altitude))
    pose = pose or aim(lens, portrait, at.altitude, at.azimuth)
    aims = [(at.altitude, at.azimuth), (pose.altitude, pose.azimuth)]
    check_sun(site, unix, aims, None if direction else what)
    if direction is None:
        check_night(site, unix, what)
    view = view_of(lens, pose, portrait)
    lat = np.radians(site.lat)
    pole = view.axes @ np.array([0.0, np.cos(lat), np.sin(lat)])
    drifts = drift_map(lens.focal_px, view.width, view.height, pole)
    left = None
    for w in night.windows if night else []:
        if w.start <= unix <= w.end:
            left = (w.end - unix) / 60
    in_frame = None if direction else leaves_frame(site, unix, what, view)
    exposure = expose(
        lens,
        declination(site, at.altitude, at.azimuth),
        at.brightness if what.dark else float(np.clip(at.brightness, BRIGHTEST_SKY, DARKEST_SKY)),
        USES[use].tolerance_px,
        count,
        drifts,
        min((v for v in (left, in_frame or None) if v is not None), default=None),
        USES[use].output_px,
        own or OwnSettings(frames=count),
        dimmed_band(site, what, at.altitude),
        corners=USES[use].corners,
        darker=darker_by(at.cost),
    )
    grid = (drifts.rate[::4, ::4] * exposure.shutter.chosen).round(1).tolist()
    return ShotPlan(
        pose=pose,
        portrait=portrait,
        at=at,
        exposure=exposure,
        minutes_left=left,
        trail_grid=grid,
        in_frame=in_frame,
        trail_map=(drifts.rate * exposure.shutter.chosen).round(2).tolist(),
    )


def outside(view: View, site: Site, what: Target, times: list[float]) -> list[bool]:
    """Whether a target lies outside a standing frame at Unix times, the phone pointing as planned."""
    t = np.asarray(times, float)
    alt, az = position(site, year_of(float(t[0])), t, what)
    x, y, front = project(view, east_north_up(alt + refraction(alt), az))
    return [bool(v) for v in ~front | (x < 0) | (y < 0) | (x > view.width - 1) | (y > view.height - 1)]


NEAR_SECONDS = 86400.0  # frames farther from the planned minute were shot for something else


def target_gone(view: View, site: Site, what: Target, planned: float, times: list[float | None]) -> list[str]:
    """For each frame the doubt that the target had left it, by its Unix time and the planned pose; empty
    where there is none, the time is not known or lies a day or more from the ``planned`` minute."""
    near = [i for i, t in enumerate(times) if t is not None and abs(t - planned) < NEAR_SECONDS]
    out = [""] * len(times)
    if near:
        gone = outside(view, site, what, [t for i in near if (t := times[i]) is not None])
        for i, left in zip(near, gone, strict=True):
            out[i] = f"{what.name} had left the frame, if the phone pointed as planned" if left else ""
    return out
