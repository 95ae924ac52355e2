"""A test shot judged in the field: what it shows, and the ONE thing to change before the next."""

from dataclasses import dataclass

from vinter.core.camera.iso import HUMP_LIMIT, IsoCosts
from vinter.core.camera.phones import Lens
from vinter.core.camera.photons import encoded
from vinter.core.camera.shutter import SHUTTERS
from vinter.core.frames.measure import Measure
from vinter.core.words import count_of

TOO_NOISY = 0.10  # share of the noise at the best ISO: from here read noise is worth another test shot
SOFT_PX = 4.4  # FWHM of stars above which focus is off
TYPICAL = 0.7  # share of the worst corner's drift that the median star of a frame shows
SHAKE_RATIO = 1.8  # ratio of the trail to the longest that the sky alone explains
CLIPPED = 0.01
LINEAR_OF_ENCODED = 2.2


@dataclass(frozen=True)
class Advice:
    """What the shot shows in a few figures, and one sentence with one change; ``good`` when nothing need
    change."""

    good: bool
    sentence: str
    change: str
    figures: list[tuple[str, str]]


def _figures(m: Measure, level: float) -> list[tuple[str, str]]:
    return [
        ("Hump of the sky", f"{100 * encoded(level):.0f} % of the histogram"),
        ("Stars", f"{m.stars}"),
        ("Star width", f"{m.fwhm_px:.1f} px"),
        ("Trail", f"{m.trail_px:.1f} px"),
        ("Clipped", f"{100 * m.clipped_fraction:.2f} %"),
    ]


def _shorter(seconds: float) -> float:
    fitting = [s for s in SHUTTERS if s < seconds * 0.75]
    return float(fitting[-1]) if fitting else seconds / 2


def sky_level(m: Measure, linear: bool) -> float:
    """Linear level of the sky; roughly, by the usual power, of a picture that a phone developed by a curve of
    its own."""
    return m.background if linear else float(max(m.background, 0.0) ** LINEAR_OF_ENCODED)


def advise(
    m: Measure, lens: Lens, drift_px_s: float, tolerance_px: float, level: float | None = None
) -> Advice:
    """The one next change after a test shot. ``drift_px_s`` is the sky's own in the worst corner; ``level``
    the sky's linear level, by default the measure's background.

    In the order of what ruins most: no stars, glow, trails or shake, focus, darkness.
    """
    level = m.background if level is None else level
    figures = _figures(m, level)
    seconds, iso = m.exposure_s or 0.0, m.iso or 0

    def change(sentence: str, what: str) -> Advice:
        return Advice(False, sentence, what, figures)

    if m.stars < 20:
        if level > 0.3:
            return change(
                f"The sky is white ({100 * encoded(level):.0f} % of the histogram) and hides the stars.",
                f"ISO {max(iso // 4, lens.iso_min)}",
            )
        return change(
            f"Only {count_of(m.stars, 'star')}: focus far off, a covered lens or cloud.",
            f"focus {lens.infinity_ticks} ticks back from the end mark"
            if lens.infinity_found
            else "focus: step back from the end mark until a bright star is smallest",
        )
    expected = drift_px_s * seconds * TYPICAL
    if level > HUMP_LIMIT * 1.15:
        target = max(int(iso * HUMP_LIMIT * 0.6 / level), lens.iso_min) if iso else 0
        if target and target < iso:
            step = max(
                s for s in (lens.iso_min, *(50 * 2**i for i in range(10))) if s <= max(target, lens.iso_min)
            )
            return change(
                f"The sky peak of the histogram is at {100 * encoded(level):.0f} %: stars and glow "
                "lose their headroom.",
                f"ISO {step}",
            )
        return change(
            f"The sky peak of the histogram is at {100 * encoded(level):.0f} % at the lowest ISO.",
            f"shutter {_shorter(seconds):g} s",
        )
    if m.trail_px > max(tolerance_px * TYPICAL * 1.1, 2.5) and m.elongation > 1.35:
        if seconds and m.trail_px > SHAKE_RATIO * max(expected, 1.0):
            return change(
                f"Stars are drawn out by {m.trail_px:.0f} px where the sky alone moves them {expected:.0f}: "
                "the phone shook.",
                "delay 3 s, and tighten the clamp",
            )
        corner = m.trail_px / TYPICAL
        return change(
            f"Stars trail {m.trail_px:.0f} px, about {corner:.0f} in the worst corner; you allow "
            f"{tolerance_px:g} there.",
            f"shutter {_shorter(seconds):g} s",
        )
    if m.fwhm_px > SOFT_PX:
        return change(
            f"Stars are {m.fwhm_px:.1f} px wide where sharp ones are under 3: focus is off.",
            "focus one tick, then look again",
        )
    if m.clipped_fraction > CLIPPED:
        return change(
            f"{100 * m.clipped_fraction:.1f} % of the picture is clipped: a lamp or the Moon is in it.",
            "turn the frame or cover the lamp",
        )
    if iso and (costs := IsoCosts(lens, level * lens.full_scale(iso), seconds)).excess(iso) > TOO_NOISY:
        return change(
            f"The sky peak of the histogram is at {100 * encoded(level):.0f} %: read noise adds "
            f"{100 * costs.excess(iso):.0f} % to the noise of ISO {costs.lowest}.",
            f"ISO {costs.lowest}",
        )
    return Advice(
        True,
        f"Good: sky peak at {100 * encoded(level):.0f} %, stars {m.fwhm_px:.1f} px wide, "
        f"trail {m.trail_px:.1f} "
        "px. Shoot the real frames.",
        "nothing",
        figures,
    )
