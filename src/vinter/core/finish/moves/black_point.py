"""Darkening the sky's background by magnitudes."""

from dataclasses import replace

import numpy as np

from vinter.core.finish.canvas import Canvas
from vinter.core.finish.ground_light import ground_light
from vinter.core.finish.linear_light import LinearLight
from vinter.core.finish.moves.base import DARK_AND_LIGHT, LinearMove, Shown, move, setting
from vinter.core.finish.scene import Scene


@move("black_point", place=30)
class BlackPoint(LinearMove):
    """Darken the sky's background: the level that is subtracted is the sky's own colour."""

    magnitudes: float = setting(
        0.0, Shown("black point", "mag", DARK_AND_LIGHT, "sky", step=0.05), ge=0, le=3
    )

    @property
    def left(self) -> float:
        """Share of the background that stays."""
        return float(10 ** (-0.4 * self.magnitudes))

    def asked(self, light: LinearLight, canvas: Canvas, scene: Scene) -> tuple[LinearLight, Canvas]:
        """The sky's pedestal lowered."""
        if self.magnitudes == 0:
            return light, canvas
        level = np.asarray(canvas.background * (1 - self.left), np.float32)
        smooth = light.smooth
        if smooth is None:
            smooth = np.asarray(canvas.background, np.float32)[None, None]
        taking = replace(light, level=level, smooth=smooth, below=ground_light(scene))
        return taking, replace(canvas, background=canvas.background * self.left)
