"""Rendering a recipe on a scene, remembering what earlier steps made so that a change costs little."""

import numpy as np
import numpy.typing as npt

from vinter.core.finish.recipe import Core, Recipe, Zone
from vinter.core.finish.scene import Scene
from vinter.core.finish.steps import Canvas, Step, chain

F32 = npt.NDArray[np.float32]
U8 = npt.NDArray[np.uint8]


class Renderer:
    """Renders recipes on one scene. Results of unchanged leading steps are kept."""

    def __init__(self, scene: Scene) -> None:
        self.scene = scene
        self._done: list[tuple[Step, Canvas]] = []

    def render(self, recipe: Recipe) -> Canvas:
        """The finished canvas, RGB encoded 0 to 1 (values beyond are cut on output)."""
        canvas = Canvas(self.scene.rgb, self.scene.sky, np.zeros((2, 3)))
        kept: list[tuple[Step, Canvas]] = []
        for i, step in enumerate(chain(recipe)):
            if len(kept) == i and i < len(self._done) and self._done[i][0] == step:
                canvas = self._done[i][1]
            else:
                canvas = step.apply(canvas, self.scene)
                self._done = self._done[:i]
            kept.append((step, canvas))
        self._done = kept
        return canvas


def to_8bit(canvas: Canvas) -> U8:
    """RGB bytes of a finished canvas."""
    return np.asarray(np.clip(canvas.rgb * 255 + 0.5, 0, 255), np.uint8)


def to_16bit(canvas: Canvas) -> npt.NDArray[np.uint16]:
    """RGB in 16 bits of a finished canvas."""
    return np.asarray(np.clip(canvas.rgb * 65535 + 0.5, 0, 65535), np.uint16)


def histogram(picture: U8, bins: int = 128) -> list[list[int]]:
    """Counts by colour over evenly spaced levels."""
    shift = 256 // bins
    return [np.bincount(picture[::2, ::2, c].ravel() // shift, minlength=bins).tolist() for c in range(3)]


def suggest(scene: Scene) -> Recipe:
    """A restrained first recipe: neutral light, most glow out, a darker floor, a gentle curve."""
    return Recipe(
        glow=0.8, floor=0.9, core=Core(x=round(scene.core[0], 3), y=round(scene.core[1], 3), brightness=0.3),
        sky=Zone(kelvin=4600, contrast=1.25, brightness=1.3, colour_smoothed=0.35, light_smoothed=0.15),
        ground=Zone(kelvin=4800, brightness=1.6, contrast=1.05, colour_smoothed=0.6, light_smoothed=0.25))


def untouched() -> Recipe:
    """The stack as it comes, for the before side of a comparison."""
    return Recipe()
