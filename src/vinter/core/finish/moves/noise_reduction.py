"""Less colour noise, then less luminance noise; stars and edges stand out and stay."""

from dataclasses import replace

import cv2
import numpy as np

from vinter.core.finish.canvas import Canvas
from vinter.core.finish.moves.base import F32, Move, Part, Row, Shown, move, setting
from vinter.core.finish.scene import Scene

GRAIN = Row("Noise", 70)
SMOOTH_LIMIT = 0.33  # of luminance, beyond which grain turns to blotches


class Smoothing(Part):
    """Shares of colour noise and of luminance noise taken out of a zone."""

    colour: float = setting(0.0, Shown("colour noise smoothed", "%", GRAIN), ge=0, le=1)
    light: float = setting(0.0, Shown("luminance noise smoothed", "%", GRAIN, risky=SMOOTH_LIMIT), ge=0, le=1)


def _calmer(chroma: F32, share: F32, scale: float) -> F32:
    """A colour difference moved towards its surroundings, less where it stands far off (stars, lamps)."""
    h, w = chroma.shape
    small = cv2.resize(chroma, (max(w // 2, 1), max(h // 2, 1)), interpolation=cv2.INTER_AREA)
    soft = cv2.resize(
        cv2.GaussianBlur(small, (0, 0), max(3.5 * scale, 0.5)), (w, h), interpolation=cv2.INTER_LINEAR
    )
    away = np.asarray(soft - chroma, np.float32)
    return np.asarray(chroma + share * away / (1 + (away * (1 / 0.12)) ** 2), np.float32)


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

        def share(sky: float, ground: float) -> F32:
            return np.asarray(ground + canvas.sky * (sky - ground), np.float32)

        y, red, blue = cv2.split(cv2.cvtColor(canvas.rgb, cv2.COLOR_RGB2YCrCb))
        if colour:
            part = share(self.sky.colour, self.ground.colour)
            red, blue = (_calmer(c, part, scene.scale) for c in (red, blue))
        if light:
            detail = y - cv2.GaussianBlur(y, (0, 0), max(2.2 * scene.scale, 0.6))
            grain = 1.4826 * float(np.median(np.abs(detail[::4, ::4]))) + 1e-5
            part = share(self.sky.light, self.ground.light)
            y = y - part * detail / (1 + (detail * (1 / (3 * grain))) ** 2) ** 2
        ycc = cv2.merge([np.asarray(c, np.float32) for c in (y, red, blue)])
        return replace(canvas, rgb=np.asarray(cv2.cvtColor(ycc, cv2.COLOR_YCrCb2RGB), np.float32))
