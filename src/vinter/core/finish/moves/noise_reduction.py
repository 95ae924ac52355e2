"""Less colour noise, then less luminance noise; stars and edges stand out and stay."""

from dataclasses import replace

import cv2
import numpy as np

from vinter.core.finish.canvas import Canvas
from vinter.core.finish.moves.base import Move, Part, Row, Shown, move, setting
from vinter.core.finish.pixels import calmer
from vinter.core.finish.scene import Scene

GRAIN = Row("Noise", 70)
SMOOTH_LIMIT = 0.33  # of luminance, beyond which grain turns to blotches


class Smoothing(Part):
    """Shares of colour noise and of luminance noise taken out of a zone."""

    colour: float = setting(0.0, Shown("colour noise smoothed", "%", GRAIN), ge=0, le=1)
    light: float = setting(0.0, Shown("luminance noise smoothed", "%", GRAIN, risky=SMOOTH_LIMIT), ge=0, le=1)


@move("noise_reduction", place=61)
class NoiseReduction(Move):
    """Smooth colour, then light, of sky and ground."""

    sky: Smoothing = Smoothing()
    ground: Smoothing = Smoothing()

    def apply(self, canvas: Canvas, scene: Scene) -> Canvas:
        """The canvas with less grain."""
        colour, light = self.sky.colour or self.ground.colour, self.sky.light or self.ground.light
        if not colour and not light:
            return canvas

        h, w = canvas.sky.shape
        ycc = np.asarray(cv2.cvtColor(canvas.rgb, cv2.COLOR_RGB2YCrCb), np.float32)
        soft, smooth, grain = np.ascontiguousarray(ycc[..., 1:]), np.ascontiguousarray(ycc[..., 0]), 1e-5
        if colour:
            half = cv2.resize(soft, (max(w // 2, 1), max(h // 2, 1)), interpolation=cv2.INTER_AREA)
            half = cv2.GaussianBlur(half, (0, 0), max(3.5 * scene.scale, 0.5))
            soft = np.asarray(cv2.resize(half, (w, h), interpolation=cv2.INTER_LINEAR), np.float32)
        if light:
            luma = smooth
            smooth = np.asarray(cv2.GaussianBlur(luma, (0, 0), max(2.2 * scene.scale, 0.6)), np.float32)
            grain += 1.4826 * float(np.median(np.abs((luma - smooth)[::8, ::8])))
        colours, lights = ([getattr(z, n) for z in (self.sky, self.ground)] for n in ("colour", "light"))
        calm = calmer(ycc, soft, smooth, canvas.sky, np.array(colours), np.array(lights), grain)
        return replace(canvas, rgb=np.asarray(cv2.cvtColor(calm, cv2.COLOR_YCrCb2RGB), np.float32))
