"""Level, upright walls and crop: turn about the centre, tilt back, then cut a rectangle that holds no empty
corner.

The first thing to decide, and the last to be done: so a turn does not work the whole edit out anew, and what
a crop leaves is what was there before.
"""

from dataclasses import replace
from typing import Literal

import cv2
import numpy as np
import numpy.typing as npt

from vinter.core.finish.canvas import Canvas
from vinter.core.finish.moves.base import F32, Move, Row, Shown, move, setting
from vinter.core.finish.scene import Scene

Array = npt.NDArray[np.float64]
RATIOS = {"full": None, "3:2": 3 / 2, "4:5": 4 / 5, "1:1": 1.0, "16:9": 16 / 9, "9:16": 9 / 16}
MOST_TURN = 15.0  # degrees
MOST_LEAN = 40.0  # degrees of the lens looking up or down
LEVEL, CROP = Row("Level", 10), Row("Crop", 90)
FINE = 30  # halvings of the size of the rectangle that is sought


@move("geometry", place=90)
class Geometry(Move):
    """Turn in degrees clockwise; degrees that the lens looked up by, which make walls lean, undone; a
    rectangle of a ratio (free: of an aspect, width over height), its size against the largest that fits, its
    centre as shares of the picture."""

    level: float = setting(
        0.0, Shown("turned clockwise", "°", LEVEL, "sky", step=0.1), ge=-MOST_TURN, le=MOST_TURN
    )
    upright: float = setting(
        0.0,
        Shown("walls upright by", "°", LEVEL, "ground", step=0.5, risky=25),
        ge=-MOST_LEAN,
        le=MOST_LEAN,
    )
    ratio: Literal["full", "free", "3:2", "4:5", "1:1", "16:9", "9:16"] = setting(
        "full", Shown("ratio", "", CROP, "sky")
    )
    aspect: float = setting(1.5, ge=0.2, le=5)
    size: float = setting(1.0, Shown("size", "%", CROP, "ground"), ge=0.2, le=1)
    x: float = setting(0.5, Shown("centre across", "%", CROP, "sky"), ge=0, le=1)
    y: float = setting(0.5, Shown("centre down", "%", CROP, "ground"), ge=0, le=1)

    def proportion(self, width: int, height: int) -> float:
        """Width over height of what is kept of a picture of a size."""
        return self.aspect if self.ratio == "free" else RATIOS[self.ratio] or width / height

    def rectangle(self, width: int, height: int) -> tuple[float, float, float, float]:
        """Centre x and y, width and height (px) of what is kept of the turned picture, walls left as they
        lean."""
        turn = np.radians(abs(self.level))
        ratio = self.proportion(width, height)
        # the largest rectangle of the ratio inside the turned frame
        h = min(width / (ratio * np.cos(turn) + np.sin(turn)), height / (ratio * np.sin(turn) + np.cos(turn)))
        h *= self.size
        w = ratio * h
        half_x = (w * np.cos(turn) + h * np.sin(turn)) / 2
        half_y = (w * np.sin(turn) + h * np.cos(turn)) / 2
        x = np.clip(self.x * width, min(half_x, width / 2), max(width - half_x, width / 2))
        y = np.clip(self.y * height, min(half_y, height / 2), max(height - half_y, height / 2))
        return float(x), float(y), float(w), float(h)

    def apply(self, canvas: Canvas, scene: Scene) -> Canvas:
        """The turned, straightened and cropped canvas."""
        height, width = canvas.sky.shape
        if self.upright:
            back, size = self._straight(width, height, np.degrees(1) / scene.degrees_px)
            return _warped(canvas, back, size)
        x, y, w, h = self.rectangle(width, height)
        size = self.made_size(width, height, scene.degrees_px)
        c, s = np.cos(np.radians(-self.level)), np.sin(np.radians(-self.level))
        back = np.array(
            [
                [c, -s, x - 0.5 - c * (size[0] - 1) / 2 + s * (size[1] - 1) / 2],
                [s, c, y - 0.5 - s * (size[0] - 1) / 2 - c * (size[1] - 1) / 2],
                [0, 0, 1],
            ]
        )
        if self.level:
            return _warped(canvas, back, size)
        shares = canvas.to_shares @ back
        if size == (width, height):
            return replace(canvas, to_shares=shares)
        x0 = min(max(round(x - w / 2), 0), width - size[0])
        y0 = min(max(round(y - h / 2), 0), height - size[1])
        part = np.s_[y0 : y0 + size[1], x0 : x0 + size[0]]
        rgb, sky = np.ascontiguousarray(canvas.rgb[part]), np.ascontiguousarray(canvas.sky[part])
        return replace(canvas, rgb=rgb, sky=sky, to_shares=shares)

    def made_size(self, width: int, height: int, degrees_px: float) -> tuple[int, int]:
        """Width and height (px) that a picture of a size comes out with; ``degrees_px`` is a pixel's size in
        the sky at its centre."""
        if self.upright:
            return self._straight(width, height, np.degrees(1) / degrees_px)[1]
        _, _, w, h = self.rectangle(width, height)
        return max(round(w), 1), max(round(h), 1)

    def _straight(self, width: int, height: int, focal: float) -> tuple[Array, tuple[int, int]]:
        """From a pixel of the straightened, cropped picture back to the canvas, and the size; ``focal`` in
        px of the canvas."""
        plane = straightened(self.level, self.upright, width, height, focal)
        ratio = self.proportion(width, height)
        back = np.asarray(np.linalg.inv(plane), float)
        centre, middle = _at(back, width / 2, height / 2), _at(back, self.x * width, self.y * height)
        h = self.size * _tallest(plane, centre, ratio, width, height)
        if _tallest(plane, middle, ratio, width, height) < h:
            # a rectangle that would reach out is brought back towards the centre, as little as may be
            out, within = 0.0, 1.0
            for _ in range(FINE):
                half = (out + within) / 2
                fits = _tallest(plane, middle + half * (centre - middle), ratio, width, height) >= 0.9999 * h
                out, within = (out, half) if fits else (half, within)
            middle = middle + within * (centre - middle)
        size = (max(round(ratio * h), 1), max(round(h), 1))
        shift = np.array(
            [[1, 0, middle[0] - (size[0] - 1) / 2], [0, 1, middle[1] - (size[1] - 1) / 2], [0, 0, 1]]
        )
        return plane @ shift, size


