"""Darkening the sky's background by magnitudes."""

from dataclasses import replace

import numpy as np

from vinter.core.finish.canvas import Canvas
from vinter.core.finish.moves.base import DARK_AND_LIGHT, Move, Shown, move, setting
from vinter.core.finish.pixels import less
from vinter.core.finish.scene import Scene


@move("black_point", place=30)
class BlackPoint(Move):
    """Darken the sky's background: the level that is subtracted is the sky's own colour."""

    magnitudes: float = setting(
        0.0, Shown("black point", "mag", DARK_AND_LIGHT, "sky", step=0.05), ge=0, le=3
    )

    @property
    def left(self) -> float:
        """Share of the background that stays."""
        return float(10 ** (-0.4 * self.magnitudes))

    def apply(self, canvas: Canvas, scene: Scene) -> Canvas:
        """The canvas with the sky's pedestal lowered."""
        if self.magnitudes == 0:
            return canvas
        rgb = less(canvas.rgb, np.asarray(canvas.background * (1 - self.left), np.float32), canvas.sky)
        return replace(canvas, rgb=rgb, background=canvas.background * self.left)
