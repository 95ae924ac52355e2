"""What the field card says to set and check, in the order of doing it."""

from collections.abc import Sequence
from dataclasses import dataclass

from vinter.core.camera.frame_count import GAP_SECONDS
from vinter.core.camera.phones import Lens
from vinter.core.camera.projection import Pose
from vinter.core.camera.white_balance import FIXED_KELVIN
from vinter.core.ground.magnetic import Declination
from vinter.core.planning.modes.basis import DELAY_SECONDS, CardStep, StepKind, spoken_shutter


def checks(
    lens: Lens,
    iso: int,
    shutter: float,
    frames: int,
    pose: Pose,
    steps: Sequence[CardStep] = (),
    framing: tuple[float, int] | None = None,
    delay: float = DELAY_SECONDS,
    north: Declination | None = None,
) -> list[tuple[str, str]]:
    """Labels and values (empty where there is only something to do); shutter in s, pose in degrees; ``steps``
    are the mode's own (its cautions stand first), ``framing`` the shutter and ISO of a frame for the
    composition, ``north`` how a compass points there."""
    ticks = lens.infinity_ticks
    focus = (
        ("Focus: infinity not known yet, find it on a bright star", "")
        if not lens.infinity_found
        else ("Focus, back from the end mark", f"{ticks} ticks")
        if ticks
        else ("Focus, at the end mark", "infinity")
    )
    first = [(step.label, step.value) for step in steps if step.kind == StepKind.CAUTION]
    return [
        *first,
        (f"{lens.name.capitalize()} lens, RAW on", ""),
        ("Flash off, screen dim, no alerts", ""),
        ("Lens wiped, clamp off the buttons", ""),
        focus,
        *([("Framing shot first", f"{framing[0]:g} s, ISO {framing[1]}")] if framing else []),
        ("Then ISO" if framing else "ISO", f"{iso}"),
        ("Shutter", spoken_shutter(shutter)),
        ("White balance, fixed", f"{FIXED_KELVIN} K"),
        ("Delay", f"{delay:g} s"),
        ("Frames", f"{frames}"),
        ("Point to", f"az {pose.azimuth:.0f}° up {pose.altitude:.0f}°"),
        *([("A compass shows", f"{north.compass(pose.azimuth):.0f}°")] if north else []),
        *((step.label, step.value) for step in steps if step.kind != StepKind.CAUTION),
    ]


@dataclass(frozen=True)
class Timing:
    """What the shot timer counts, in s: the wait before the first frame, exposure, gap, frames, and how long
    the lamp is on."""

    delay: float
    exposure: float
    gap: float
    frames: int
    lamp: float


def timing(
    shutter: float,
    frames: int,
    interval: float | None,
    steps: Sequence[CardStep] = (),
    delay: float = DELAY_SECONDS,
) -> Timing:
    """The timer of a shot: a mode's own interval, else the phone's pause; the lamp's time stands in the
    mode's steps."""
    lamp = next((step.seconds for step in steps if step.kind == StepKind.LAMP), 0.0)
    gap = round(max((interval or shutter + GAP_SECONDS) - shutter, 0), 2)
    return Timing(delay, shutter, gap, frames, lamp)


def plan_b(window_ends: str | None, instead: str) -> str:
    """What to do when cloud comes: wait on the window's end (a clock time), or ``instead``, as the mode has
    it."""
    until = f"wait until {window_ends}, or " if window_ends else ""
    return f"Cloud? {until}{instead}; then go home."
