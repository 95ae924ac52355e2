"""The recipe of a finish: every number of the edit, in physical units, with its bounds."""

from typing import Literal

from pydantic import BaseModel, ConfigDict, Field, ValidationError

from vinter.core.errors import BadInput

AS_SHOT_KELVIN = 5200.0
RATIOS = {"full": None, "3:2": 3 / 2, "4:5": 4 / 5, "1:1": 1.0, "16:9": 16 / 9}


class Part(BaseModel):
    """Base of all parts of a recipe: unknown fields are refused, so that a typing error is seen."""

    model_config = ConfigDict(extra="forbid", frozen=True)


class Zone(Part):
    """What is done to the sky or to the ground."""

    kelvin: float = Field(AS_SHOT_KELVIN, ge=2500, le=10000, description="light that comes out neutral, K")
    cast: float = Field(0.0, ge=-0.5, le=0.5, description="green (-) to magenta (+), EV of the green channel")
    brightness: float = Field(0.0, ge=-4, le=6, description="EV")
    contrast: float = Field(1.0, ge=0.5, le=3, description="slope of the curve at its pivot")
    colour_smoothed: float = Field(0.0, ge=0, le=1)
    light_smoothed: float = Field(0.0, ge=0, le=1)


class Core(Part):
    """A soft ellipse over the core: centre and half-axes as shares of the width, angle in degrees."""

    x: float = Field(0.5, ge=0, le=1)
    y: float = Field(0.4, ge=0, le=1)
    length: float = Field(0.22, ge=0.02, le=1)
    breadth: float = Field(0.09, ge=0.02, le=1)
    angle: float = Field(0.0, ge=-180, le=180)
    brightness: float = Field(0.0, ge=-1, le=2, description="EV")


class Crop(Part):
    """A rectangle of a ratio: its size against the largest that fits, its centre as shares of the picture."""

    ratio: Literal["full", "3:2", "4:5", "1:1", "16:9"] = "full"
    size: float = Field(1.0, ge=0.2, le=1)
    x: float = Field(0.5, ge=0, le=1)
    y: float = Field(0.5, ge=0, le=1)


class Recipe(Part):
    """A whole finish. floor is how much darker the sky's background gets, in magnitudes; glow the share taken
    out."""

    level: float = Field(0.0, ge=-15, le=15, description="degrees clockwise")
    crop: Crop = Crop()
    sky: Zone = Zone()
    ground: Zone = Zone()
    glow: float = Field(0.0, ge=0, le=1)
    floor: float = Field(0.0, ge=0, le=3)
    core: Core = Core()


def parse_recipe(text: str | bytes, name: str = "recipe") -> Recipe:
    """A recipe from JSON; BadInput names the field that is wrong."""
    try:
        return Recipe.model_validate_json(text)
    except ValidationError as error:
        first = error.errors()[0]
        where = ".".join(str(part) for part in first["loc"]) or "JSON"
        raise BadInput(f"{name}: {where}: {first['msg']}") from error
