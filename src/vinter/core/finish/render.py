"""Rendering a recipe on a scene, remembering what earlier steps made so that a change costs little."""

import numpy as np
import numpy.typing as npt

from vinter.core.finish.canvas import Canvas, fresh
from vinter.core.finish.guard import VISIBLE_NOISE, seen_noise
from vinter.core.finish.linear_light import LinearLight
from vinter.core.finish.loops.pixels import bytes_of, counted
from vinter.core.finish.moves.base import LinearMove, Move
from vinter.core.finish.moves.black_point import BlackPoint
from vinter.core.finish.moves.colour import Colour as Saturation
from vinter.core.finish.moves.colour import SkySaturation
from vinter.core.finish.moves.core_light import CoreLight
from vinter.core.finish.moves.curve import Contrast, Curve
from vinter.core.finish.moves.detail import Contrast as LocalContrast
from vinter.core.finish.moves.detail import Detail
from vinter.core.finish.moves.geometry import MOST_TURN, Geometry
from vinter.core.finish.moves.gradient_removal import GradientRemoval, glow_base
from vinter.core.finish.moves.light_balance import GroundLight, Light, LightBalance, balance_gains
from vinter.core.finish.moves.noise_reduction import NoiseReduction, Smoothing
from vinter.core.finish.moves.stars import Stars
from vinter.core.finish.recipe import RecipeParts, recipe_of
from vinter.core.finish.scene import Scene, region

F32 = npt.NDArray[np.float32]
U8 = npt.NDArray[np.uint8]
Box = tuple[int, int, int, int]
SURROUND = 128  # px to each side that are worked with a part: haze looks some degrees about a pixel
NIGHT_RED_TO_BLUE = 0.92
SMOOTHED, MOST_SMOOTHED = 0.35, 0.85  # share of the sky's colour noise, where noise just shows, and at most
LEAST_BRIGHTNESS = 0.9  # EV: a picture that is too dark tells nothing of its noise either


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


def cool_kelvin(scene: Scene) -> float:
    """Light balance at which the sky's own background comes out a little cool, as a night should look."""
    background = glow_base(scene) / np.array(scene.colour.neutral)
    kelvins = np.arange(2600.0, 9000.0, 50.0)
    balanced = [
        np.array(scene.colour.matrix) @ (background * balance_gains(float(k), scene.colour)) for k in kelvins
    ]
    away = [abs(rgb[0] / max(rgb[2], 1e-9) - NIGHT_RED_TO_BLUE) for rgb in balanced]
    return float(kelvins[int(np.argmin(away))])


def suggest(scene: Scene) -> RecipeParts:
    """A restrained first recipe: level, the sky a little cool, most glow out, a darker sky, a gentle curve,
    and colour noise smoothed the more of it there is. Of a picture without a night sky none: its own white,
    its own blacks."""
    if not scene.night:
        return recipe_of()
    kelvin = cool_kelvin(scene)
    first = recipe_of(
        levelled(scene),
        GradientRemoval(share=0.85),
        BlackPoint(magnitudes=1.1),
        LightBalance(
            sky=Light(kelvin=kelvin, brightness=1.6), ground=GroundLight(kelvin=kelvin, brightness=1.6)
        ),
        core_of(scene, 0.35),
        Curve(sky=Contrast(contrast=1.3), ground=Contrast(contrast=1.05)),
        Detail(sky=LocalContrast(haze=0.3, fine=0.2)),
        Saturation(sky=SkySaturation(saturation=0.15, green=0.4)),
        NoiseReduction(sky=Smoothing(colour=SMOOTHED, light=0.15), ground=Smoothing(colour=0.6, light=0.25)),
        Stars(smaller=0.2),
    )
    noise = first.of(NoiseReduction)
    colour = SMOOTHED * seen_noise(scene, first) / VISIBLE_NOISE
    sky = noise.sky.model_copy(update={"colour": round(min(max(colour, SMOOTHED), MOST_SMOOTHED), 2)})
    return held(first.with_moves(noise.model_copy(update={"sky": sky})), scene)


def held(recipe: RecipeParts, scene: Scene) -> RecipeParts:
    """A recipe whose sky is no brighter than its noise allows, and no darker than ``LEAST_BRIGHTNESS``."""
    over = float(np.log2(max(seen_noise(scene, recipe), 1e-9) / VISIBLE_NOISE))
    if over <= 0:
        return recipe
    balance = recipe.of(LightBalance)
    brightness = max(round(balance.sky.brightness - over, 2), LEAST_BRIGHTNESS)
    sky = balance.sky.model_copy(update={"brightness": min(brightness, balance.sky.brightness)})
    return recipe.with_moves(balance.model_copy(update={"sky": sky}))


def levelled(scene: Scene) -> Geometry:
    """The turn that makes the picture stand level by the stars; none where they do not tell, or too far
    off."""
    tilt = scene.tilt
    return (
        Geometry(level=round(tilt, 1)) if tilt is not None and 0.05 < abs(tilt) <= MOST_TURN else Geometry()
    )


def core_of(scene: Scene, brightness: float) -> CoreLight:
    """The core brightened where it stands."""
    return CoreLight(x=round(scene.core[0], 3), y=round(scene.core[1], 3), brightness=brightness)


def untouched(scene: Scene) -> RecipeParts:
    """The stack as it comes, in its own white, for the before side of a comparison."""
    kelvin = scene.colour.kelvin
    return recipe_of(LightBalance(sky=Light(kelvin=kelvin), ground=GroundLight(kelvin=kelvin)))
