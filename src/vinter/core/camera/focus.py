"""Focus: from where on everything is sharp, and where on the slider infinity lies."""

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from vinter.core.camera.phones import Lens
from vinter.core.errors import BadInput

LEAST_TICKS = 3
WIDTH_FLOOR = 0.05  # px, by which widths of one lens differ from night to night
SURE_TICKS = 0.6  # ticks, largest error of an infinity that is taken over
GROWTH_SIGMA = 3.0  # standard errors by which star widths must grow
CIRCLE_PX = 2.0  # px, blur that still counts as sharp at full size


def hyperfocal(lens: Lens, circle_px: float = CIRCLE_PX) -> float:
    """Hyperfocal distance f^2/(N c) + f in metres: focused at infinity, all beyond it is within ``circle_px``
    of blur."""
    circle_mm = circle_px * lens.pitch / 1000
    return (lens.focal**2 / (lens.aperture * circle_mm) + lens.focal) / 1000


def blur_px(lens: Lens, distance: float) -> float:
    """Blur in px of something at a distance in metres when the lens is focused at infinity."""
    return lens.focal**2 / (lens.aperture * distance * 1000) / (lens.pitch / 1000)


@dataclass(frozen=True)
class FocusPoint:
    """Stars at a focus tick: their width across the way they trailed (FWHM, px) and its error."""

    tick: float
    width: float
    error: float


@dataclass(frozen=True)
class FocusFit:
    """Infinity on the slider: ticks back from the end mark, its error, and the star width (px) there."""

    ticks: float
    error: float
    width: float

    @property
    def setting(self) -> int:
        """The tick to set."""
        return round(self.ticks)


def fit_infinity(ticks: Sequence[float], widths: Sequence[float]) -> FocusFit:
    """Infinity from star widths (FWHM, px) at focus ticks: width^2 = a (tick - t0)^2 + c, by least squares.

    BadInput with fewer than four different ticks, or when the smallest width is not bracketed.
    """
    t, w = np.asarray(ticks, float), np.asarray(widths, float)
    good = np.isfinite(t) & np.isfinite(w) & (w > 0)
    t, w = t[good], w[good]
    if len(np.unique(t)) < 4:
        raise BadInput("infinity needs star widths at four different ticks at least")
    (a, b, c), covariance = np.polyfit(t, w**2, 2, cov="unscaled")
    if a <= 0:
        raise BadInput(
            "the stars do not grow away from a sharpest tick: take a wider sweep, on brighter stars"
        )
    place = -b / (2 * a)
    if not t.min() <= place <= t.max():
        raise BadInput(f"the sharpest tick ({place:.1f}) lies outside the sweep: extend it to that side")
    scatter = float(np.sqrt(np.sum((np.polyval((a, b, c), t) - w**2) ** 2) / max(len(t) - 3, 1)))
    slope = np.array([b / (2 * a * a), -1 / (2 * a), 0.0])
    error = scatter * float(np.sqrt(slope @ covariance @ slope))
    return FocusFit(float(place), max(error, 0.1), float(np.sqrt(max(c - b * b / (4 * a), 0.0))))


def short_width(fwhm: float, elongation: float) -> float:
    """FWHM (px) across the trail of a star of a mean FWHM (of both axes in quadrature) and an elongation."""
    return float(fwhm * np.sqrt(2 / (1 + elongation**2)))


def _foot(points: Sequence[FocusPoint]) -> FocusFit | None:
    """Where the parabola of ``fit_infinity`` through points has its foot, weighed by the errors of the widths
    (at least ``WIDTH_FLOOR``: air and trails differ from take to take); None with fewer than three ticks or
    when the widths do not grow away from it."""
    ticks = np.array([p.tick for p in points], float)
    if len(np.unique(ticks)) < LEAST_TICKS:
        return None
    widths = np.array([p.width for p in points], float)
    errors = 2 * widths * np.hypot([p.error for p in points], WIDTH_FLOOR)  # of the squares
    shifted = ticks - ticks.mean()
    design = np.vander(shifted, 3)
    normal = design.T @ (design / errors[:, None] ** 2)
    cov = np.linalg.inv(normal)
    a, b, c = cov @ (design.T @ (widths**2 / errors**2))
    if a < GROWTH_SIGMA * np.sqrt(cov[0, 0]):
        return None
    place = -b / (2 * a)
    slope = np.array([b / (2 * a * a), -1 / (2 * a), 0.0])
    error = float(np.sqrt(slope @ cov @ slope))
    width = float(np.sqrt(max(c - b * b / (4 * a), 0.0)))
    return FocusFit(float(place + ticks.mean()), max(error, 0.1), width)


def _bracketed(found: FocusFit, points: Sequence[FocusPoint]) -> bool:
    """Whether ticks on both sides of it were seen; the end mark (tick 0) is the other side of itself."""
    ticks = [p.tick for p in points]
    return min(ticks) < found.ticks < max(ticks) or (min(ticks) == 0 and -0.5 <= found.ticks <= 0)


def learned_infinity(points: Sequence[FocusPoint]) -> FocusFit | None:
    """Infinity from the stars of ordinary takes at three different ticks or more, of however many nights;
    None unless ticks on both sides of it were seen and it is known to ``SURE_TICKS``."""
    found = _foot(points)
    return found if found and found.error <= SURE_TICKS and _bracketed(found, points) else None


def next_tick(points: Sequence[FocusPoint]) -> float | None:
    """The tick to try next where the stars are sharpest at the edge of those tried; None where infinity is
    bracketed, nothing is told, or the slider has no more ticks."""
    found = _foot(points)
    if found is None or _bracketed(found, points):
        return None
    ticks = [p.tick for p in points]
    wanted = min(ticks) - 1 if found.ticks <= min(ticks) else max(ticks) + 1
    return wanted if wanted >= 0 else None
