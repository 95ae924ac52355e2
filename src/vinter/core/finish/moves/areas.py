"""Areas painted by hand: lighter or darker, warmer or cooler, more or less colour, calmer; brush, ellipse,
gradient."""

from dataclasses import replace
from typing import Literal

import cv2
import numpy as np

from vinter.core.finish.canvas import Canvas
from vinter.core.finish.loops.pixels import between, coloured, scaled
from vinter.core.finish.moves.base import F32, Move, Part, move, setting
from vinter.core.finish.scene import Scene

MOST_AREAS, MOST_POINTS = 200, 400
COARSE_PX = 480  # px across the map that areas are painted on; they are soft, so that is enough
NEAR = 1e-3  # share of the width over which a radius is measured
EFFECTS = ("light", "warmth", "colour", "smooth")


class Area(Part):
    """One stroke, ellipse or gradient: points (x, y as shares of width and height; of an ellipse its centre
    and a corner of its box, of a gradient from full to nothing), radius as a share of the width, softness,
    and how much: EV, EV of red against blue, share of colour, share of smoothing. ``erase`` takes away what
    is painted before."""

    shape: Literal["brush", "ellipse", "gradient"] = "brush"
    effect: Literal["light", "warmth", "colour", "smooth"] = "light"
    points: tuple[tuple[float, float], ...] = setting((), min_length=1, max_length=MOST_POINTS)
    radius: float = setting(0.04, ge=0.002, le=0.5)
    softness: float = setting(0.6, ge=0, le=1)
    amount: float = setting(0.3, ge=-2, le=2)
    zone: Literal["both", "sky", "ground"] = "both"
    erase: bool = False


@move("areas", place=52)
class Areas(Move):
    """All that was painted, in its order."""

    list: tuple[Area, ...] = setting((), max_length=MOST_AREAS)

    def apply(self, canvas: Canvas, scene: Scene) -> Canvas:
        """The canvas with every area's effect."""
        if not self.list:
            return canvas
        rgb = canvas.rgb
        for effect in EFFECTS:
            weight = self.weight(effect, canvas)
            if weight is not None:
                rgb = _EFFECTS[effect](rgb, weight)
        return replace(canvas, rgb=rgb)

    def weight(self, effect: str, canvas: Canvas) -> F32 | None:
        """How much of an effect every pixel gets; None when no area has it."""
        areas = [a for a in self.list if a.effect == effect]
        if not areas:
            return None
        h, w = canvas.sky.shape
        scale = min(COARSE_PX / max(w, h), 1.0)
        size = (max(round(w * scale), 2), max(round(h * scale), 2))
        total = np.zeros((h, w), np.float32)
        for zone in ("both", "sky", "ground"):
            mine = [a for a in areas if a.zone == zone]
            if not mine:
                continue
            small = np.zeros(size[::-1], np.float32)
            for area in mine:
                drawn = _drawn(area, canvas, size)
                small = small * (1 - drawn) if area.erase else small + area.amount * drawn
            part = cv2.resize(small, (w, h), interpolation=cv2.INTER_LINEAR)
            total += part * (canvas.sky if zone == "sky" else 1 - canvas.sky if zone == "ground" else 1)
        return np.asarray(np.clip(total, -3, 3), np.float32)


def _pixels(area: Area, canvas: Canvas, size: tuple[int, int]) -> tuple[F32, float]:
    """Points (n, 2) of an area on the small map, and px there of a share of the width."""
    h, w = canvas.sky.shape
    points = np.array(area.points)
    at = canvas.pixels(points)
    across = float(np.hypot(*(canvas.pixels(points[:1] + np.array([NEAR, 0.0])) - at[:1])[0])) / NEAR
    return np.asarray((at + 0.5) * [size[0] / w, size[1] / h] - 0.5, np.float32), across * size[0] / w


def _drawn(area: Area, canvas: Canvas, size: tuple[int, int]) -> F32:
    """The area from 0 to 1 on a small map."""
    points, across = _pixels(area, canvas, size)
    if area.shape == "brush":
        radius = area.radius * across
        core = max(radius * (1 - 0.6 * area.softness), 0.5)
        line = np.zeros(size[::-1], np.uint8)
        fixed = np.round(points * 16).clip(-(2**20), 2**20).astype(np.int32)
        if len(fixed) == 1:
            cv2.circle(line, fixed[0].tolist(), max(round(core * 16), 8), 255, -1, cv2.LINE_AA, 4)
        else:
            cv2.polylines(line, [fixed], False, 255, max(round(2 * core), 1), cv2.LINE_AA, 4)
        soft = line.astype(np.float32) / np.float32(255)
        blur = max(radius * area.softness * 0.5, 0.3)
        return np.asarray(cv2.GaussianBlur(soft, (0, 0), blur), np.float32)
    gx, gy = np.meshgrid(np.arange(size[0], dtype=np.float32), np.arange(size[1], dtype=np.float32))
    first, last = points[0], points[-1]
    if area.shape == "ellipse":
        half = np.maximum(np.abs(last - first), 2.0)
        r = np.hypot((gx - first[0]) / half[0], (gy - first[1]) / half[1])
        return np.asarray(np.clip((1 - r) / max(area.softness, 0.05), 0, 1), np.float32)
    way = last - first
    along = ((gx - first[0]) * way[0] + (gy - first[1]) * way[1]) / max(float(way @ way), 1e-6)
    t = np.clip(1 - along, 0, 1)
    return np.asarray(t * t * (3 - 2 * t), np.float32)


def _lit(rgb: F32, weight: F32) -> F32:
    gain = np.asarray(cv2.exp(weight * np.float32(np.log(2))), np.float32)
    return np.asarray(scaled(rgb, gain))


def _warmed(rgb: F32, weight: F32) -> F32:
    gain = np.asarray(cv2.exp(weight * np.float32(np.log(2) / 2)), np.float32)
    return np.asarray(cv2.multiply(rgb, cv2.merge([gain, np.ones_like(gain), 1 / gain])), np.float32)


def _coloured(rgb: F32, weight: F32) -> F32:
    return np.asarray(coloured(rgb, np.maximum(weight, -1)), np.float32)


def _smoothed(rgb: F32, weight: F32) -> F32:
    soft = cv2.GaussianBlur(rgb, (0, 0), 2.5)
    share = np.clip(weight, 0, 1)
    return np.asarray(between(np.asarray(soft, np.float32), rgb, np.asarray(share, np.float32)))


_EFFECTS = {"light": _lit, "warmth": _warmed, "colour": _coloured, "smooth": _smoothed}
