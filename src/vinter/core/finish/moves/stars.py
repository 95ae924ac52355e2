"""Stars: smaller, fewer, more colour, sharper; the sky between them is left as it is."""

from dataclasses import replace

import cv2
import numpy as np

from vinter.core.finish.canvas import Canvas
from vinter.core.finish.moves.base import F32, Move, Row, Shown, move, setting
from vinter.core.finish.pixels import between
from vinter.core.finish.scene import Scene

STARS = Row("Stars", 67)
STAR_PX = 7.0  # px at full size that hold a star
BRIGHT = 0.28  # encoded height over the sky, from which on a star is not among the faint ones
LEAST = 0.02  # encoded height of the faintest


@move("stars", place=66)
class Stars(Move):
    """What stands over its surroundings by less than a star's width."""

    smaller: float = setting(0.0, Shown("smaller", "%", STARS, "sky", risky=0.8), ge=0, le=1)
    fewer: float = setting(0.0, Shown("fewer faint ones", "%", STARS, "ground", risky=0.7), ge=0, le=1)
    colour: float = setting(0.0, Shown("their colour", "%", STARS, "sky"), ge=-1, le=1.5)
    sharper: float = setting(0.0, Shown("sharper", "%", STARS, "ground", risky=0.7), ge=0, le=1)

    def apply(self, canvas: Canvas, scene: Scene) -> Canvas:
        """The canvas with other stars."""
        if self == Stars():
            return canvas
        rgb = canvas.rgb
        wide = max(int(STAR_PX * scene.scale) | 1, 3)
        kernel = cv2.getStructuringElement(cv2.MORPH_ELLIPSE, (wide, wide))
        sky = np.asarray(cv2.morphologyEx(rgb, cv2.MORPH_OPEN, kernel), np.float32)
        star = np.asarray(cv2.subtract(rgb, sky), np.float32)
        height = np.asarray(cv2.transform(star, np.array([[0.3, 0.59, 0.11]], np.float32)), np.float32)
        if self.smaller:
            thin = cv2.erode(rgb, cv2.getStructuringElement(cv2.MORPH_ELLIPSE, (3, 3)))
            share = np.clip((height - LEAST) / 0.1, 0, 1) * canvas.sky * np.float32(self.smaller)
            rgb = between(np.asarray(thin, np.float32), rgb, np.asarray(share, np.float32))
        if self.fewer:
            peak = cv2.dilate(height, kernel)
            share = np.clip((BRIGHT - peak) / (BRIGHT - LEAST), 0, 1) * canvas.sky * np.float32(self.fewer)
            rgb = between(sky, rgb, np.asarray(share, np.float32))
        if self.colour:
            rgb = _coloured(rgb, height, canvas, self.colour)
        if self.sharper:
            soft = cv2.GaussianBlur(rgb, (0, 0), max(1.4 * scene.scale, 0.6))
            share = np.clip((height - LEAST) / 0.08, 0, 1) * canvas.sky * np.float32(self.sharper)
            rgb = np.asarray(rgb + cv2.subtract(rgb, soft) * share[..., None], np.float32)
        return replace(canvas, rgb=rgb)


def _coloured(rgb: F32, height: F32, canvas: Canvas, amount: float) -> F32:
    """Stars with more of the colour around their middle."""
    share = np.clip((height - LEAST) / 0.12, 0, 1) * canvas.sky * np.float32(amount)
    grey = cv2.transform(rgb, np.array([[0.2126, 0.7152, 0.0722]], np.float32))[..., None]
    return np.asarray(grey + (rgb - grey) * (1 + cv2.GaussianBlur(share, (0, 0), 1.0))[..., None], np.float32)
