"""Taking out the gradient of the sky's glow."""

from dataclasses import replace

import cv2
import numpy as np
import numpy.typing as npt

from vinter.core.finish.canvas import Canvas
from vinter.core.finish.moves.base import F32, Move, Row, Shown, move, setting
from vinter.core.finish.scene import Scene, terms

Array = npt.NDArray[np.float64]


def less_sky(canvas: Canvas, amounts: list[F32]) -> F32:
    """The picture with something subtracted from its sky, by colour."""
    return np.asarray(cv2.subtract(canvas.rgb, cv2.merge(amounts)), np.float32)


def glow_base(scene: Scene) -> Array:
    """Level (3,) of the darkest tenth of the smooth sky."""
    gx, gy = np.meshgrid(np.linspace(0.02, 0.98, 24), np.linspace(0.02, 0.98, 24))
    h, w = scene.sky.shape
    sky = scene.sky[(gy * (h - 1)).astype(int), (gx * (w - 1)).astype(int)] > 0.9
    surface = terms(gx.ravel(), gy.ravel()) @ scene.glow
    inside = surface[sky.ravel()] if sky.any() else surface
    return np.asarray(np.percentile(inside, 10, axis=0))


@move("gradient_removal", place=20)
class GradientRemoval(Move):
    """Take out a share of the gradient of the sky's glow, down to its darkest place."""

    share: float = setting(0.0, Shown("gradient taken out", "%", Row("Town glow", 30), "sky"), ge=0, le=1)

    def background(self, scene: Scene) -> Array:
        """Level (3,) of the sky's background afterwards."""
        return np.asarray(self.share * glow_base(scene) + (1 - self.share) * scene.background)

    def apply(self, canvas: Canvas, scene: Scene) -> Canvas:
        """The canvas with a share of the smooth glow subtracted from its sky."""
        if self.share == 0:
            return canvas
        x, y = canvas.places(16)
        surface = (terms(np.clip(x, 0, 1).ravel(), np.clip(y, 0, 1).ravel()) @ scene.glow).reshape(
            *x.shape, 3
        )
        over = (surface - glow_base(scene)).astype(np.float32) * np.float32(self.share)
        h, w = canvas.sky.shape
        full = cv2.split(cv2.resize(over, (w, h), interpolation=cv2.INTER_LINEAR))
        return replace(
            canvas,
            rgb=less_sky(canvas, [np.asarray(c * canvas.sky, np.float32) for c in full]),
            background=self.background(scene),
        )
