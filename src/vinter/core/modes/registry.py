"""All modes by key, and planning with one of them."""

from functools import partial

from vinter.core.camera.exposure import burst_minutes
from vinter.core.errors import BadInput
from vinter.core.modes.basis import Basis, Mode, ModePlan, Option
from vinter.core.modes.bodies import PLANETS, moon, planet, station
from vinter.core.modes.moving import timelapse, tracked, trails
from vinter.core.modes.standing import arch, focus_pair, ground, lamp, single, stack
from vinter.core.sky.satellites import Pass

_N = Option("frames", "Frames", 30, 1, 500)
_HOURS = Option("hours", "Hours", 1.5, 0.1, 14)
MODES: dict[str, Mode] = {
    m.key: m
    for m in (
        Mode(
            "stack",
            "Stack of frames",
            (Option("automatic", "Compared with an automatic mode of, min", 4, 0.5, 20),),
            stack,
        ),
        Mode("single", "Single frame", (Option("snr", "Wanted signal to noise", 5, 1, 100),), single),
        Mode(
            "arch",
            "Panorama of the arch",
            (Option("each", "Frames at each place", 3, 1, 30), Option("turn", "Seconds to turn", 8, 1, 60)),
            arch,
        ),
        Mode(
            "focus-pair",
            "Near subject and stars, both sharp",
            (Option("distance", "Subject at, m", 2, 0.1, 100),),
            focus_pair,
        ),
        Mode(
            "lamp",
            "Lamp-lit ground",
            (
                Option("distance", "Lamp to ground, m", 8, 0.3, 200),
                Option("lumen", "Lamp, lm (dimmed)", 3, 0.1, 20000),
                Option("cone", "Its cone, °", 60, 5, 180),
            ),
            lamp,
        ),
        Mode(
            "ground",
            "Separate ground exposure",
            (
                Option("longest", "Longest shutter, s", 30, 1, 600),
                Option("snr", "Wanted signal to noise", 3, 0.5, 50),
            ),
            ground,
        ),
        Mode("trails", "Star trails", (_HOURS, Option("gap", "Gap between frames, s", 1, 0, 60)), trails),
        Mode(
            "timelapse",
            "Time-lapse",
            (
                _HOURS,
                Option("interval", "Interval, s", 15, 1, 600),
                Option("fps", "Frames a second", 25, 5, 60),
            ),
            timelapse,
        ),
        Mode(
            "tracked",
            "On a star tracker",
            (
                Option("alignment", "Pole missed by, ′", 20, 0.5, 300),
                Option("periodic", "Periodic error, ″", 40, 0, 600),
                Option("payload", "It carries, g", 1000, 50, 20000),
                Option("mass", "Phone and clamp, g", 350, 50, 5000),
                Option("longest", "Longest the phone allows, s", 60, 1, 3600),
                Option("minutes", "Minutes in all", 30, 1, 300),
            ),
            tracked,
        ),
        Mode("moon", "The Moon", (_N,), moon),
        *(
            Mode(
                f"planet-{key}",
                f"{key.capitalize()} through an eyepiece",
                (
                    Option("aperture", "Telescope aperture, mm", 114, 20, 1000),
                    Option("focal", "Its focal length, mm", 900, 100, 6000),
                    Option("eyepiece", "Eyepiece, mm", 10, 2, 60),
                    Option("mass", "Phone, g", 200, 50, 1000),
                    _N,
                ),
                partial(planet, key=key),
            )
            for key in PLANETS
        ),
        Mode("station", "Space-station pass", (), station),
    )
}


def values(mode: Mode, given: dict[str, str | float]) -> dict[str, float]:
    """A mode's options from text, each within its bounds; BadInput names the one that is not."""
    out = {}
    for option in mode.options:
        text = given.get(option.key, "")
        try:
            value = option.default if text in ("", None) else float(text)
        except ValueError as error:
            raise BadInput(f"{option.label}: {text!r} is not a number") from error
        if not option.low <= value <= option.high:
            raise BadInput(f"{option.label}: {value:g} is not within {option.low:g} to {option.high:g}")
        out[option.key] = value
    return out


def plan_mode(key: str, basis: Basis, given: dict[str, str | float], found: Pass | None = None) -> ModePlan:
    """The plan of a mode by its key; ``found`` is the pass for the station."""
    if key not in MODES:
        raise BadInput(f"mode {key!r} is not one of {', '.join(MODES)}")
    mode = MODES[key]
    options = values(mode, given)
    return station(basis, options, found) if key == "station" else mode.plan(basis, options)


BALANCE = (
    (
        "Cool it in the camera, 4000 to 4400 K",
        "fixed, so frames match; a dark sky comes out neutral to blue",
        True,
    ),
    ("Tungsten preset (about 3200 K)", "deep blue; strong glow turns magenta", False),
    (
        "Warm it, because phones drift blue",
        "5500 K keeps airglow and the core's own warmth; glow turns orange",
        False,
    ),
    (
        "Automatic, because RAW does not care",
        "true for single RAW frames; in a sequence JPEG previews and clips flicker",
        False,
    ),
)


def total_minutes(plan: ModePlan) -> float:
    """Minutes of a plan, at least those of the bare burst."""
    return max(plan.minutes, burst_minutes(plan.frames, plan.shutter))
