"""What the field card says to set and check, in the order of doing it."""

from collections.abc import Sequence

from vinter.core.camera.phones import Lens
from vinter.core.camera.projection import Pose

FIXED_KELVIN = 4200  # fixed for a sequence; cool enough that a phone does not drift blue or orange
DELAY_SECONDS = 3  # until the phone has stopped shaking


def spoken_shutter(seconds: float) -> str:
    """A shutter as a phone shows it."""
    return f"{seconds:g} s" if seconds >= 0.4 else f"1/{1 / seconds:.0f} s"


def checks(lens: Lens, iso: int, shutter: float, frames: int, pose: Pose, steps: Sequence[Sequence[str]] = ()) -> list[tuple[str, str]]:
    """Labels and values (empty where there is only something to do); shutter in s, pose in degrees; ``steps`` are the mode's own."""
    ticks = lens.infinity_ticks
    focus = ("Focus, back from the end mark", f"{ticks} ticks") if ticks else ("Focus, at the end mark", "infinity")
    return [(f"{lens.name.capitalize()} lens, RAW on", ""), ("Flash off, screen dim, no alerts", ""),
            ("Lens wiped, clamp off the buttons", ""), focus, ("ISO", f"{iso}"), ("Shutter", spoken_shutter(shutter)),
            ("White balance, fixed", f"{FIXED_KELVIN} K"),
            ("Delay", f"{DELAY_SECONDS} s"), ("Frames", f"{frames}"), ("Point to", f"az {pose.azimuth:.0f}° up {pose.altitude:.0f}°"),
            *((label, value) for label, value in steps)]
