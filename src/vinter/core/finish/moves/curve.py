"""Encoding for the screen with a contrast curve, sky and ground apart."""

from dataclasses import replace
from functools import lru_cache

import numpy as np
from scipy.interpolate import PchipInterpolator

from vinter.core.camera.photons import srgb
from vinter.core.finish.canvas import Canvas
from vinter.core.finish.linear_light import LinearLight
from vinter.core.finish.moves.base import DARK_AND_LIGHT, F32, LinearMove, Part, Shown, move, setting
from vinter.core.finish.scene import Scene

PIVOT = 0.30  # encoded level around which the curve turns
LUT_SIZE = 4097  # entries: a straight line between two of them is within 1 in 100,000
BRIGHTEST = 8.0  # linear level at the end of the curve's table
MOST_POINTS = 8
SHOULDER = 0.5  # linear level from which highlights roll off
HELD, LET_GO = 0.85, 0.9  # of the shoulder, by which it falls or rises at the ends of the slider
Points = tuple[tuple[float, float], ...]


@lru_cache(maxsize=64)
def curve_table(contrast: float, points: Points = (), held: float = 0.0) -> F32:
    """Encoded level over ``LUT_SIZE`` square roots of linear levels from 0 to BRIGHTEST.

    Highlights roll off above a shoulder (one half; lower the more they are ``held`` back, 1 at most; higher
    below 0) instead of clipping; then an S of slope ``contrast`` at the pivot that
    keeps both ends; then a smooth rising curve through ``points`` (from and to level, 0 to 1).
    """
    linear = np.linspace(0, 1, LUT_SIZE) ** 2 * BRIGHTEST
    knee = SHOULDER * (1 - (HELD if held > 0 else LET_GO) * held)
    over = np.maximum(linear - knee, 0)
    x = srgb(np.where(linear > knee, 1 - (1 - knee) ** 2 / (1 - knee + over), linear))
    low = PIVOT * (x / PIVOT) ** contrast
    high = 1 - (1 - PIVOT) * ((1 - x) / (1 - PIVOT)) ** contrast
    out = np.where(x < PIVOT, low, high)
    if points:
        at = [p for p in sorted(points) if 0 < p[0] < 1]
        along = np.array([0.0, *(p[0] for p in at), 1.0])
        up = np.maximum.accumulate([0.0, *(p[1] for p in at), 1.0])
        out = PchipInterpolator(along, up)(np.clip(out, 0, 1))
    return out.astype(np.float32)


class Contrast(Part):
    """Slope of the curve at its pivot, how far highlights are held back, and points that it goes through
    besides."""

    contrast: float = setting(1.0, Shown("contrast", "×", DARK_AND_LIGHT), ge=0.5, le=3)
    highlights: float = setting(0.0, Shown("highlights held back", "%", DARK_AND_LIGHT), ge=-1, le=1)
    points: Points = setting((), max_length=MOST_POINTS)

    @property
    def table(self) -> F32:
        """The curve's table."""
        return curve_table(self.contrast, self.points, self.highlights)


@move("curve", place=60)
class Curve(LinearMove):
    """Contrast of sky and ground; output 0 to 1, encoded."""

    sky: Contrast = Contrast()
    ground: Contrast = Contrast()

    def asked(self, light: LinearLight, canvas: Canvas, scene: Scene) -> tuple[LinearLight, Canvas]:
        """The picture, encoded."""
        return replace(light, tables=(self.sky.table, self.ground.table), brightest=BRIGHTEST), canvas
