"""Stars: smaller, fewer, rounder, more colour, sharper; the sky between them is left as it is."""

import math
from dataclasses import replace

import cv2
import numpy as np
import numpy.typing as npt

from vinter.core.finish.canvas import Canvas
from vinter.core.finish.loops.pixels import between, coloured
from vinter.core.finish.loops.star_light import disc, over_opening, surely, thinner
from vinter.core.finish.moves.base import F32, Move, Row, Shown, move, setting
from vinter.core.finish.scene import Scene

Array = npt.NDArray[np.float64]
STARS = Row("Stars", 67)
STAR_PX = 7.0  # px at full size that hold a star
BRIGHT = 0.28  # encoded height above the sky from which a star is no longer faint
LEAST_TRAIL = 0.6  # px of the canvas, from which on stars are shortened
SEEN = 0.3  # share of a star's linear peak that is half of it when encoded
NEAR = 1e-3  # share of the picture over which a direction is measured
MOST_BACK = 2.5  # times brighter than before a shortened star may become
LEAST, SURE = 0.02, 0.1  # encoded height of the faintest, and how much more is surely a star
SURE_OF_COLOUR, SURE_OF_EDGE, SURE_OF_TRAIL = 0.12, 0.08, 0.06  # the same where those are changed


@move("stars", place=66)
class Stars(Move):
    """What stands over its surroundings by less than a star's width."""

    smaller: float = setting(0.0, Shown("smaller", "%", STARS, "sky", risky=0.8), ge=0, le=1)
    fewer: float = setting(0.0, Shown("fewer faint ones", "%", STARS, "ground", risky=0.7), ge=0, le=1)
    rounder: float = setting(0.0, Shown("rounder", "%", STARS, "ground", risky=0.9), ge=0, le=1)
    colour: float = setting(0.0, Shown("their colour", "%", STARS, "sky"), ge=-1, le=1.5)
    sharper: float = setting(0.0, Shown("sharper", "%", STARS, "ground", risky=0.7), ge=0, le=1)

    def apply(self, canvas: Canvas, scene: Scene) -> Canvas:
        """The canvas with other stars."""
        if self == Stars():
            return canvas
        rgb = canvas.rgb
        wide = max(int(STAR_PX * scene.scale) | 1, 3)
        kernel = cv2.getStructuringElement(cv2.MORPH_ELLIPSE, (wide, wide))
        if self.fewer or self.rounder:
            sky = np.asarray(cv2.morphologyEx(rgb, cv2.MORPH_OPEN, kernel), np.float32)
        way = shortening(canvas, scene) if self.rounder else None
        if way is not None:
            star = np.asarray(cv2.subtract(rgb, sky), np.float32)
            rgb = _rounded(rgb, sky, star, way, canvas.sky * np.float32(self.rounder))
        halves = disc(wide)
        if self.fewer or self.colour or self.sharper:
            height = over_opening(rgb, halves)
        if self.smaller:
            rgb = thinner(rgb, canvas.sky, halves, self.smaller, LEAST, SURE)
        if self.fewer:
            peak = cv2.dilate(height, kernel)
            share = np.clip((BRIGHT - peak) / (BRIGHT - LEAST), 0, 1) * canvas.sky * np.float32(self.fewer)
            rgb = between(sky, rgb, np.asarray(share, np.float32))
        if self.colour:
            more = surely(height, canvas.sky, self.colour, LEAST, SURE_OF_COLOUR)
            rgb = coloured(rgb, np.asarray(cv2.GaussianBlur(more, (0, 0), 1.0), np.float32))
        if self.sharper:
            soft = cv2.GaussianBlur(rgb, (0, 0), max(1.4 * scene.scale, 0.6))
            # as much further from what is soft
            share = surely(height, canvas.sky, -self.sharper, LEAST, SURE_OF_EDGE)
            rgb = between(np.asarray(soft, np.float32), rgb, share)
        return replace(canvas, rgb=rgb)


def shortening(canvas: Canvas, scene: Scene) -> Array | None:
    """The way (x, y in px of the canvas) by which stars are worn down at both ends to be as long as they are
    wide; None where they are round or nearly so."""
    if scene.stars is None or not scene.stars.trail:
        return None
    half = _shortened(scene.stars.trail, scene.stars.fwhm) * scene.scale
    if 2 * half < LEAST_TRAIL:
        return None
    way = np.array([np.cos(np.radians(scene.stars.angle)), np.sin(np.radians(scene.stars.angle))])
    h, w = canvas.sky.shape
    middle = canvas.to_shares @ [w / 2, h / 2, 1]
    here = (middle[:2] / middle[2])[None]
    turned = (canvas.pixels(here + way / [1.0, scene.shape] * NEAR) - canvas.pixels(here))[0]
    return np.asarray(turned / max(float(np.hypot(*turned)), 1e-9) * half)


def _shortened(trail: float, fwhm: float) -> float:
    """How far (px) to each side a star must be worn down along its trail to be as long as it is wide: of a
    trail of a Gaussian the lowest light within that reach has fallen to ``SEEN`` there."""
    sigma = math.sqrt(max((fwhm / 2.3548) ** 2 - trail**2 / 24, 0.6))

    def light(t: float) -> float:
        return math.erf((t + trail / 2) / sigma / math.sqrt(2)) - math.erf(
            (t - trail / 2) / sigma / math.sqrt(2)
        )

    low, high, width = 0.0, trail / 2, sigma * math.sqrt(-2 * math.log(SEEN))
    for _ in range(20):
        reach = (low + high) / 2
        longer = light(reach + width) > SEEN * light(reach)
        low, high = (reach, high) if longer else (low, reach)
    return low


def _rounded(rgb: F32, sky: F32, star: F32, way: Array, share: F32) -> F32:
    """Stars worn down at both ends of the way they trailed along; their light goes into what is left."""
    size = share.shape[::-1]
    ends = [
        cv2.warpAffine(star, np.array([[1, 0, s * way[0]], [0, 1, s * way[1]]]), size, flags=cv2.INTER_LINEAR)
        for s in (-1, 1)
    ]
    short = np.asarray(np.minimum(*ends), np.float32)
    soft = 2 * float(np.hypot(*way)) + 1.5
    before, after = cv2.GaussianBlur(star, (0, 0), soft), cv2.GaussianBlur(short, (0, 0), soft)
    back = np.clip(before / np.maximum(after, 1e-4), 1, MOST_BACK)
    reach = 2 * int(np.ceil(np.hypot(*way))) + 1
    height = cv2.transform(star, np.array([[0.3, 0.59, 0.11]], np.float32))
    near = cv2.dilate(height, np.ones((reach, reach), np.uint8))
    sure = surely(np.asarray(near, np.float32), share, 1.0, LEAST, SURE_OF_TRAIL)
    return np.asarray(between(np.asarray(sky + short * back, np.float32), rgb, sure))
