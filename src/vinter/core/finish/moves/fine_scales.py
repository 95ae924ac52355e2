"""Detail of one, two and four pixels made steeper, each scale by itself: for discs and other things that are
bright and small."""

from dataclasses import replace

import numpy as np

from vinter.core.finish.canvas import Canvas
from vinter.core.finish.loops.neighbours import add_layer, brightened, softened
from vinter.core.finish.loops.pixels import light_of
from vinter.core.finish.moves.base import Move, Row, Shown, move, setting
from vinter.core.finish.scene import Scene

SCALES = Row("Fine scales", 68)
SURE = 2.5  # standard deviations of a scale's grain above which its detail is trusted
SOME = 5  # rows and columns: every fifth is looked at where grain is measured
ANY_LIGHT = 1e6
LARGEST = 0.25  # encoded light that a scale adds or removes at most


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
        light = light_of(canvas.rgb, ANY_LIGHT)
        # at a reduced size the finest scales are not there: the layers move up
        missing = round(-np.log2(max(scene.scale, 1e-3)))
        added = np.zeros_like(light)
        for k, amount in enumerate(wanted[missing:] if missing < len(wanted) else ()):
            softer = softened(light, 2**k)
            if amount:
                some = light[::SOME, ::SOME] - softer[::SOME, ::SOME]
                grain = 1.4826 * float(np.median(np.abs(some))) + 1e-6
                add_layer(added, light, softer, amount, 1 / (SURE * grain) if amount > 0 else 0.0)
            light = softer
        return replace(canvas, rgb=brightened(canvas.rgb, added, LARGEST))
