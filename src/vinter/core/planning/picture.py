"""A picture planned whole: a site, a minute, a lens and a kind of picture brought to settings, a pose,
figures and steps."""

from dataclasses import dataclass, field, replace

import numpy as np

from vinter.core.camera.exposure import OwnSettings
from vinter.core.camera.phones import Lens
from vinter.core.camera.projection import Pose
from vinter.core.planning.modes.basis import Basis, Mode, ModePlan
from vinter.core.planning.modes.registry import mode_of, plan_mode, values
from vinter.core.planning.shot import ShotPlan, dimmed_band, plan_shot
from vinter.core.sky.nights import Night
from vinter.core.sky.satellites import Pass
from vinter.core.sky.site import Site
from vinter.core.sky.sun_safety import check_sun, near_sun
from vinter.core.sky.targets import Target, target

SUN_STEP, SIDE_DEG = 300.0, 10.0  # seconds, degrees between samples of where the lens points and the Sun is


@dataclass(frozen=True, kw_only=True)
class Wish:
    """What a photographer asks for: where, when (Unix seconds), through which lens, of what, as which mode
    with which options, for which use, held and pointed how, and what is set by hand."""

    site: Site
    unix: float
    lens: Lens
    mode: str = "stack"
    options: dict[str, str | float] = field(default_factory=dict)
    target: Target
    night: Night | None = None
    use: str = "screen"
    portrait: bool = False
    pose: Pose | None = None
    own: OwnSettings = field(default_factory=OwnSettings)
    passing: Pass | None = None


@dataclass(frozen=True, kw_only=True)
class Picture:
    """What came of a wish: the mode and its options, the shot's plan and the mode's, target, start."""

    mode: Mode
    options: dict[str, float]
    plan: ShotPlan
    mode_plan: ModePlan
    target: Target
    start: float


def mode_target(mode: Mode, wanted: Target) -> Target:
    """What a mode points at: its own target, else the one that is wanted."""
    return target(mode.target) if mode.target else wanted


def _check_sun_while_shooting(b: Basis, plan: ModePlan, what: Target) -> None:
    """SunTooNear when the Sun comes over the horizon near where the lens points before the last frame
    ends."""
    start = b.unix if plan.start is None else plan.start
    pose = plan.pose or b.pose
    sides = np.arange(-plan.sweep / 2, plan.sweep / 2 + 1, SIDE_DEG) if plan.sweep else np.zeros(1)
    middle = b.at.azimuth if plan.sweep else pose.azimuth
    t = np.append(np.arange(start, start + 60 * plan.minutes, SUN_STEP), start + 60 * plan.minutes)
    for side in sides:
        azimuth = np.full(len(t), (middle + float(side)) % 360)
        near = near_sun(b.site, t, np.full(len(t), pose.altitude), azimuth)
        if near.any():
            check_sun(b.site, float(t[np.argmax(near)]), [(pose.altitude, float(azimuth[0]))])


def plan_picture(wish: Wish) -> Picture:
    """Plan it; BadInput says what cannot be, and of a target that is down when it rises; SunTooNear when it
    would point within 20 degrees of a Sun above the horizon."""
    mode = mode_of(wish.mode)
    what = mode_target(mode, wish.target)
    passing = wish.passing if mode.needs_pass else None
    plan = plan_shot(
        wish.site,
        passing.top if passing else wish.unix,
        wish.lens,
        wish.night,
        wish.use,
        wish.portrait or mode.upright,
        None,
        what,
        wish.pose if what == wish.target and passing is None else None,
        wish.own if mode.of_a_frame else OwnSettings(iso=wish.own.iso, shutter=wish.own.shutter),
        (passing.altitude, passing.azimuth) if passing else None,
    )
    basis = Basis(
        site=wish.site,
        unix=wish.unix,
        lens=wish.lens,
        portrait=plan.portrait,
        pose=plan.pose,
        at=plan.at,
        exposure=plan.exposure,
        use=wish.use,
        own=wish.own,
        band_mag=dimmed_band(wish.site, what, plan.at.altitude),
    )
    found = plan_mode(mode.key, basis, wish.options, passing)
    _check_sun_while_shooting(basis, found, what)
    return Picture(
        mode=mode,
        options=values(mode, wish.options),
        plan=replace(plan, pose=found.pose or plan.pose),
        mode_plan=found,
        target=what,
        start=wish.unix if found.start is None else found.start,
    )
