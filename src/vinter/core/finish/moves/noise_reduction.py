"""Less colour noise, then less luminance noise; stars and edges stand out and stay."""

from dataclasses import replace

import cv2
import numpy as np

from vinter.core.finish.canvas import Canvas
from vinter.core.finish.loops.grain import calmer, colours_of, details, weights
from vinter.core.finish.loops.pixels import shrunk
from vinter.core.finish.moves.base import Move, Part, Row, Shown, move, setting
from vinter.core.finish.scene import Scene

GRAIN = Row("Noise", 70)
COLOUR_PX, LIGHT_PX = 7.0, 2.2  # px at full size that colour and light are smoothed over (deviations)
SHRINKABLE = 2.5  # px of that, from which on a smaller picture of blocks of 4 px serves as well
SOME = 12  # rows and columns: every twelfth is looked at where the grain of colour is measured
LEAST_COLOUR = 0.12  # encoded colour that stands out of a picture without grain
SMOOTH_LIMIT = 0.33  # share of luminance above which grain turns to blotches


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
        soft, taps = np.zeros((1, 1, 2), np.float32), weights(max(LIGHT_PX * scene.scale, 0.6))
        usual = np.array([1e-5, LEAST_COLOUR])
        if colour:
            wide = COLOUR_PX * scene.scale
            step = 4 if wide >= SHRINKABLE else 2
            small = colours_of(shrunk(canvas.rgb, step))
            soft = np.asarray(cv2.GaussianBlur(small, (0, 0), max(wide / step, 0.5)), np.float32)
            some = soft[:: SOME // step, :: SOME // step]
            own = colours_of(np.ascontiguousarray(canvas.rgb[::SOME, ::SOME]))[
                : some.shape[0], : some.shape[1]
            ]
            usual[1] = max(4 * 1.4826 * float(np.median(np.abs(own - some))), LEAST_COLOUR)
        usual[0] += 3 * 1.4826 * float(np.median(np.abs(details(canvas.rgb, taps))))
        amounts = np.array([[self.sky.colour, self.ground.colour], [self.sky.light, self.ground.light]])
        return replace(canvas, rgb=calmer(canvas.rgb, soft, taps, canvas.sky, amounts, usual))
