"""Where a finished picture goes: the ratio and width that suit it."""

from dataclasses import dataclass

from vinter.core.errors import BadInput
from vinter.core.finish.export import Output
from vinter.core.finish.moves.geometry import Geometry
from vinter.core.finish.recipe import RecipeParts, recipe_from
from vinter.core.finish.scene import Scene

FOR_SCREEN, FOR_PRINT = 0.25, 0.6  # shares of sharpening: ink runs


@dataclass(frozen=True)
class Destination:
    """A place pictures go to: its name, the ratio it shows (one of the crop's), the width in px, and the
    density of a print in dpi."""

    name: str
    ratio: str
    width: int
    dpi: float | None = None

    @property
    def output(self) -> Output:
        """How a picture leaves for there, sharpened for its size."""
        return Output(width=self.width, dpi=self.dpi, sharpening=FOR_PRINT if self.dpi else FOR_SCREEN)


DESTINATIONS = {
    "portrait": Destination("Portrait post, 4:5, 1080 px", "4:5", 1080),
    "square": Destination("Square post, 1080 px", "1:1", 1080),
    "story": Destination("Story, 9:16, 1080 px", "9:16", 1080),
    "wallpaper": Destination("Phone wallpaper, 9:16, 1440 px", "9:16", 1440),
    "wide": Destination("Wide screen, 16:9, 3840 px", "16:9", 3840),
    "print": Destination("Print 30 cm × 20 cm at 300 dpi", "3:2", 3543, 300.0),
}


def for_destination(recipe: RecipeParts, key: str) -> tuple[RecipeParts, Output]:
    """The recipe cropped for a destination about the same centre, and how it leaves; BadInput for one that
    is not known."""
    if key not in DESTINATIONS:
        raise BadInput(f"destination {key!r} is not one of {', '.join(DESTINATIONS)}")
    found = DESTINATIONS[key]
    geometry = {**recipe.of(Geometry).model_dump(), "ratio": found.ratio}
    return recipe_from({**recipe.model_dump(), "geometry": geometry}), found.output


@dataclass(frozen=True)
class Shortfall:
    """A destination that a picture cannot fill: its name, the size in px that the crop has, and the width
    that the destination wants."""

    name: str
    width: int
    height: int
    wanted: int


def made_size(recipe: RecipeParts, scene: Scene) -> tuple[int, int]:
    """Width and height in px of the picture that a recipe makes of a whole scene, of which ``scene`` may be
    a reduced one."""
    width, height = (round(side / scene.scale) for side in scene.size)
    return recipe.of(Geometry).made_size(width, height, scene.degrees_px * scene.scale)


def shortfalls(recipe: RecipeParts, scene: Scene) -> list[Shortfall]:
    """The destinations for which the recipe's crop has too few pixels."""
    found = []
    for key, place in DESTINATIONS.items():
        cut, _ = for_destination(recipe, key)
        width, height = made_size(cut, scene)
        if width < place.width:
            found.append(Shortfall(place.name, width, height, place.width))
    return found


def print_width(centimetres: float, dpi: float) -> int:
    """Px across a print of a width in cm."""
    return round(centimetres / 2.54 * dpi)
