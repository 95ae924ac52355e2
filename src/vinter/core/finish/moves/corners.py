"""What the lens did to the corners: light given back where it darkened them, colours laid on one another."""

from dataclasses import replace

import numpy as np

from vinter.core.finish.canvas import Canvas
from vinter.core.finish.linear_light import LinearLight
from vinter.core.finish.loops.neighbours import drawn_in
from vinter.core.finish.moves.base import F32, LinearMove, Row, Shown, move, setting
from vinter.core.finish.scene import Scene

CORNERS = Row("Corners", 15)
MOST_FRINGE = 5.0  # px


@move("corners", place=15)
class Corners(LinearMove):
    """Light given back to the corners: EV in the corner, falling to the centre with the fourth power of the
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

    @property
    def alone(self) -> bool:
        """Whether colours are drawn in, for which a pixel's neighbours are looked at."""
        return self.red != 0 or self.blue != 0

    def asked(self, light: LinearLight, canvas: Canvas, scene: Scene) -> tuple[LinearLight, Canvas]:
        """An even field; the colours of the canvas are laid on one another."""
        canvas = replace(canvas, rgb=self._together(canvas, scene))
        if self.amount == 0:
            return light, canvas
        x, y = canvas.places(16)
        half = np.hypot(1, scene.shape) / 2
        r2 = ((x - 0.5) ** 2 + ((y - 0.5) * scene.shape) ** 2) / half**2
        gain = (2.0 ** (self.amount * (0.7 * r2 + 0.3 * r2**2))).astype(np.float32)
        return replace(light, gain=gain[..., None]), canvas

    def _together(self, canvas: Canvas, scene: Scene) -> F32:
        """The picture with red and blue of green's size."""
        if self.red == 0 and self.blue == 0:
            return canvas.rgb
        middle = canvas.pixels(np.array([[0.5, 0.5]]))[0]
        larger = 1 + np.array([self.red, 0.0, self.blue]) / scene.corner_px
        return np.asarray(drawn_in(canvas.rgb, larger, middle), np.float32)
