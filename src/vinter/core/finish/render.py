"""Rendering a recipe on a scene, remembering what earlier steps made so that a change costs little."""

import numpy as np
import numpy.typing as npt

from vinter.core.finish.canvas import Canvas, fresh
from vinter.core.finish.linear_light import LinearLight
from vinter.core.finish.loops.pixels import bytes_of, counted
from vinter.core.finish.moves.base import LinearMove, Move
from vinter.core.finish.moves.geometry import Geometry
from vinter.core.finish.recipe import RecipeParts
from vinter.core.finish.scene import Scene, region

F32 = npt.NDArray[np.float32]
U8 = npt.NDArray[np.uint8]
Box = tuple[int, int, int, int]
SURROUND = 128  # px to each side that are worked with a part: haze looks some degrees about a pixel


class Renderer:
    """Renders recipes on one scene. Results of unchanged leading moves are kept."""

    def __init__(self, scene: Scene) -> None:
        self.scene = scene
        self._done: list[tuple[list[Move], Canvas]] = []

    def render(self, recipe: RecipeParts, before: type[Move] | None = None) -> Canvas:
        """The finished canvas, RGB encoded 0 to 1 (values beyond are cut on output); or as it would be if
        nothing were done from the move ``before`` on but to turn and crop it."""
        canvas = fresh(self.scene)
        done: list[tuple[list[Move], Canvas]] = []
        wanted = [
            m for m in recipe.moves() if before is None or m.place < before.place or isinstance(m, Geometry)
        ]
        for i, moves in enumerate(_steps(wanted)):
            if len(done) == i and i < len(self._done) and self._done[i][0] == moves:
                canvas = self._done[i][1]
            else:
                canvas = self._together(moves, canvas)
                self._done = self._done[:i]
            done.append((moves, canvas))
        self._done = done
        return canvas

    def _together(self, moves: list[Move], canvas: Canvas) -> Canvas:
        """A step done: a move by itself, or several of linear light in one pass."""
        if len(moves) == 1:
            return moves[0].apply(canvas, self.scene)
        light = LinearLight()
        for move in moves:
            if isinstance(move, LinearMove):
                light, canvas = move.asked(light, canvas, self.scene)
        return light.on(canvas)


class PartRenderer:
    """Renders recipes on a part at full size of a picture (``box``: left, top, width, height in px), as it
    lies in the file: neither turned nor cropped. What surrounds it is worked along with it, for the moves
    look about each pixel."""

    def __init__(self, whole: Scene, rgb: F32, mask: U8 | None, box: Box) -> None:
        left, top, wide, high = box
        first, above = max(left - SURROUND, 0), max(top - SURROUND, 0)
        end, below = min(left + wide + SURROUND, rgb.shape[1]), min(top + high + SURROUND, rgb.shape[0])
        self.box = box
        self._inner = (left - first, top - above, wide, high)
        self._renderer = Renderer(region(whole, rgb, mask, (first, above, end - first, below - above)))

    def render(self, recipe: RecipeParts) -> Canvas:
        """The finished canvas of the part alone."""
        return self._renderer.render(recipe.with_moves(Geometry())).part(*self._inner)


def _steps(moves: list[Move]) -> list[list[Move]]:
    """Moves by what is done at once: those of linear light that follow one another (what lies between them at
    rest does nothing) together, others each by itself."""
    steps: list[list[Move]] = []
    at_rest: list[Move] = []
    together = False
    for move in moves:
        linear = isinstance(move, LinearMove) and not move.alone
        if together and linear:
            steps[-1].append(move)
            at_rest = []
        elif together and move == type(move)():
            at_rest.append(move)
        else:
            steps += [*([one] for one in at_rest), [move]]
            at_rest, together = [], linear
    return [*steps, *([one] for one in at_rest)]


def to_8bit(canvas: Canvas) -> U8:
    """RGB bytes of a finished canvas."""
    return np.asarray(bytes_of(canvas.rgb))


def dithered_8bit(canvas: Canvas, seed: int = 0) -> U8:
    """RGB bytes with the rounding of each hidden in a little noise, so that a smooth sky does not break into
    bands; the same canvas gives the same bytes."""
    rng, height = np.random.default_rng([seed, 8]), canvas.sky.shape[0]
    out = np.empty(canvas.rgb.shape, np.uint8)
    for top in range(0, height, 256):
        part = canvas.rgb[top : top + 256]
        noise = rng.random(part.shape, np.float32) - rng.random(part.shape, np.float32)
        out[top : top + 256] = np.clip(part * 255 + noise + np.float32(0.5), 0, 255)
    return out


def to_16bit(canvas: Canvas) -> npt.NDArray[np.uint16]:
    """RGB in 16 bits of a finished canvas."""
    return np.asarray(np.clip(canvas.rgb * 65535 + 0.5, 0, 65535), np.uint16)


def histogram(picture: U8, sky: F32, bins: int = 128) -> dict[str, list[int]]:
    """Counts of the sky's and the ground's light over evenly spaced levels."""
    ground, heaven = counted(picture, sky, bins)
    return {"sky": heaven.tolist(), "ground": ground.tolist()}
