"""Dark corners brought up, as far as the lens darkened them."""

from dataclasses import replace

import cv2
import numpy as np

from vinter.core.finish.canvas import Canvas
from vinter.core.finish.moves.base import Move, Row, Shown, move, setting
from vinter.core.finish.pixels import scaled
from vinter.core.finish.scene import Scene

CORNERS = Row("Corners", 15)


@move("corners", place=15)
class Corners(Move):
    """Light given back to the corners: EV in the corner, falling to the middle with the fourth power of the
    cosine of a wide lens (r^2 and r^4)."""

    amount: float = setting(
        0.0, Shown("corners brighter by", "EV", CORNERS, "sky", step=0.05, risky=0.8), ge=-0.5, le=1.5
    )

    def apply(self, canvas: Canvas, scene: Scene) -> Canvas:
        """The canvas with an even field."""
        if self.amount == 0:
            return canvas
        x, y = canvas.places(16)
        half = np.hypot(1, scene.shape) / 2
        r2 = ((x - 0.5) ** 2 + ((y - 0.5) * scene.shape) ** 2) / half**2
        gain = cv2.resize(
            (2.0 ** (self.amount * (0.7 * r2 + 0.3 * r2**2))).astype(np.float32), canvas.sky.shape[::-1]
        )
        return replace(canvas, rgb=scaled(canvas.rgb, gain))
