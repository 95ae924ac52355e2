"""What the data can bear: says when an edit asks for more than the frames hold."""

from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from vinter.core.finish.loops.grain import LUMA, OF_BLUE, OF_RED
from vinter.core.finish.loops.pixels import cut
from vinter.core.finish.moves.base import MOVES, Move
from vinter.core.finish.moves.black_point import BlackPoint
from vinter.core.finish.moves.colour import Colour
from vinter.core.finish.moves.core_light import CoreLight
from vinter.core.finish.moves.curve import BRIGHTEST, LUT_SIZE, Curve
from vinter.core.finish.moves.detail import Detail
from vinter.core.finish.moves.gradient_removal import GradientRemoval
from vinter.core.finish.moves.light_balance import LightBalance
from vinter.core.finish.moves.noise_reduction import SMOOTH_LIMIT, NoiseReduction
from vinter.core.finish.recipe import RecipeParts
from vinter.core.finish.scene import Scene

U8 = npt.NDArray[np.uint8]
VIEWED_PX = 2048  # px across: most pictures are seen on a screen
# sliders that lift noise, with the range that is looked through
BY_NOISE = (
    ("light_balance.sky.brightness", -4.0, 6.0),
    ("curve.sky.contrast", 0.5, 3.0),
    ("black_point.magnitudes", 0.0, 3.0),
    ("core.brightness", -1.0, 2.0),
    ("detail.sky.fine", -0.8, 1.5),
)
WIDTH = 19  # entries of the curve's table to each side over which its slope is taken
EVEN = 0.1  # EV, within which nothing is said of more or less
CUT = (254, 2)  # levels from which on a pixel is white, and to which it is black, without detail
VISIBLE_COLOUR = 3.0 / 255  # the same of colour, which blotches the sky
INTERPOLATED = 0.4  # of the noise of red and blue, which lie two pixels apart, that is left between them
SMOOTHED_AWAY = 0.95  # share of the colour noise that is gone where all is smoothed
VISIBLE_NOISE = 6.0 / 255  # encoded standard deviation at full size that reads as grain


@dataclass(frozen=True)
class Limits:
    """Noise of the finished sky at full size (levels of 255), EV left before it shows, warnings, and the
    value of each slider of ``BY_NOISE`` from which on the noise shows (those that never get there are not
    named)."""

    sky_noise: float
    headroom_ev: float
    words: list[str]
    ends: dict[str, float]


NO_NIGHT = "There is no night sky in it: nothing is suggested but its own white and its own blacks."


def sky_noise(scene: Scene, recipe: RecipeParts) -> float:
    """Encoded noise of the sky after the recipe, where it is lifted most, at full size: slope of the edit
    times noise."""
    gain, slope = _lifted(scene, recipe)
    return float(scene.noise * gain * slope * (1 - 0.8 * recipe.of(NoiseReduction).sky.light))


def colour_noise(scene: Scene, recipe: RecipeParts) -> float:
    """The same of the sky's colour: the larger of red's and blue's difference from luma, in the scale of
    YCrCb; each of the camera's colours has the same noise before it is balanced."""
    balance = recipe.of(LightBalance)
    red, green, blue = np.sqrt((np.array(balance.matrix(balance.sky, scene)) ** 2).sum(axis=1))
    r, g, b = LUMA
    of_red = OF_RED * np.sqrt(((1 - r) * red) ** 2 + (g * green) ** 2 + (b * blue) ** 2)
    of_blue = OF_BLUE * np.sqrt((r * red) ** 2 + (g * green) ** 2 + ((1 - b) * blue) ** 2)
    _, slope = _lifted(scene, recipe)
    kept = 1 - SMOOTHED_AWAY * recipe.of(NoiseReduction).sky.colour
    richer = max(1 + recipe.of(Colour).sky.saturation, 0)
    return float(INTERPOLATED * scene.noise * max(of_red, of_blue) * slope * kept * richer)


def _lifted(scene: Scene, recipe: RecipeParts) -> tuple[float, float]:
    """By how much the balance lifts the sky's light, and the edit's slope where it is lifted most."""
    level = recipe.of(GradientRemoval).background(scene)[1] * recipe.of(BlackPoint).left
    balance = recipe.of(LightBalance)
    gain = float(balance.matrix(balance.sky, scene).sum(axis=1)[1])
    at = float(np.clip(level * gain, 0.0005, 0.98))
    table = recipe.of(Curve).sky.table
    index, width = int((at / BRIGHTEST) ** 0.5 * (LUT_SIZE - 1)), WIDTH
    low, high = max(index - width, 0), min(index + width, LUT_SIZE - 1)
    slope = float(table[high] - table[low]) / ((high**2 - low**2) / (LUT_SIZE - 1) ** 2 * BRIGHTEST)
    lifted = 2.0 ** max(recipe.of(CoreLight).brightness, 0) * (1 + max(recipe.of(Detail).sky.fine, 0))
    return gain, slope * lifted


