"""The coach: judges a rehearsal's picture by measuring it as any frame, and explains in one sentence with a
figure."""

from dataclasses import dataclass
from pathlib import Path

import numpy as np

from vinter.core.camera.iso import IsoCosts
from vinter.core.camera.phones import Lens
from vinter.core.camera.photons import encoded, srgb
from vinter.core.camera.trailing import drift_map
from vinter.core.field.check import Advice, advise
from vinter.core.frames.frame import Frame
from vinter.core.frames.measure import Measure
from vinter.core.frames.measuring import measure
from vinter.core.frames.metadata import Metadata
from vinter.core.frames.raw import colour_from
from vinter.core.rehearse.exercises import Exercise
from vinter.core.simulate.modes import Shown
from vinter.core.words import count_of

HISTOGRAM_BINS = 64
DROWNED = 0.20  # share that read noise may add to the sky's own noise: more costs half as many frames again
LONG_ENOUGH = 0.6  # share of the shutter that the stars bear from which no longer one is asked for
REHEARSED = 1.25  # factor on the trail a real picture may have: a rehearsal tries settings in whole steps


def as_frame(shown: Shown) -> Frame:
    """A press as a frame that was read from a file."""
    info, burst = shown.info, shown.burst
    kind = "bayer" if shown.settings.raw and not shown.settings.automatic else "linear"
    meta = Metadata(
        make=burst.make,
        model=burst.model,
        iso=burst.iso,
        exposure_s=burst.shutter,
        aperture=burst.lens.aperture,
        focal_mm=burst.lens.focal,
        f35=burst.lens.f35,
        time=burst.start,
    )
    colour = colour_from(np.array(info.neutral), np.array(info.matrix).reshape(3, 3))
    return Frame(
        path=Path("rehearsal.dng"),
        kind=kind,
        data=shown.mosaic,
        pattern=np.array([[0, 1], [1, 2]]),
        black=np.full((2, 2), float(info.black)),
        white=float(info.white),
        colour=colour,
        meta=meta,
    )


def worst_drift(shown: Shown) -> float:
    """The sky's fastest drift in the frame, px/s."""
    from vinter.core.simulate.phone import SimulatedPhone

    view, lat = SimulatedPhone(shown.burst).view, np.radians(shown.burst.site.lat)
    pole = view.axes @ np.array([0.0, np.cos(lat), np.sin(lat)])
    return drift_map(view.focal_px, view.width, view.height, pole).worst


def histogram(shown: Shown) -> list[int]:
    """Counts of the encoded levels of the picture's greens, in 64 bins, as a phone would show them."""
    span = shown.info.white - shown.info.black
    shown_level = srgb((shown.mosaic[::4, 1::4].astype(float) - shown.info.black) / span)
    return [int(n) for n in np.histogram(shown_level, HISTOGRAM_BINS, (0, 1))[0]]


@dataclass(frozen=True)
class Judgement:
    """Whether it passes, the coach's sentence, what to change, and the measure behind it."""

    passed: bool
    sentence: str
    change: str
    figures: list[tuple[str, str]]
    measure: Measure


def _said(advice: Advice, m: Measure, passed: bool = False) -> Judgement:
    return Judgement(passed, advice.sentence, advice.change, advice.figures, m)


def judge(
    shown: Shown,
    lens: Lens,
    trail: float = 5.0,
    width: float = 4.0,
    brightest: float = 0.14,
    framing: bool = False,
) -> Judgement:
    """Judge a press: allowed trail and star width in px, linear level of the sky below ``brightest``; a
    ``framing`` shot may be noisy."""
    frame = as_frame(shown)
    m = measure(frame)
    settings = shown.settings
    if settings.automatic:
        minutes = settings.automatic
        advice = Advice(
            False,
            f"The automatic mode merged {minutes * 60 / 15:.0f} frames into one file: nothing can be left "
            "out, and trails made "
            f"of such files would be dashes {minutes:.0f} minutes apart.",
            "manual mode, RAW on",
            [],
        )
        return Judgement(False, advice.sentence, advice.change, advice.figures, m)
    if not settings.raw:
        return Judgement(
            False,
            "JPEG only: 8 bits of 12, noise already smoothed. The stack and the edit need RAW.",
            "RAW on",
            [],
            m,
        )
    drift = worst_drift(shown)
    advice = advise(m, lens, drift, trail)
    if not advice.good:
        return _said(advice, m)
    if m.fwhm_px > width:
        return _said(
            Advice(
                False,
                f"Stars are {m.fwhm_px:.1f} px wide; the sharpest tick gives under {width:g}.",
                "focus one tick on",
                advice.figures,
            ),
            m,
        )
    if not framing and (dim := _dim(m, lens, trail / max(drift, 1e-6))):
        return _said(Advice(False, dim, "a longer shutter", advice.figures), m)
    if m.background > brightest:
        return _said(
            Advice(
                False,
                f"The sky stands at {100 * encoded(m.background):.0f} % of the histogram and leaves stars "
                "no headroom.",
                "less ISO",
                advice.figures,
            ),
            m,
        )
    return _said(advice, m, True)


def _dim(m: Measure, lens: Lens, bears: float) -> str:
    """What read noise costs where the stars bear (``bears`` s) a longer shutter; else nothing."""
    seconds, iso = m.exposure_s or 0.0, m.iso or lens.iso_min
    adds = IsoCosts(lens, m.background * lens.full_scale(iso), seconds).read_noise_adds(iso)
    longest = min(bears, lens.shutter_max)
    if adds <= DROWNED or seconds > LONG_ENOUGH * longest:
        return ""
    frames = (1 + adds) ** 2
    return (
        f"Read noise adds {100 * adds:.0f} % to the sky's own: that is {frames:.1f} times the frames. "
        f"The stars bear {longest:.0f} s."
    )


def judge_exercise(shown: Shown, one: Exercise) -> Judgement:
    """Judge a press by an exercise's own limits; on a night to leave no frame passes."""
    found = judge(shown, one.the_lens, one.trail, one.width, one.brightest, one.framing)
    if one.leave:
        sentence = (
            f"{count_of(found.measure.stars, 'star')}, {found.measure.fwhm_px:.1f} px wide: every setting "
            "gives the same veil."
        )
        return Judgement(
            False, sentence, "try one thing, then decide whether to stay", found.figures, found.measure
        )
    return found
