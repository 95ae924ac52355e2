"""A line to put under a picture, from its record."""

from vinter.core.versions import Data
from vinter.core.words import spoken_seconds
from vinter.web.finish.models import Finish
from vinter.web.stacks.models import Stack
from vinter.web.takes.models import Frame


def first_measure(stack: Stack) -> Data:
    """What was read from the first of a stack's frames; empty where nothing was."""
    frame = Frame.everything.filter(pk__in=stack.frames).first()
    return (frame.measure or {}) if frame else {}


def frames_in(stack: Stack) -> int:
    """The frames that went into a stack's picture."""
    return int((stack.report or {}).get("frames_used") or len(stack.frames) or 1)


def frames_by_shutter(many: int, seconds: float | None) -> str:
    """Frames and shutter in words: 40 × 10 s, 1/30 s, 12 frames."""
    if not seconds:
        return f"{many} frames" if many > 1 else ""
    shutter = spoken_seconds(float(f"{seconds:.3g}"))
    return f"{many} × {shutter}" if many > 1 else shutter


def caption(one: Finish) -> str:
    """Title, phone, frames, shutter and ISO of a finish's picture; the place only as its owner calls it."""
    stack = one.stack
    shot, phone, measure, many = stack.take.shot, stack.take.phone, first_measure(stack), frames_in(stack)
    iso = measure.get("iso")
    parts = [
        stack.take.title,
        f"{shot.phone.name}, {shot.core_lens.name} lens" if shot else phone.name if phone else "",
        frames_by_shutter(many, measure.get("exposure_s")),
        f"ISO {iso}" if iso else "",
        "stacked" if many > 1 else "one frame",
    ]
    return " · ".join(p for p in parts if p)
