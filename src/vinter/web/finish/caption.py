"""A line to put under a picture, from its record."""

from vinter.web.finish.models import Finish
from vinter.web.takes.models import Frame


def caption(one: Finish) -> str:
    """Title, phone, frames, shutter and ISO of a finish's picture; the place only as its owner calls it."""
    stack = one.stack
    shot, phone, report = stack.take.shot, stack.take.phone, stack.report or {}
    frame = Frame.everything.filter(pk__in=stack.frames).first()
    measure = (frame.measure or {}) if frame else {}
    many = int(report.get("frames_used") or len(stack.frames))
    seconds, iso = measure.get("exposure_s"), measure.get("iso")
    parts = [
        stack.take.title,
        f"{shot.phone.name}, {shot.core_lens.name} lens" if shot else phone.name if phone else "",
        (f"{many} × {seconds:g} s" if many > 1 else f"{seconds:g} s")
        if seconds
        else (f"{many} frames" if many > 1 else ""),
        f"ISO {iso}" if iso else "",
        "stacked" if many > 1 else "one frame",
    ]
    return " · ".join(p for p in parts if p)
