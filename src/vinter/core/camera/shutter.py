"""How long a frame may be: the dial, what trails in the worst place, and what the rules would set."""

from dataclasses import dataclass, field

from vinter.core.camera.phones import Lens
from vinter.core.camera.trailing import (
    DriftMap,
    drift,
    npf_full,
    npf_simple,
    rule_divisor,
)
from vinter.core.errors import BadInput

ULTRA_WIDE = 1.25  # ratio of the extreme corner's drift to the middle's from which both shutters are told
SHUTTERS = (0.5, 1, 2, 3, 4, 5, 6, 8, 10, 13, 15, 20, 25, 30, 40, 60)


@dataclass(frozen=True)
class Use:
    """What a picture is for: its name, how many px a star may drift in the worst corner, and the px of its
    longer side as it is seen, by which the noise of several pixels of the frame is averaged; and whether the
    extreme corners of an ultra-wide count, or only the middle 80 % of its frame."""

    name: str
    tolerance_px: float
    output_px: int = 2560
    corners: bool = False

    @property
    def label(self) -> str:
        """Name and tolerance, to choose by."""
        return f"{self.name} ({self.tolerance_px:g} px of trail)"


# on a screen the corners of an ultra-wide are small and often ground; a print is looked at everywhere
USES = {
    "post": Use("Phone-sized post", 8.0, 1350),
    "screen": Use("Large screen", 4.0, 2560),
    "print": Use("Print", 2.0, 5000, corners=True),
}


@dataclass(frozen=True)
class Opinion:
    """What a school would set and how it compares: ``agrees`` when it lands within our slack."""

    name: str
    value: float
    agrees: bool
    words: str


@dataclass(frozen=True, kw_only=True)
class Shutter:
    """Limits in s, drift in px/s (in the worst place, and in the middle 80 % of the frame) and the shutter
    chosen; of an ultra-wide both shutters, by its extreme corner and by its middle (0 for other lenses)."""

    rule_500: float
    npf_simple: float
    npf_full: float
    drift_px_s: float
    worst_px_s: float
    worst_place: str
    tolerance_px: float
    chosen: float
    trail_px: float
    schools: list[Opinion] = field(default_factory=list)
    inner_px_s: float = 0.0
    by_corner: float = 0.0
    by_middle: float = 0.0
    corners: bool = True

    @property
    def judged_px_s(self) -> float:
        """Drift in px/s in the worst place that counts for this use."""
        return self.inner_px_s if self.by_middle > 0 and not self.corners else self.worst_px_s


def _step_down(seconds: float) -> float:
    """The longest shutter on the dial that is not longer; below half a second the value itself."""
    fitting = [s for s in SHUTTERS if s <= seconds * (1 + 1e-9)]
    return float(fitting[-1]) if fitting else round(seconds, 3)


def choose_shutter(
    lens: Lens, declination: float, tolerance_px: float, drifts: DriftMap, corners: bool = True
) -> Shutter:
    """The longest dial step whose trail stays within the tolerance (px) in the worst place of the frame; of
    an ultra-wide, unless its ``corners`` count, in the middle 80 % of it."""
    if tolerance_px <= 0:
        raise BadInput(f"tolerance-px {tolerance_px:g} must be above 0")
    by_corner, by_middle = (
        _step_down(min(tolerance_px / rate, lens.shutter_max)) for rate in (drifts.worst, drifts.inner)
    )
    wide = drifts.worst >= ULTRA_WIDE * drifts.inner and by_middle > by_corner
    chosen = by_middle if wide and not corners else by_corner
    rules = {f"{d} rule": rule_divisor(lens.f35, d) for d in (300, 400, 500, 600)}
    rules["NPF rule, short"] = npf_simple(lens.aperture, lens.pitch, lens.focal)
    for k, word in ((1, "pinpoint"), (2, "small"), (3, "visible")):
        rules[f"NPF rule, full, {word}"] = npf_full(lens.aperture, lens.pitch, lens.focal, declination, k)
    rules["the phone's longest"] = lens.shutter_max
    opinions = [
        Opinion(
            name,
            seconds,
            seconds * drifts.worst <= tolerance_px * 1.05,
            f"{seconds:.1f} s trails {seconds * drifts.worst:.1f} px",
        )
        for name, seconds in rules.items()
    ]
    return Shutter(
        rule_500=rules["500 rule"],
        npf_simple=rules["NPF rule, short"],
        npf_full=npf_full(lens.aperture, lens.pitch, lens.focal, declination),
        drift_px_s=drift(lens.pitch, lens.focal, declination),
        worst_px_s=drifts.worst,
        worst_place=drifts.worst_place,
        tolerance_px=tolerance_px,
        chosen=chosen,
        trail_px=chosen * drifts.worst,
        schools=opinions,
        inner_px_s=drifts.inner,
        by_corner=by_corner if wide else 0.0,
        by_middle=by_middle if wide else 0.0,
        corners=corners,
    )