def _reduced(scene: Scene) -> float:
    """What is left of noise in the picture reduced to ``VIEWED_PX``, where pixels are averaged."""
    return float(min(VIEWED_PX * scene.scale * scene.window[2] / scene.sky.shape[1], 1.0))


def seen_noise(scene: Scene, recipe: RecipeParts) -> float:
    """The sky's noise in the picture reduced to ``VIEWED_PX``."""
    return sky_noise(scene, recipe) * _reduced(scene)


def limits(scene: Scene, recipe: RecipeParts, picture: U8, marks: dict[str, float] | None = None) -> Limits:
    """Judge a recipe on a scene and the picture it made. Where the sliders' ends lie takes longest and needs
    no picture: these ``marks`` may have been found before."""
    noise = seen_noise(scene, recipe)
    headroom = float(np.log2(VISIBLE_NOISE / max(noise, 1e-6)))
    words = [_of_noise(noise, headroom) if scene.night else NO_NIGHT]
    smoothing = recipe.of(NoiseReduction)
    colour = colour_noise(scene, recipe) * _reduced(scene)
    if scene.night and colour > max(VISIBLE_COLOUR, noise):
        words.append(
            f"The sky's colour noise of {colour * 255:.0f} levels shows beside {noise * 255:.0f} of light: "
            "smooth its colour more; stars keep theirs."
        )
    for name, zone in (("sky", smoothing.sky), ("ground", smoothing.ground)):
        if zone.light > SMOOTH_LIMIT:
            words.append(f"Smoothing the {name}'s light beyond a third turns its grain into blotches.")
    white, black, many = cut(picture, *CUT)
    if white > 0.01 * many:
        words.append(f"{100 * white / many:.0f} % of the picture is white without detail.")
    if black > 0.05 * many:
        words.append(f"{100 * black / many:.0f} % of the picture is black without detail.")
    return Limits(noise * 255, headroom, words, ends(scene, recipe) if marks is None else marks)


def _of_noise(noise: float, headroom: float) -> str:
    """What is to be said of the sky's noise."""
    if abs(headroom) < EVEN:
        return f"The sky is as bright as its noise allows, seen {VIEWED_PX} px across."
    if headroom > 0:
        return (
            f"The sky holds about {headroom:.1f} EV more before its noise shows, seen {VIEWED_PX} px across."
        )
    return (
        f"The sky is pushed {-headroom:.1f} EV beyond its noise: grain of {noise * 255:.0f} levels "
        f"shows, seen {VIEWED_PX} px across. {_more(headroom)}"
    )


def _more(headroom: float) -> str:
    """What would help: a multiple of the frames, or a smaller picture."""
    times = 2 ** (-2 * headroom)
    return f"You would need {times:.1f} times as many frames for it, or a picture {2**headroom:.0%} as wide."


def ends(scene: Scene, recipe: RecipeParts) -> dict[str, float]:
    """Where on each slider the noise of the sky begins to show, the others as they are."""
    found = {}
    for path, low, high in BY_NOISE:
        key, *way = path.split(".")
        kind = MOVES[key]

        def noise(value: float, kind: type[Move] = kind, way: list[str] = way, key: str = key) -> float:
            # in steps of a table, so that tables are found again
            value = round(value * 20) / 20 if key == "curve" else value
            return seen_noise(scene, recipe.with_moves(_set(recipe.of(kind), way, value)))

        if noise(high) < VISIBLE_NOISE:
            continue
        if noise(low) >= VISIBLE_NOISE:
            found[path] = low
            continue
        below, above = low, high
        for _ in range(6):
            middle = (below + above) / 2
            below, above = (middle, above) if noise(middle) < VISIBLE_NOISE else (below, middle)
        found[path] = round(below, 3)
    return found


def _set(part: Move, way: list[str], value: float) -> Move:
    """A move with one of its values, named by its way through the parts, set otherwise."""
    name, *rest = way
    if not rest:
        return part.model_copy(update={name: value})
    inner = getattr(part, name)
    return part.model_copy(update={name: inner.model_copy(update={rest[0]: value})})
