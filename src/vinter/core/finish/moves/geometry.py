"""Level and crop: turn about the centre, then cut a rectangle that holds no empty corner."""

from dataclasses import replace
from typing import Literal

import cv2
import numpy as np

from vinter.core.finish.canvas import Canvas
from vinter.core.finish.moves.base import F32, Move, Row, Shown, move, setting
from vinter.core.finish.scene import Scene

RATIOS = {"full": None, "3:2": 3 / 2, "4:5": 4 / 5, "1:1": 1.0, "16:9": 16 / 9, "9:16": 9 / 16}
MOST_TURN = 15.0  # degrees
LEVEL, CROP = Row("Level", 10), Row("Crop", 90)


@move("geometry", place=10)
class Geometry(Move):
    """Turn in degrees clockwise; a rectangle of a ratio, its size against the largest that fits, its centre
    as shares of the picture."""

    level: float = setting(
        0.0, Shown("turned clockwise", "°", LEVEL, "sky", step=0.1), ge=-MOST_TURN, le=MOST_TURN
    )
    ratio: Literal["full", "3:2", "4:5", "1:1", "16:9", "9:16"] = setting(
        "full", Shown("ratio", "", CROP, "sky")
    )
    size: float = setting(1.0, Shown("size", "%", CROP, "ground"), ge=0.2, le=1)
    x: float = setting(0.5, Shown("centre across", "%", CROP, "sky"), ge=0, le=1)
    y: float = setting(0.5, Shown("centre down", "%", CROP, "ground"), ge=0, le=1)

    def rectangle(self, width: int, height: int) -> tuple[float, float, float, float]:
        """Centre x and y, width and height (px) of what is kept of the turned picture."""
        turn = np.radians(abs(self.level))
        ratio = RATIOS[self.ratio] or width / height
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
        """The turned and cropped canvas."""
        height, width = canvas.sky.shape
        x, y, w, h = self.rectangle(width, height)
        size = (max(round(w), 1), max(round(h), 1))
        c, s = np.cos(np.radians(-self.level)), np.sin(np.radians(-self.level))
        back = np.array(
            [
                [c, -s, x - 0.5 - c * (size[0] - 1) / 2 + s * (size[1] - 1) / 2],
                [s, c, y - 0.5 - s * (size[0] - 1) / 2 - c * (size[1] - 1) / 2],
            ]
        )
        moved = np.vstack([back, [0, 0, 1]])
        shares = canvas.to_shares @ moved
        if self.level == 0 and size == (width, height):
            return replace(canvas, to_shares=shares)
        if self.level == 0:
            x0 = min(max(round(x - w / 2), 0), width - size[0])
            y0 = min(max(round(y - h / 2), 0), height - size[1])
            part = np.s_[y0 : y0 + size[1], x0 : x0 + size[0]]
            rgb, sky = np.ascontiguousarray(canvas.rgb[part]), np.ascontiguousarray(canvas.sky[part])
        else:
            rgb = _turned(canvas.rgb, back, size, cv2.INTER_CUBIC)
            sky = _turned(canvas.sky, back, size, cv2.INTER_LINEAR)
        return replace(canvas, rgb=rgb, sky=sky, to_shares=shares)


def _turned(values: F32, back: np.ndarray, size: tuple[int, int], how: int) -> F32:
    flags = how | cv2.WARP_INVERSE_MAP
    return np.asarray(
        cv2.warpAffine(values, back, size, flags=flags, borderMode=cv2.BORDER_REPLICATE), np.float32
    )
