"""What passes from move to move of an edit."""

from dataclasses import dataclass, replace

import numpy as np
import numpy.typing as npt

from vinter.core.finish.scene import Scene

F32 = npt.NDArray[np.float32]
Array = npt.NDArray[np.float64]


@dataclass(frozen=True)
class Canvas:
    """RGB (h, w, 3), share of sky (h, w), the geometry done so far, and the level (3,) of the sky's
    background in the picture's units.

    ``to_shares`` (3, 3) maps a pixel of this canvas to shares of the uncropped scene, as a homography.
    """

    rgb: F32
    sky: F32
    to_shares: Array
    background: Array

    def part(self, left: int, top: int, wide: int, high: int) -> "Canvas":
        """A part of it, in px."""
        here = np.s_[top : top + high, left : left + wide]
        moved = np.array([[1.0, 0, left], [0, 1, top], [0, 0, 1]])
        return replace(
            self,
            rgb=np.ascontiguousarray(self.rgb[here]),
            sky=np.ascontiguousarray(self.sky[here]),
            to_shares=self.to_shares @ moved,
        )

    def places(self, step: int) -> tuple[Array, Array]:
        """Shares of the scene's width and height on a coarse grid over the canvas, about ``step`` px
        apart."""
        h, w = self.sky.shape
        gx, gy = np.meshgrid(
            np.linspace(0, w - 1, max(w // step, 2)), np.linspace(0, h - 1, max(h // step, 2))
        )
        at = self.to_shares @ np.stack([gx.ravel(), gy.ravel(), np.ones(gx.size)])
        return (at[0] / at[2]).reshape(gx.shape), (at[1] / at[2]).reshape(gx.shape)

    def pixels(self, shares: Array) -> Array:
        """Pixels (n, 2) of this canvas for places (n, 2) in shares of the scene."""
        at = np.linalg.solve(self.to_shares, np.c_[shares, np.ones(len(shares))].T)
        return np.asarray((at[:2] / at[2]).T)


def fresh(scene: Scene) -> Canvas:
    """The canvas an edit begins with."""
    height, width = scene.sky.shape
    left, top, wide, high = scene.window
    to_shares = np.array(
        [
            [wide / width, 0, left + 0.5 * wide / width],
            [0, high / height, top + 0.5 * high / height],
            [0, 0, 1],
        ]
    )
    return Canvas(scene.rgb, scene.sky, to_shares, scene.background)