def straightened(level: float, upright: float, width: int, height: int, focal: float) -> Array:
    """Homography (3, 3) from a plane whose origin lies in the centre of the picture, as a camera that looks
    level sees it, to pixels of the picture of a camera that looks up by ``upright`` degrees and leans by
    ``level``."""
    up, turn = np.radians(upright), np.radians(-level)
    c, s, near = np.cos(turn), np.sin(turn), focal * np.cos(up)  # as large as it was in the centre
    rays = np.array([[1 / near, 0, 0], [0, 1 / near, -np.tan(up)], [0, 0, 1]])
    tilted = np.array([[1, 0, 0], [0, np.cos(up), np.sin(up)], [0, -np.sin(up), np.cos(up)]])
    seen = np.diag([focal, focal, 1.0])
    turned = np.array([[c, -s, width / 2 - 0.5], [s, c, height / 2 - 0.5], [0, 0, 1]])
    return np.asarray(turned @ seen @ tilted @ rays)


def _at(homography: Array, x: float, y: float) -> Array:
    """Where a place (its left upper corner's numbers) goes."""
    out = homography @ [x - 0.5, y - 0.5, 1]
    return np.asarray(out[:2] / out[2])


def _tallest(plane: Array, middle: Array, ratio: float, width: int, height: int) -> float:
    """Height of the largest rectangle of a ratio about a place of the plane that lies inside the picture."""
    corners = np.array([[-ratio, -1], [ratio, -1], [ratio, 1], [-ratio, 1]]) / 2

    def inside(h: float) -> bool:
        at = plane @ np.c_[middle + corners * h, np.ones(4)].T
        if (at[2] <= 0).any():
            return False
        x, y = at[0] / at[2], at[1] / at[2]
        return bool(((x >= -0.5) & (x <= width - 0.5) & (y >= -0.5) & (y <= height - 0.5)).all())

    low, high = 0.0, float(4 * max(width, height))
    for _ in range(FINE):
        half = (low + high) / 2
        low, high = (half, high) if inside(half) else (low, half)
    return low


def _warped(canvas: Canvas, back: Array, size: tuple[int, int]) -> Canvas:
    """The canvas drawn anew; ``back`` (3, 3) leads from a new pixel to an old one."""

    def drawn(values: F32, how: int) -> F32:
        flags = how | cv2.WARP_INVERSE_MAP
        if np.allclose(back[2], [0, 0, 1]):
            made = cv2.warpAffine(values, back[:2], size, flags=flags, borderMode=cv2.BORDER_REPLICATE)
        else:
            made = cv2.warpPerspective(values, back, size, flags=flags, borderMode=cv2.BORDER_REPLICATE)
        return np.asarray(made, np.float32)

    return replace(
        canvas,
        rgb=drawn(canvas.rgb, cv2.INTER_CUBIC),
        sky=drawn(canvas.sky, cv2.INTER_LINEAR),
        to_shares=canvas.to_shares @ back,
    )
