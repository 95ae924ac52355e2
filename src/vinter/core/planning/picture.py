"""A picture planned whole: a site, a minute, a lens and a kind of picture brought to settings, a pose,
figures and steps."""

from dataclasses import dataclass, field, replace

import numpy as np

from vinter.core.camera.exposure import OwnSettings
from vinter.core.camera.phones import Lens
from vinter.core.camera.projection import Pose
from vinter.core.errors import BadInput
from vinter.core.planning.light import (
    FITTING,
    FULL,
    LEAST_CONTRAST,
    SHINING,
    SHORTEST,
    Filled,
    TooBright,
    dark_until,
    filled,
    who_lights,
)
from vinter.core.planning.modes.basis import Basis, CardStep, Mode, ModePlan, StepKind
from vinter.core.planning.modes.registry import mode_of, plan_mode, values
from vinter.core.planning.shot import ShotPlan, dimmed_band, field_of_view, plan_shot
from vinter.core.sky.nights import Night
from vinter.core.sky.satellites import Pass
from vinter.core.sky.site import Site
from vinter.core.sky.sun_safety import check_sun, near_sun, sun_distance
from vinter.core.sky.targets import CORE, Target, target

SUN_STEP, SIDE_DEG = 300.0, 10.0  # seconds, degrees between samples of where the lens points and the Sun is


GROUND_DEG = 2.0  # degrees of ground that a picture with something on it must hold
FOR_THE_SKY = ("stack", "single", "arch")  # modes whose settings are for the sky at the target


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
    """Plan it; BadInput says what cannot be, and of a target that is down when it rises; TooBright whose
    light is in the way and what would help; SunTooNear when it would point within 20 degrees of a Sun above
    the horizon."""
    picture = _planned(wish)
    _check_subject(wish, picture)
    what, plan = picture.target, picture.plan
    if what.kind in SHINING or picture.mode.needs_pass:
        return picture
    found = filled(wish.lens, plan.at.brightness, picture.mode_plan.iso, picture.mode_plan.shutter)
    faint = picture.mode.of_a_stack and plan.at.contrast < LEAST_CONTRAST
    if not (found.over or faint) or wish.own.shutter is not None:
        return picture
    cause = who_lights(wish.site, plan.at, what)
    if faint or found.shutter < SHORTEST:
        raise TooBright(_too_bright(what, plan, found, cause, faint))
    shorter = _planned(replace(wish, own=replace(wish.own, shutter=round(found.shutter, 1))))
    words = (
        f"Shortened to {found.shutter:.1f} s: in {picture.mode_plan.shutter:g} s the sky of "
        f"{plan.at.brightness:.1f} mag/arcsec² would fill the frame, for {cause}."
    )
    advised = [r for r in shorter.mode_plan.reasons if not r.startswith("Your shutter")]
    return replace(shorter, mode_plan=replace(shorter.mode_plan, reasons=[words, *advised]))


def _too_bright(what: Target, plan: ShotPlan, found: Filled, cause: str, faint: bool) -> str:
    name = "the core" if what.key == CORE.key else what.name[:1].lower() + what.name[1:]
    light = f"The sky at {name} is too bright, {plan.at.brightness:.1f} mag/arcsec²: {cause}"
    full = f"a frame is full after {found.shutter * FULL / FITTING:.2g} s" if found.over else ""
    own = f"its own light is only {100 * plan.at.contrast:.1g} % of the sky's" if faint else ""
    facts = "; ".join(filter(None, (full, own)))
    return f"{light}. {facts[:1].upper()}{facts[1:]}"


def _check_subject(wish: Wish, picture: Picture) -> None:
    """BadInput when what the picture is of is not in the frame, or not what its settings are for."""
    mode, plan = picture.mode, picture.plan
    if picture.target.kind == "moon" and mode.key in FOR_THE_SKY:
        raise BadInput(
            "The Moon outshines the sky that these settings are for: plan it as “The Moon”, or choose what "
            "stands beside it as the target"
        )
    if not mode.needs_ground:
        return
    down = field_of_view(wish.lens, plan.portrait)[1]
    lowest = plan.pose.altitude - down / 2
    ground = float(wish.site.horizon.at(plan.pose.azimuth)) if wish.site.horizon else 0.0
    if lowest > ground - GROUND_DEG:
        tilt = ground - GROUND_DEG + down / 2
        raise BadInput(
            f"Nothing of the ground is in this frame: it begins {lowest:.0f}° up. Tilt it to "
            f"{max(tilt, 0):.0f}°, hold the phone upright, take a wider lens, or choose an hour when "
            f"{'the core' if picture.target.key == CORE.key else picture.target.name} stands lower"
        )


def _by_day(b: Basis, plan: ModePlan) -> ModePlan:
    """The plan with the Sun's caution before everything else, where it is up."""
    t, alt, az = (np.array([v]) for v in (b.at.t, b.at.altitude, b.at.azimuth))
    apart, up = sun_distance(b.site, t, alt, az)
    if not up[0]:
        return plan
    words = (
        f"The Sun is up, {apart[0]:.0f}° from the target. Stand where a wall or a roof hides it, so that it "
        "cannot come into lens, eyepiece or eye, and look for the target on the screen, not through the "
        "telescope."
    )
    step = CardStep("The Sun is up: stand in a shadow", f"{apart[0]:.0f}° away", StepKind.CAUTION)
    return replace(plan, cautions=[words, *plan.cautions], steps=[step, *plan.steps])


def _planned(wish: Wish) -> Picture:
    """The plan before its light is looked at."""
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
        target=what,
        dark_until=dark_until(wish.site, plan.at.t),
    )
    found = plan_mode(mode.key, basis, wish.options, passing)
    _check_sun_while_shooting(basis, found, what)
    found = _by_day(basis, found)
    return Picture(
        mode=mode,
        options=values(mode, wish.options),
        plan=replace(plan, pose=found.pose or plan.pose),
        mode_plan=found,
        target=what,
        start=wish.unix if found.start is None else found.start,
    )
