"""Which lens, which resolution, with or without a clip-on: the same picture planned with each, side by
side."""

from collections.abc import Iterator
from dataclasses import dataclass, replace

import numpy as np

from vinter.core.camera.frame_count import GAP_SECONDS
from vinter.core.camera.optics import Optics, megapixels, raw_words, resolutions
from vinter.core.camera.phones import Lens, Phone
from vinter.core.camera.shutter import USES
from vinter.core.errors import BadInput
from vinter.core.planning.modes.registry import mode_of
from vinter.core.planning.picture import Wish, mode_target
from vinter.core.planning.shot import field_of_view, plan_shot

COMPARED_MINUTES = 10.0
CLIP_ON = 0.6  # factor of the usual wide clip-on lens
WIDE_F35 = 20.0  # mm; a clip-on is compared where the phone has a lens wider than this beside it


@dataclass(frozen=True, kw_only=True)
class Choice:
    """One way to take the picture: lens, resolution and clip-on, and what comes of it in ten minutes.

    ``field`` in degrees, ``shutter`` in s, trail in px of the file and of the finished picture (``seen_px``),
    signal to noise of the target in a pixel of the finished picture, gigabytes; ``raw`` in words.
    """

    lens: str
    resolution: str
    clip_on: float
    label: str
    field: tuple[float, float]
    pitch: float
    aperture: float
    shutter: float
    trail_px: float
    seen_px: float
    snr: float
    gigabytes: float
    raw: str
    remark: str = ""


def _ways(phone: Phone) -> Iterator[tuple[Lens, Optics]]:
    widest = min(phone.lenses.values(), key=lambda lens: lens.f35)
    for lens in phone.lenses.values():
        for key in resolutions(lens):
            yield lens, Optics(key)
    main = next(iter(phone.lenses.values()))
    if main.f35 > WIDE_F35 and main is not widest:
        yield main, Optics("", CLIP_ON)


def _choice(wish: Wish, lens: Lens, optics: Optics) -> Choice:
    used = optics.on(lens)
    what = mode_target(mode_of(wish.mode), wish.target)
    plan = plan_shot(wish.site, wish.unix, used, None, wish.use, wish.portrait, None, what)
    e, output = plan.exposure, USES[wish.use].output_px
    averaged = max(used.width / output, 1.0)
    count = COMPARED_MINUTES * 60 / (e.shutter.chosen + GAP_SECONDS)
    label = f"{lens.name}, {megapixels(used):.0f} MP"
    return Choice(
        lens=lens.name,
        resolution=optics.resolution,
        clip_on=optics.clip_on,
        label=label if optics.clip_on == 1 else f"{label}, {optics.clip_on:g}× clip-on",
        field=field_of_view(used, wish.portrait),
        pitch=used.pitch,
        aperture=used.aperture,
        shutter=e.shutter.chosen,
        trail_px=e.shutter.trail_px,
        seen_px=e.shutter.trail_px / averaged,
        snr=e.frames.snr_single * averaged * float(np.sqrt(count)),
        gigabytes=count * used.raw_megabytes / 1000,
        raw=raw_words(lens, optics.resolution),
        remark="corners suffer: take a frame of a wall first" if optics.clip_on != 1 else "",
    )


def choices(wish: Wish, phone: Phone) -> list[Choice]:
    """The picture with every lens and resolution of a phone, and its main lens behind a wide clip-on; ten
    minutes of frames each, at the shutter each allows. Empty where nothing can be planned."""
    plain = replace(wish, pose=None)
    try:
        return [_choice(plain, lens, optics) for lens, optics in _ways(phone) if lens.manual]
    except BadInput:
        return []
