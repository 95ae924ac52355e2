"""Looks to start from: whole recipes for a picture, and what of a recipe can be taken to another picture."""

from collections.abc import Callable

import numpy as np

from vinter.core.errors import BadInput
from vinter.core.finish.moves.areas import Areas
from vinter.core.finish.moves.black_point import BlackPoint
from vinter.core.finish.moves.colour import Colour, Saturation, SkySaturation
from vinter.core.finish.moves.core_light import CoreLight
from vinter.core.finish.moves.curve import Contrast, Curve
from vinter.core.finish.moves.geometry import Geometry
from vinter.core.finish.moves.gradient_removal import GradientRemoval
from vinter.core.finish.moves.light_balance import (
    HIGH_EV,
    HIGH_KELVIN,
    LOW_KELVIN,
    GroundLight,
    Light,
    LightBalance,
    light_of,
)
from vinter.core.finish.moves.noise_reduction import NoiseReduction, Smoothing
from vinter.core.finish.moves.repair import Repair
from vinter.core.finish.recipe import RecipeParts, recipe_of
from vinter.core.finish.scene import Scene
from vinter.core.finish.suggestion import (
    by_stars,
    cool_kelvin,
    core_of,
    grounded,
    held,
    levelled,
    night_white,
    own_light,
    suggest,
)

MOONLIT_GROUND = 0.8  # EV over what the ground would have beside a dark sky
DAY_DIMMED = -0.7  # EV by which the moonlit look dims a picture without a night sky
PICKED = 2  # px about a picked place that are looked at


def grey_at(scene: Scene, x: float, y: float) -> tuple[float, float]:
    """Kelvin and cast (EV) at which a place (shares of width and height) comes out grey.

    Raises:
        BadInput: where the picture is black there.
    """
    w, h = scene.size
    column, row = int(x * (w - 1)), int(y * (h - 1))
    patch = scene.rgb[max(row - PICKED, 0) : row + PICKED + 1, max(column - PICKED, 0) : column + PICKED + 1]
    raw = np.median(patch.reshape(-1, 3), axis=0).astype(float)
    if raw.min() <= 0:
        raise BadInput("that place is black: its colour cannot be told")
    return light_of(raw / raw[1], scene.colour)


def _within(kelvin: float) -> float:
    return min(max(kelvin, LOW_KELVIN), HIGH_KELVIN)


def _by_day(scene: Scene, kelvin: float, brightness: float = 0.0) -> RecipeParts:
    """A look for a picture without a night sky: its own light, in another white (K off its own)."""
    white = _within(scene.colour.kelvin + kelvin)
    return own_light(scene).with_moves(
        LightBalance(
            sky=Light(kelvin=white, brightness=brightness),
            ground=GroundLight(kelvin=white, brightness=brightness),
        )
    )


def as_the_night_was(scene: Scene) -> RecipeParts:
    """Measured colour, true dark: white by the stars, a little of the towns' glow out, no colour added."""
    if not scene.night:
        return own_light(scene)
    kelvin, cast = by_stars(scene) or (cool_kelvin(scene) + 400, 0.0)
    kelvin = _within(kelvin)
    found = recipe_of(
        levelled(scene),
        GradientRemoval(share=0.5),
        BlackPoint(magnitudes=0.7),
        LightBalance(
            sky=Light(kelvin=kelvin, cast=cast, brightness=1.2),
            ground=GroundLight(kelvin=kelvin, cast=cast, brightness=0.8),
        ),
        Curve(sky=Contrast(contrast=1.15)),
        NoiseReduction(sky=Smoothing(colour=0.3, light=0.1), ground=Smoothing(colour=0.5, light=0.2)),
    )
    return grounded(held(found, scene), scene)


def _tinted(scene: Scene, kelvin: float, cast: float, ground: float, colour: float = 0.35) -> RecipeParts:
    if not scene.night:
        return _by_day(scene, kelvin)
    white, own = night_white(scene)
    found = suggest(scene).with_moves(
        LightBalance(
            sky=Light(kelvin=_within(white + kelvin), cast=own + cast, brightness=1.7),
            ground=GroundLight(kelvin=_within(white + ground), cast=own, brightness=1.5),
        ),
        Colour(sky=SkySaturation(saturation=colour, green=0.6, red=0.3), ground=Saturation(saturation=0.15)),
    )
    return grounded(held(found, scene), scene)


def cool(scene: Scene) -> RecipeParts:
    """A blue sky with a touch of magenta over warmer ground."""
    return _tinted(scene, -350.0, 0.05, 400.0)


def warm(scene: Scene) -> RecipeParts:
    """A warm sky, as many remember it."""
    return _tinted(scene, 900.0, 0.02, 1100.0)


def moonlit(scene: Scene) -> RecipeParts:
    """A pale blue night over ground that can be read, as under a Moon."""
    if not scene.night:
        return _by_day(scene, -700.0, DAY_DIMMED)
    found = _tinted(scene, -700.0, -0.02, -300.0, 0.1).with_moves(
        BlackPoint(magnitudes=0.6), Curve(sky=Contrast(contrast=1.05), ground=Contrast(contrast=1.1))
    )
    balance = found.of(LightBalance)
    lifted = min(balance.ground.brightness + MOONLIT_GROUND, HIGH_EV)
    ground = balance.ground.model_copy(update={"brightness": round(lifted, 2)})
    return held(found.with_moves(balance.model_copy(update={"ground": ground})), scene)


LOOKS: dict[str, tuple[str, Callable[[Scene], RecipeParts]]] = {
    "night": ("As the night was", as_the_night_was),
    "restrained": ("Restrained", suggest),
    "cool": ("Cool, a touch of magenta", cool),
    "warm": ("Warm", warm),
    "moonlit": ("Moonlit", moonlit),
}


def portable(recipe: RecipeParts) -> RecipeParts:
    """What of a recipe can be taken to another picture: not its crop, its repairs, what was painted, nor the
    places marked in it."""
    glow = recipe.of(GradientRemoval).model_copy(update={"plain": ()})
    return recipe.with_moves(Geometry(), Repair(), Areas(), glow)


def fitted(recipe: RecipeParts, scene: Scene) -> RecipeParts:
    """A look brought to a picture: levelled by its stars, its core where that picture has it."""
    core = recipe.of(CoreLight)
    there = core_of(scene, core.brightness)
    return portable(recipe).with_moves(levelled(scene), core.model_copy(update={"x": there.x, "y": there.y}))
