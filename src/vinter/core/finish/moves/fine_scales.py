"""Detail of one, two and four pixels made steeper, each scale by itself: for discs and other things that are
bright and small."""

from dataclasses import replace

import cv2
import numpy as np

from vinter.core.finish.canvas import Canvas
from vinter.core.finish.moves.base import F32, Move, Row, Shown, move, setting
from vinter.core.finish.scene import Scene

SCALES = Row("Fine scales", 68)
SPLINE = np.array([1, 4, 6, 4, 1], np.float32) / 16  # the wavelet's smoothing kernel (B3)
SURE = 2.5  # deviations of a scale's grain, over which its detail is trusted
LARGEST = 0.25  # encoded light that a scale adds or takes at most


@move("fine_scales", place=68)
class FineScales(Move):
    """Wavelet layers (a trous, B3 spline) of the encoded light, each multiplied; what is no stronger than the
    grain of its scale is left as it is."""

    one: float = setting(0.0, Shown("of 1 px", "%", SCALES, "sky", risky=1.5), ge=-1, le=4)
    two: float = setting(0.0, Shown("of 2 px", "%", SCALES, "ground", risky=2.0), ge=-1, le=4)
    four: float = setting(0.0, Shown("of 4 px", "%", SCALES, "sky", risky=2.0), ge=-1, le=4)
    eight: float = setting(0.0, Shown("of 8 px", "%", SCALES, "ground", risky=2.0), ge=-1, le=4)

    def apply(self, canvas: Canvas, scene: Scene) -> Canvas:
        """The canvas with its fine detail steeper."""
        wanted = (self.one, self.two, self.four, self.eight)
        if not any(wanted):
            return canvas
        light = np.asarray(cv2.transform(canvas.rgb, np.array([[0.3, 0.59, 0.11]], np.float32)), np.float32)
        # at a reduced size the finest scales are not there: the layers move up
        missing = round(-np.log2(max(scene.scale, 1e-3)))
        added = np.zeros_like(light)
        smooth = light
        for k, amount in enumerate(wanted[missing:] if missing < len(wanted) else ()):
            softer = _smoothed(smooth, 2**k)
            layer = smooth - softer
            if amount:
                grain = 1.4826 * float(np.median(np.abs(layer[::3, ::3]))) + 1e-6
                trusted = 1 - np.exp(-((layer / (SURE * grain)) ** 2)) if amount > 0 else 1.0
                added += amount * layer * trusted
            smooth = softer
        added = np.clip(added, -LARGEST, LARGEST)
        return replace(canvas, rgb=np.asarray(canvas.rgb + added[..., None], np.float32))


def _smoothed(light: F32, step: int) -> F32:
    """Light smoothed by the kernel with its places ``step`` px apart."""
    kernel = np.zeros(4 * step + 1, np.float32)
    kernel[::step] = SPLINE
    return np.asarray(cv2.sepFilter2D(light, -1, kernel, kernel, borderType=cv2.BORDER_REFLECT), np.float32)
