"""Where a finished picture goes: the ratio and width that suit it."""

from dataclasses import dataclass

from vinter.core.errors import BadInput
from vinter.core.finish.moves.geometry import Geometry
from vinter.core.finish.recipe import RecipeParts, recipe_from


@dataclass(frozen=True)
class Destination:
    """A place pictures go to: its name, the ratio it shows (one of the crop's) and the width in px."""

    name: str
    ratio: str
    width: int


DESTINATIONS = {
    "portrait": Destination("Portrait post, 4:5, 1080 px", "4:5", 1080),
    "square": Destination("Square post, 1080 px", "1:1", 1080),
    "story": Destination("Story, 9:16, 1080 px", "9:16", 1080),
    "wallpaper": Destination("Phone wallpaper, 9:16, 1440 px", "9:16", 1440),
    "wide": Destination("Wide screen, 16:9, 3840 px", "16:9", 3840),
    "print": Destination("Print 30 × 20 cm at 300 dpi", "3:2", 3543),
}


def for_destination(recipe: RecipeParts, key: str) -> tuple[RecipeParts, int]:
    """The recipe cropped for a destination about the same middle, and its width in px; BadInput for one that
    is not known."""
    if key not in DESTINATIONS:
        raise BadInput(f"destination {key!r} is not one of {', '.join(DESTINATIONS)}")
    found = DESTINATIONS[key]
    geometry = {**recipe.of(Geometry).model_dump(), "ratio": found.ratio}
    return recipe_from({**recipe.model_dump(), "geometry": geometry}), found.width
