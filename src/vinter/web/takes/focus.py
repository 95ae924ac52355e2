"""Infinity learned from the stars of takes: what was set at which tick, and what the phone's lens makes of
it."""

from dataclasses import replace

import numpy as np
from django.utils import timezone

from vinter.core.camera.focus import FocusFit, FocusPoint, learned_infinity, next_tick, short_width
from vinter.core.camera.phones import Lens
from vinter.web.gear.models import Phone
from vinter.web.takes.models import Frame, Take

LEAST_STARS = 25
SHOWING = ("sky", "test")  # types of frames whose stars tell the focus
SCATTER = 0.1  # px, of the median width of one frame's stars
SOFT_TICKS = 1.5  # ticks of blur from which stars are soft and one tick to each side is tried


def points_of(phone: Phone, lens: str) -> list[FocusPoint]:
    """Widths of the stars of a phone's takes by the tick they were focused at, one a take and tick."""
    out = []
    takes = Take.objects.filter(shot__phone=phone, shot__lens=lens).select_related("shot__phone")
    for take in takes.prefetch_related("frame_set"):
        if take.shot and take.shot.optics:
            continue  # another resolution, or glass before the lens
        by_tick: dict[float, list[float]] = {}
        for frame in take.frame_set.all():
            tick = take.focused_at if frame.tick is None else frame.tick
            width = _width(frame)
            if tick is not None and width is not None:
                by_tick.setdefault(tick, []).append(width)
        out += [
            FocusPoint(tick, float(np.median(widths)), SCATTER / np.sqrt(len(widths)))
            for tick, widths in by_tick.items()
        ]
    return out


def _width(frame: Frame) -> float | None:
    """Width across the trail of a frame's stars; None where they do not tell."""
    m = frame.measure or {}
    if frame.frame_type not in SHOWING or m.get("stars", 0) < LEAST_STARS or m.get("kind") != "bayer":
        return None
    if not frame.included and frame.frame_type != "test":
        return None
    return short_width(m["fwhm_px"], m["elongation"]) if m.get("fwhm_px") else None


def learn_focus(take: Take) -> FocusFit | None:
    """Take over infinity as the stars of all takes of this phone's lens show it, when it is another than the
    lens has; not where its owner refused. The tick to try next is kept with the phone."""
    if take.shot is None or take.shot.optics:
        return None
    phone = Phone.objects.get(pk=take.shot.phone_id)
    name = take.shot.lens
    lens = phone.core().lens(name)
    points, before = points_of(phone, name), phone.learned.get(name, {})
    found, wanted = learned_infinity(points), next_tick(points)
    if wanted != before.get("next_tick"):
        before = before | {"next_tick": wanted}
        phone.learned = {**phone.learned, name: before}
        phone.save(update_fields=["learned"])
    if (
        found is None
        or before.get("refused")
        or abs(found.ticks - lens.infinity_ticks) <= max(0.5, found.error)
    ):
        return None
    take_over(phone, lens, found)
    return found


def take_over(phone: Phone, lens: Lens, found: FocusFit) -> None:
    """Store a learned infinity with what was there before."""
    words = f"infinity at {found.ticks:.1f} ± {found.error:.1f} ticks from the stars of your takes"
    others = [part for part in lens.measured.split("; ") if part and not part.startswith("infinity")]
    measured = "; ".join([*others, f"{words}, {timezone.now():%-d %b %Y}"])
    phone.learned = {
        **phone.learned,
        lens.name: {
            "before": lens.infinity_ticks,
            "ticks": found.ticks,
            "error": found.error,
            "words": words,
        },
    }
    phone.save(update_fields=["learned"])
    phone.store_lens(
        replace(lens, infinity_ticks=max(found.setting, 0), infinity_known=True, measured=measured)
    )
