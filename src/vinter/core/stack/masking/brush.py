"""Painting the sky mask by hand: strokes whose edges snap to the edges of the picture."""

from collections.abc import Sequence
from dataclasses import dataclass, replace

import cv2
import numpy as np
import numpy.typing as npt

from vinter.core.errors import BadInput
from vinter.core.stack.masking.sky_mask import FEATHER

F32 = npt.NDArray[np.float32]
U8 = npt.NDArray[np.uint8]
MOST_STROKES, MOST_POINTS = 400, 4000
FARTHEST_PX = 1e5  # px from the picture's corner
SNAP_SHARE = 0.8  # share of a stroke's radius within which its edge may move to the picture's
SOFTNESS = 4e-3  # share of the guide's variance: how strongly an edge of the picture holds


@dataclass(frozen=True)
class Stroke:
    """Points (x, y) in px, radius in px, and whether it paints sky or ground, or the number (from 1) of the
    ground frame it takes."""

    points: tuple[tuple[float, float], ...]
    radius: float
    sky: bool
    frame: int = 0

    def scaled(self, factor: float) -> "Stroke":
        """The same stroke on a picture scaled by a factor."""
        points = tuple((x * factor, y * factor) for x, y in self.points)
        return replace(self, points=points, radius=self.radius * factor)

    def __post_init__(self) -> None:
        if not self.points or len(self.points) > MOST_POINTS:
            raise BadInput(f"a stroke has 1 to {MOST_POINTS} points")
        if not np.isfinite(self.points).all() or np.abs(self.points).max() > FARTHEST_PX:
            raise BadInput("a stroke's points lie within the picture")
        if not 1 <= self.radius <= 2000:
            raise BadInput(f"brush radius {self.radius:g} is not within 1 to 2000 px")
        if not 0 <= self.frame <= 255:
            raise BadInput(f"ground frame {self.frame} is not within 1 to 255")


def _drawn(shape: tuple[int, int], stroke: Stroke) -> U8:
    out = np.zeros(shape, np.uint8)
    points = np.round(np.array(stroke.points)).astype(np.int32).reshape(-1, 1, 2)
    cv2.polylines(out, [points], False, 1, max(round(2 * stroke.radius), 1), cv2.LINE_8)
    for x, y in points[[0, -1], 0]:
        cv2.circle(out, (int(x), int(y)), max(round(stroke.radius), 1), 1, -1)
    return out


def chosen(before: U8, strokes: Sequence[Stroke]) -> U8:
    """Which ground frame is taken where (height, width; 0 by sharpness), after strokes that name one."""
    out = before.copy()
    for stroke in strokes:
        if stroke.frame:
            out[_drawn(before.shape, stroke) > 0] = stroke.frame
    return out


def _snapped(wanted: F32, guide: F32, reach: int) -> F32:
    """A mask made to follow the edges of a guide within a reach in px (guided filter of the first order)."""
    size = (2 * reach + 1, 2 * reach + 1)

    def mean(a: F32) -> F32:
        return np.asarray(cv2.boxFilter(a, -1, size), np.float32)

    m_g, m_w = mean(guide), mean(wanted)
    variance = mean(guide * guide) - m_g * m_g
    a = (mean(guide * wanted) - m_g * m_w) / (variance + SOFTNESS * float(guide.var()) + 1e-9)
    b = m_w - a * m_g
    return np.asarray(mean(np.asarray(a, np.float32)) * guide + mean(np.asarray(b, np.float32)), np.float32)


def painted(mask: U8, strokes: Sequence[Stroke], brightness: F32) -> U8:
    """The mask (height, width; 255 = sky) after strokes, feathered; ``brightness`` is the picture's (any
    unit, same size).

    Within a stroke its side is taken, and towards its rim the border between sky and ground moves to the
    nearest edge of the picture. Outside strokes nothing changes.
    """
    if len(strokes) > MOST_STROKES:
        raise BadInput(f"more than {MOST_STROKES} strokes: keep what there is and go on from it")
    if mask.shape != brightness.shape:
        raise BadInput("mask and picture differ in size")
    guide = np.log(np.maximum(cv2.GaussianBlur(brightness, (0, 0), 1.0), 1e-5)).astype(np.float32)
    hard = (mask > 127).astype(np.float32)
    before = cv2.GaussianBlur(hard, (0, 0), FEATHER)
    for stroke in (s for s in strokes if not s.frame):
        inside = _drawn(mask.shape, stroke)
        ys, xs = np.flatnonzero(inside.any(axis=1)), np.flatnonzero(inside.any(axis=0))
        if not ys.size:
            continue
        reach = int(np.clip(SNAP_SHARE * stroke.radius, 2, 40))
        box = np.s_[
            max(ys[0] - 3 * reach, 0) : ys[-1] + 3 * reach + 1,
            max(xs[0] - 3 * reach, 0) : xs[-1] + 3 * reach + 1,
        ]
        part, here = hard[box], inside[box] > 0
        core = cv2.erode(inside[box], np.ones((2 * reach + 1, 2 * reach + 1), np.uint8)) > 0
        wanted = np.where(here, np.float32(stroke.sky), part)
        moved = (_snapped(wanted, guide[box], reach) > 0.5).astype(np.float32)
        moved[core] = float(stroke.sky)
        hard[box] = np.where(here, moved, part)
    soft = cv2.GaussianBlur(hard, (0, 0), FEATHER)
    return np.where(np.abs(soft - before) > 1e-3, np.round(np.clip(soft, 0, 1) * 255), mask).astype(np.uint8)
