"""What a finish begins with: white by the stars, a darker sky over darker ground, as much noise as may
show."""

import math

import numpy as np

from vinter.core.finish.guard import VISIBLE_NOISE, seen_noise
from vinter.core.finish.moves.black_point import BlackPoint
from vinter.core.finish.moves.colour import Colour as Saturation
from vinter.core.finish.moves.colour import SkySaturation
from vinter.core.finish.moves.core_light import CoreLight
from vinter.core.finish.moves.curve import Contrast, Curve
from vinter.core.finish.moves.detail import Contrast as LocalContrast
from vinter.core.finish.moves.detail import Detail
from vinter.core.finish.moves.geometry import MOST_TURN, Geometry
from vinter.core.finish.moves.gradient_removal import GradientRemoval, glow_base, glow_range
from vinter.core.finish.moves.light_balance import (
    HIGH_KELVIN,
    LOW_KELVIN,
    GroundLight,
    Light,
    LightBalance,
    balance_gains,
    light_of,
)
from vinter.core.finish.moves.noise_reduction import NoiseReduction, Smoothing
from vinter.core.finish.moves.stars import Stars
from vinter.core.finish.recipe import RecipeParts, recipe_of
from vinter.core.finish.scene import Scene

NIGHT_RED_TO_BLUE = 0.92  # linear red over blue of a sky that looks like night
COOLER = 250.0  # K under the stars' own white, by choice
SMOOTHED, MOST_SMOOTHED = 0.75, 0.95  # share of the sky's colour noise, where noise just shows, and at most
DARKENED, MOONLIT_DARKENED = 1.1, 0.5  # mag by which the sky's background is darkened; under a Moon
BRIGHTENED, MOONLIT_BRIGHTENED = 1.6, 1.9  # EV by which what is left is lifted
SATURATED, MOONLIT_SATURATED = 0.15, 0.3  # colour added to the sky: moonlight makes it blue, as daylight does
LEAST_TAKEN, MOST_TAKEN = 0.85, 0.99  # share of the glow that is taken out
GLOW_LEFT = 0.3  # of the darkened background, that may be left of the glow where it is brightest
LEAST_BRIGHTNESS = 0.9  # EV: a picture that is too dark tells nothing of its noise either
GROUND_MEDIAN, GROUND_SHINING = (
    0.45,
    0.9,
)  # of the sky's light: the ground's median, and its brightest twentieth
LEAST_LIFTED, MOST_LIFTED = -1.0, 1.6  # EV that a suggestion darkens or lifts ground by
BEYOND_WHITE = 1.1  # of white, over which a picture has light that only a roll-off shows
LEAST_GROUND = 0.01  # share of the picture that is ground, under which nothing is made of it


def cool_kelvin(scene: Scene) -> float:
    """Light balance at which the sky's own background comes out a little cool, as a night should look."""
    background = glow_base(scene) / np.array(scene.colour.neutral)
    kelvins = np.arange(2600.0, 9000.0, 50.0)
    balanced = [
        np.array(scene.colour.matrix) @ (background * balance_gains(float(k), scene.colour)) for k in kelvins
    ]
    away = [abs(rgb[0] / max(rgb[2], 1e-9) - NIGHT_RED_TO_BLUE) for rgb in balanced]
    return float(kelvins[int(np.argmin(away))])


def by_stars(scene: Scene) -> tuple[float, float] | None:
    """Kelvin and cast (EV) at which a Sun-like star is white; None where the stars do not tell."""
    return light_of(scene.white.neutral, scene.colour) if scene.white else None


def night_white(scene: Scene) -> tuple[float, float]:
    """Kelvin and cast (EV) to begin with: those of the stars, a little cooler, which is a choice; where they
    do not tell, the light under which the sky itself comes out cool, and no cast."""
    told = by_stars(scene)
    if told is None:
        return cool_kelvin(scene), 0.0
    return min(max(round(told[0] - COOLER, -1), LOW_KELVIN), HIGH_KELVIN), round(told[1], 3)


