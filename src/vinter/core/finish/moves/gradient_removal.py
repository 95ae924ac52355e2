"""Taking out the gradient of the sky's glow."""

from dataclasses import replace

import numpy as np
import numpy.typing as npt

from vinter.core.finish.canvas import Canvas
from vinter.core.finish.ground_light import ground_light
from vinter.core.finish.linear_light import LinearLight
from vinter.core.finish.moves.base import LinearMove, Row, Shown, move, setting
from vinter.core.finish.scene import Scene
from vinter.core.finish.smooth_glow import polynomial, surface

Array = npt.NDArray[np.float64]
GLOW = Row("Town glow", 30)
MOST_PLAIN = 40
PATCH = 0.012  # share of the width, half the side of the patch looked at around a plain place
PLANE, BOWL = 3, 7  # marked places from which on a plane, and a bowl, is drawn through them
STIFF = 1e-4  # weight that keeps the terms of a bowl small


def glow_base(scene: Scene) -> Array:
    """Level (3,) of the darkest tenth of the smooth sky; worked out once a scene."""
    if "glow_base" not in scene.__dict__:
        scene.__dict__["glow_base"] = _glow_base(scene)
    return np.asarray(scene.__dict__["glow_base"])


def glow_range(scene: Scene) -> float:
    """How often the darkest place of the smooth sky goes into its brightest, in green."""
    return float(np.percentile(_smooth(scene)[:, 1], 98) / max(glow_base(scene)[1], 1e-9))


def _glow_base(scene: Scene) -> Array:
    return np.asarray(np.percentile(_smooth(scene), 10, axis=0))


def _smooth(scene: Scene) -> Array:
    """The smooth sky (n, 3) at places all over it."""
    gx, gy = np.meshgrid(np.linspace(0.02, 0.98, 24), np.linspace(0.02, 0.98, 24))
    h, w = scene.sky.shape
    sky = scene.sky[(gy * (h - 1)).astype(int), (gx * (w - 1)).astype(int)] > 0.9
    level = surface(scene.glow, gx, gy)
    return np.asarray(level[sky] if sky.any() else level.reshape(-1, 3))


def plain_level(scene: Scene, x: float, y: float) -> Array:
    """Level (3,) of the sky about a place in shares of a whole picture: the median, so that stars do not
    count."""
    w, h = scene.size
    column, row, reach = int(x * (w - 1)), int(y * (h - 1)), max(round(PATCH * w), 2)
    part = np.s_[max(row - reach, 0) : row + reach + 1, max(column - reach, 0) : column + reach + 1]
    return np.asarray(np.median(scene.rgb[part].reshape(-1, 3), axis=0), float)


@move("gradient_removal", place=20)
class GradientRemoval(LinearMove):
    """Take out a share of the gradient of the sky's glow, down to its darkest place. The glow is what was
    measured in the picture, or with three places or more marked as plain sky a surface through those (x, y in
    shares, and their level in three colours, as it was when they were marked)."""

    share: float = setting(0.0, Shown("gradient taken out", "%", GLOW, "sky"), ge=0, le=1)
    plain: tuple[tuple[float, float, float, float, float], ...] = setting((), max_length=MOST_PLAIN)

    @property
    def by_hand(self) -> bool:
        """Whether enough places are marked."""
        return len(self.plain) >= PLANE

    def _marked(self) -> tuple[Array, Array]:
        """Coefficients (10, 3) of the surface through the marked places, and their darkest level (3,)."""
        marks = np.array(self.plain)
        x, y, level = marks[:, 0], marks[:, 1], marks[:, 2:]
        full = polynomial(x, y)
        order = np.array([i + j for i in range(4) for j in range(4 - i)])
        used = order <= (2 if len(marks) >= BOWL else 1)
        design = full[:, used]
        held = STIFF * len(marks) * np.diag((order[used] > 1).astype(float))
        out = np.zeros((len(order), 3))
        out[used] = np.linalg.solve(design.T @ design + held + 1e-9 * np.eye(used.sum()), design.T @ level)
        return out, np.asarray(level.min(axis=0))

    def _surface(self, scene: Scene) -> tuple[Array, Array]:
        return self._marked() if self.by_hand else (scene.glow, glow_base(scene))

    def background(self, scene: Scene) -> Array:
        """Level (3,) of the sky's background afterwards."""
        return np.asarray(self.share * self._surface(scene)[1] + (1 - self.share) * scene.background)

    def asked(self, light: LinearLight, canvas: Canvas, scene: Scene) -> tuple[LinearLight, Canvas]:
        """A share of the smooth glow taken off the sky."""
        if self.share == 0:
            return light, canvas
        glow, base = self._surface(scene)
        x, y = canvas.places(16)
        level = surface(glow, np.clip(x, 0, 1), np.clip(y, 0, 1))
        over = (level - base).astype(np.float32) * np.float32(self.share)
        taking = replace(light, amount=over, smooth=np.asarray(level, np.float32), below=ground_light(scene))
        return taking, replace(canvas, background=self.background(scene))
