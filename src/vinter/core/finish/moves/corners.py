"""What the lens did to the corners: light given back where it darkened them, colours laid on one another."""

from dataclasses import replace

import cv2
import numpy as np

from vinter.core.finish.canvas import Canvas
from vinter.core.finish.moves.base import F32, Move, Row, Shown, move, setting
from vinter.core.finish.pixels import scaled
from vinter.core.finish.scene import Scene

CORNERS = Row("Corners", 15)
MOST_FRINGE = 5.0  # px


@move("corners", place=15)
class Corners(Move):
    """Light given back to the corners: EV in the corner, falling to the middle with the fourth power of the
    cosine of a wide lens (r^2 and r^4). Red and blue drawn in: by how many px of the full size they lie
    outside green in the corner."""

    amount: float = setting(
        0.0, Shown("corners brighter by", "EV", CORNERS, "sky", step=0.05, risky=0.8), ge=-0.5, le=1.5
    )

    red: float = setting(
        0.0, Shown("red fringe drawn in", "px", CORNERS, "ground", step=0.05), ge=-MOST_FRINGE, le=MOST_FRINGE
    )
    blue: float = setting(
        0.0,
        Shown("blue fringe drawn in", "px", CORNERS, "ground", step=0.05),
        ge=-MOST_FRINGE,
        le=MOST_FRINGE,
    )

    def apply(self, canvas: Canvas, scene: Scene) -> Canvas:
        """The canvas with an even field, its colours on one another."""
        canvas = replace(canvas, rgb=self._together(canvas, scene))
        if self.amount == 0:
            return canvas
        x, y = canvas.places(16)
        half = np.hypot(1, scene.shape) / 2
        r2 = ((x - 0.5) ** 2 + ((y - 0.5) * scene.shape) ** 2) / half**2
        gain = (2.0 ** (self.amount * (0.7 * r2 + 0.3 * r2**2))).astype(np.float32)
        return replace(canvas, rgb=scaled(canvas.rgb, gain[..., None]))

    def _together(self, canvas: Canvas, scene: Scene) -> F32:
        """The picture with red and blue of green's size."""
        if self.red == 0 and self.blue == 0:
            return canvas.rgb
        middle = canvas.pixels(np.array([[0.5, 0.5]]))[0]
        planes = list(cv2.split(canvas.rgb))
        for c, px in ((0, self.red), (2, self.blue)):
            larger = 1 + px / scene.corner_px
            if px:
                back = np.array(
                    [[larger, 0, middle[0] * (1 - larger)], [0, larger, middle[1] * (1 - larger)]]
                )
                planes[c] = cv2.warpAffine(
                    planes[c],
                    back,
                    canvas.sky.shape[::-1],
                    flags=cv2.INTER_CUBIC | cv2.WARP_INVERSE_MAP,
                    borderMode=cv2.BORDER_REPLICATE,
                )
        return np.asarray(cv2.merge(planes), np.float32)