def ground_brightness(scene: Scene, recipe: RecipeParts) -> float:
    """EV for the ground that leave it darker than the sky of a recipe: its median at 0.45 of the sky's
    background, what shines in it (water, a wall in the Moon) at most at 0.9; dark ground is lifted by
    ``MOST_LIFTED`` at most. As bright as the sky where there is hardly any ground."""
    bright = recipe.of(LightBalance).sky.brightness
    ground = scene.rgb[::4, ::4, 1][scene.sky[::4, ::4] < 0.02]
    if ground.size < LEAST_GROUND * scene.sky[::4, ::4].size:
        return bright
    sky = recipe.of(GradientRemoval).background(scene)[1] * recipe.of(BlackPoint).left
    middle, shining = (max(float(np.percentile(ground, q)), 1e-6) for q in (50, 95))
    wished = min(np.log2(GROUND_MEDIAN * sky / middle), np.log2(GROUND_SHINING * sky / shining))
    return round(float(np.clip(bright + wished, LEAST_LIFTED, MOST_LIFTED)), 2)


def glow_share(scene: Scene) -> float:
    """Share of the glow to take out: most, and of a bright dome so much that little of it is left beside the
    darkened sky."""
    over = max(glow_range(scene) - 1, 1e-6)
    wished = 1 - GLOW_LEFT * BlackPoint(magnitudes=darkened(scene)).left / over
    return min(max(math.ceil(100 * wished) / 100, LEAST_TAKEN), MOST_TAKEN)


def darkened(scene: Scene) -> float:
    """Magnitudes by which the sky's background is darkened: under a Moon its light is the picture's own."""
    return MOONLIT_DARKENED if scene.moonlit else DARKENED


def suggest(scene: Scene) -> RecipeParts:
    """A restrained first recipe: level, white by the stars, most glow out, a darker sky over darker ground, a
    gentle curve, and colour noise smoothed the more of it there is. Of a picture without a night sky none:
    its own white, its own blacks."""
    if not scene.night:
        return own_light(scene)
    kelvin, cast = night_white(scene)
    bright, colour = (MOONLIT_BRIGHTENED, MOONLIT_SATURATED) if scene.moonlit else (BRIGHTENED, SATURATED)
    first = recipe_of(
        levelled(scene),
        GradientRemoval(share=glow_share(scene)),
        BlackPoint(magnitudes=darkened(scene)),
        LightBalance(
            sky=Light(kelvin=kelvin, cast=cast, brightness=bright),
            ground=GroundLight(kelvin=kelvin, cast=cast, brightness=bright),
        ),
        core_of(scene, 0.35),
        Curve(sky=Contrast(contrast=1.3), ground=Contrast(contrast=1.05)),
        Detail(sky=LocalContrast(haze=0.3, fine=0.2)),
        Saturation(sky=SkySaturation(saturation=colour, green=0.4)),
        NoiseReduction(sky=Smoothing(colour=SMOOTHED, light=0.15), ground=Smoothing(colour=0.6, light=0.25)),
        Stars(smaller=0.2),
    )
    noise = first.of(NoiseReduction)
    smoothed = SMOOTHED * seen_noise(scene, first) / VISIBLE_NOISE
    sky = noise.sky.model_copy(update={"colour": round(min(max(smoothed, SMOOTHED), MOST_SMOOTHED), 2)})
    return grounded(held(first.with_moves(noise.model_copy(update={"sky": sky})), scene), scene)


def own_light(scene: Scene) -> RecipeParts:
    """A recipe that shows a picture as it is: its highlights roll off only where they go on beyond white."""
    held = 0.0 if float(scene.rgb.max(initial=0)) > BEYOND_WHITE * scene.full else -1.0
    return recipe_of(Curve(sky=Contrast(highlights=held), ground=Contrast(highlights=held)))


def grounded(recipe: RecipeParts, scene: Scene) -> RecipeParts:
    """A recipe whose ground has the brightness that its own light asks for."""
    balance = recipe.of(LightBalance)
    ground = balance.ground.model_copy(update={"brightness": ground_brightness(scene, recipe)})
    return recipe.with_moves(balance.model_copy(update={"ground": ground}))


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
    """The core brightened where it stands; nothing where the solved field does not hold it."""
    there = brightness if scene.holds_core else 0.0
    return CoreLight(x=round(scene.core[0], 3), y=round(scene.core[1], 3), brightness=there)


def untouched(scene: Scene) -> RecipeParts:
    """The stack as it comes, in its own white, for the before side of a comparison."""
    kelvin = scene.colour.kelvin
    return recipe_of(LightBalance(sky=Light(kelvin=kelvin), ground=GroundLight(kelvin=kelvin)))
