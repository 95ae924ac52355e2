"""The recipe of a finish: what every move is set to, in physical units, with its bounds.

The recipe is put together from the moves there are (``moves``); a new one needs no line here.
"""

from typing import Any, TypeVar, cast

from pydantic import ConfigDict, ValidationError, create_model

from vinter.core.discovery import load_all
from vinter.core.errors import BadInput
from vinter.core.finish import moves
from vinter.core.finish.moves.base import MOVES, Move, Part
from vinter.core.json_input import read_json
from vinter.core.versions import Data, Schema

load_all(moves)
M = TypeVar("M", bound=Move)
ORDER = sorted(MOVES.values(), key=lambda kind: kind.place)
ZONE_PARTS = {
    "light_balance": {"kelvin": "kelvin", "cast": "cast", "brightness": "brightness"},
    "curve": {"contrast": "contrast"},
    "noise_reduction": {"colour_smoothed": "colour", "light_smoothed": "light"},
}


def _by_moves(old: Data) -> Data:
    """Version 1 held numbers of sky and ground by zone, and those of some moves on the outside."""
    if any(key in old for key in MOVES if key != "core") or not old:
        return old  # written by hand in today's form
    left = dict(old)
    out: dict[str, Any] = {}
    crop = left.pop("crop", {})
    geometry = {**({"level": left.pop("level")} if "level" in left else {}), **crop}
    for key, name, field in (("gradient_removal", "glow", "share"), ("black_point", "floor", "magnitudes")):
        if name in left:
            out[key] = {field: left.pop(name)}
    for zone in ("sky", "ground"):
        given = dict(left.pop(zone, {}))
        for key, names in ZONE_PARTS.items():
            found = {new: given.pop(was) for was, new in names.items() if was in given}
            out.setdefault(key, {})[zone] = found
        out["light_balance"][zone].update(given)  # what no move knows is refused there
    return {**out, **({"geometry": geometry} if geometry else {}), **left}


RECIPE = Schema("recipe", (_by_moves,))


class RecipeParts(Part):
    """A whole finish: one part for every move, each at rest unless set."""

    model_config = ConfigDict(extra="forbid", frozen=True)
    version: int = RECIPE.version

    def of(self, kind: type[M]) -> M:
        """What a move is set to."""
        return cast(M, getattr(self, kind.key))

    def moves(self) -> list[Move]:
        """All moves in the order of the work."""
        return [self.of(kind) for kind in ORDER]

    def with_moves(self, *changed: Move) -> "RecipeParts":
        """The recipe with some moves set otherwise."""
        return self.model_copy(update={move.key: move for move in changed})


Recipe: type[RecipeParts] = create_model(
    "Recipe",
    __base__=RecipeParts,
    __module__=__name__,
    **{kind.key: (kind, kind()) for kind in ORDER},  # type: ignore[call-overload]
)


def recipe_of(*set_to: Move) -> RecipeParts:
    """A recipe with some moves set, the others at rest."""
    return Recipe().with_moves(*set_to)


def parse_recipe(text: str | bytes, name: str = "recipe") -> RecipeParts:
    """A recipe from JSON of any version; BadInput names the field that is wrong."""
    return recipe_from(read_json(text, name), name)


def recipe_from(data: object, name: str = "recipe") -> RecipeParts:
    """A recipe from plain data of any version; BadInput names the field that is wrong."""
    if not isinstance(data, dict):
        raise BadInput(f"{name}: JSON: an object is wanted")
    try:
        return Recipe.model_validate(RECIPE.current(data))
    except BadInput as error:
        raise BadInput(f"{name}: {error}") from error
    except (AttributeError, TypeError, ValueError) as error:
        first = error.errors()[0] if isinstance(error, ValidationError) else None
        where = ".".join(str(part) for part in first["loc"]) if first else "JSON"
        raise BadInput(f"{name}: {where}: {first['msg'] if first else error}") from error
