"""What the data can bear: says when an edit asks for more than the frames hold."""

from dataclasses import dataclass

import numpy as np

from vinter.core.finish.moves.black_point import BlackPoint
from vinter.core.finish.moves.curve import BRIGHTEST, LUT_SIZE, Curve, curve_table
from vinter.core.finish.moves.gradient_removal import GradientRemoval
from vinter.core.finish.moves.light_balance import LightBalance
from vinter.core.finish.moves.noise_reduction import SMOOTH_LIMIT, NoiseReduction
from vinter.core.finish.recipe import RecipeParts
from vinter.core.finish.render import U8
from vinter.core.finish.scene import Scene

VISIBLE_NOISE = 6.0 / 255  # encoded deviation at full size that reads as grain


@dataclass(frozen=True)
class Limits:
    """Noise of the finished sky at full size (levels of 255), EV left before it shows, and warnings."""

    sky_noise: float
    headroom_ev: float
    words: list[str]


def sky_noise(scene: Scene, recipe: RecipeParts) -> float:
    """Encoded noise of the sky's background after the recipe, at full size: slope of the edit times noise."""
    level = recipe.of(GradientRemoval).background(scene)[1] * recipe.of(BlackPoint).left
    balance = recipe.of(LightBalance)
    gain = float(balance.matrix(balance.sky, scene).sum(axis=1)[1])
    at = float(np.clip(level * gain, 0.0005, 0.98))
    table = curve_table(recipe.of(Curve).sky.contrast)
    index, width = int((at / BRIGHTEST) ** 0.5 * (LUT_SIZE - 1)), 300
    low, high = max(index - width, 0), min(index + width, LUT_SIZE - 1)
    slope = float(table[high] - table[low]) / ((high**2 - low**2) / (LUT_SIZE - 1) ** 2 * BRIGHTEST)
    return scene.noise * gain * slope * (1 - 0.8 * recipe.of(NoiseReduction).sky.light)


def limits(scene: Scene, recipe: RecipeParts, picture: U8) -> Limits:
    """Judge a recipe on a scene and the picture it made."""
    noise = sky_noise(scene, recipe)
    headroom = float(np.log2(VISIBLE_NOISE / max(noise, 1e-6)))
    words = [
        f"The sky holds about {headroom:.1f} EV more before its noise shows at full size."
        if headroom > 0
        else f"The sky is pushed {-headroom:.1f} EV beyond its noise: grain of {noise * 255:.0f} levels "
        "shows at full size. "
        "More frames, not more editing, would help."
    ]
    smoothing = recipe.of(NoiseReduction)
    for name, zone in (("sky", smoothing.sky), ("ground", smoothing.ground)):
        if zone.light > SMOOTH_LIMIT:
            words.append(f"Smoothing the {name}'s light beyond a third turns its grain into blotches.")
    clipped = float(np.mean(picture[::2, ::2].max(axis=2) >= 254))
    if clipped > 0.01:
        words.append(f"{100 * clipped:.0f} % of the picture is white without detail.")
    black = float(np.mean(picture[::2, ::2].max(axis=2) <= 2))
    if black > 0.05:
        words.append(f"{100 * black:.0f} % of the picture is black without detail.")
    return Limits(noise * 255, headroom, words)
