"""Less colour noise, then less luminance noise; stars and edges stand out and stay."""

from dataclasses import replace

import cv2
import numpy as np

from vinter.core.finish.canvas import Canvas
from vinter.core.finish.moves.base import Move, Part, Row, Shown, move, setting
from vinter.core.finish.neighbours import calmer, luma_and_colours
from vinter.core.finish.scene import Scene

GRAIN = Row("Noise", 70)
LEAST_COLOUR = 0.12  # encoded, from which on a colour stands out of a picture without grain
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
        luma, colours = luma_and_colours(canvas.rgb)
        soft, smooth, grain = colours, luma, np.array([1e-5, LEAST_COLOUR])
        if colour:
            half = cv2.resize(colours, (max(w // 2, 1), max(h // 2, 1)), interpolation=cv2.INTER_AREA)
            soft = np.asarray(cv2.GaussianBlur(half, (0, 0), max(3.5 * scene.scale, 0.5)), np.float32)
            some = soft[: h // 2 : 4, : w // 2 : 4]
            away = np.abs(colours[::8, ::8][: some.shape[0], : some.shape[1]] - some)
            grain[1] = max(4 * 1.4826 * float(np.median(away)), LEAST_COLOUR)
        if light:
            smooth = np.asarray(cv2.GaussianBlur(luma, (0, 0), max(2.2 * scene.scale, 0.6)), np.float32)
            grain[0] += 3 * 1.4826 * float(np.median(np.abs(luma[::8, ::8] - smooth[::8, ::8])))
        of_colour, of_light = (
            np.array([getattr(zone, name) for zone in (self.sky, self.ground)])
            for name in ("colour", "light")
        )
        calm = calmer(luma, colours, soft, smooth, canvas.sky, of_colour, of_light, grain)
        return replace(canvas, rgb=calm)
