"""Focus: from where on everything is sharp, and where on the slider infinity lies."""

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from vinter.core.camera.phones import Lens
from vinter.core.errors import BadInput

CIRCLE_PX = 2.0  # of blur that still counts as sharp when a picture is looked at pixel by pixel


def hyperfocal(lens: Lens, circle_px: float = CIRCLE_PX) -> float:
    """Hyperfocal distance f^2/(N c) + f in metres: focused at infinity, all beyond it is within ``circle_px``
    of blur."""
    circle_mm = circle_px * lens.pitch / 1000
    return (lens.focal**2 / (lens.aperture * circle_mm) + lens.focal) / 1000


def blur_px(lens: Lens, distance: float) -> float:
    """Blur in px of something at a distance in metres when the lens is focused at infinity."""
    return lens.focal**2 / (lens.aperture * distance * 1000) / (lens.pitch / 1000)


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
