"""Taking out the gradient of the sky's glow."""

from dataclasses import replace

import cv2
import numpy as np
import numpy.typing as npt

from vinter.core.finish.canvas import Canvas
from vinter.core.finish.moves.base import Move, Row, Shown, move, setting
from vinter.core.finish.pixels import less
from vinter.core.finish.scene import Scene, terms

Array = npt.NDArray[np.float64]


def glow_base(scene: Scene) -> Array:
    """Level (3,) of the darkest tenth of the smooth sky; worked out once a scene."""
    if "glow_base" not in scene.__dict__:
        scene.__dict__["glow_base"] = _glow_base(scene)
    return np.asarray(scene.__dict__["glow_base"])


def _glow_base(scene: Scene) -> Array:
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
        full = np.asarray(cv2.resize(over, (w, h), interpolation=cv2.INTER_LINEAR), np.float32)
        return replace(canvas, rgb=less(canvas.rgb, full, canvas.sky), background=self.background(scene))
