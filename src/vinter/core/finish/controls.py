"""The controls of an edit, read off the moves: ranges are the recipe's own bounds."""

from collections.abc import Iterator
from dataclasses import dataclass, field
from typing import Any, get_args

from annotated_types import Ge, Le
from pydantic.fields import FieldInfo

from vinter.core.finish.moves.base import Part, Shown
from vinter.core.finish.recipe import ORDER, RecipeParts


@dataclass(frozen=True, kw_only=True)
class Control:
    """A slider, or a choice where there are ``options``: path in the recipe, label, range, step, resting
    value, unit, value, and from where on it gets risky (None: nowhere)."""

    path: str
    label: str
    unit: str
    rest: Any
    value: Any
    low: float = 0.0
    high: float = 0.0
    step: float = 0.01
    risky: float | None = None
    options: tuple[str, ...] = ()


@dataclass
class Line:
    """One line: its name, the sky's controls, the ground's, and the part whose x and y a click in the picture
    sets, with the words for it."""

    name: str
    sky: list[Control] = field(default_factory=list)
    ground: list[Control] = field(default_factory=list)
    click_path: str = ""
    click_words: str = ""

    @property
    def zoned(self) -> bool:
        """Whether the second column is the ground's; else it is more of the same."""
        return any(".ground." in c.path for c in self.ground)


def _fields(part: Part, path: str, column: str) -> Iterator[tuple[str, FieldInfo, object, str]]:
    for name, info in type(part).model_fields.items():
        value = getattr(part, name)
        inner = f"{path}.{name}"
        if isinstance(value, Part):
            yield from _fields(value, inner, name)
        else:
            yield inner, info, value, column


def _bound(info: FieldInfo, kind: type[Ge] | type[Le]) -> float:
    found = next((m for m in info.metadata if isinstance(m, kind)), None)
    return float(getattr(found, "ge" if kind is Ge else "le")) if found else 0.0


def _control(path: str, info: FieldInfo, value: object, shown: Shown) -> Control:
    return Control(
        path=path,
        label=shown.label,
        unit=shown.unit,
        rest=info.default,
        value=value,
        low=_bound(info, Ge),
        high=_bound(info, Le),
        step=shown.step,
        risky=shown.risky,
        options=tuple(get_args(info.annotation)),
    )


def lines(recipe: RecipeParts) -> list[Line]:
    """All lines in order, with the values of a recipe."""
    out: dict[tuple[int, str], Line] = {}
    for kind in ORDER:
        for path, info, value, column in _fields(recipe.of(kind), kind.key, "sky"):
            extra = info.json_schema_extra
            shown = extra.get("shown") if isinstance(extra, dict) else None
            if not isinstance(shown, Shown):
                continue
            line = out.setdefault((shown.row.place, shown.row.name), Line(shown.row.name))
            if shown.click:
                line.click_path, line.click_words = path.rpartition(".")[0], shown.click
            else:
                getattr(line, shown.column or column).append(_control(path, info, value, shown))
    return [line for _, line in sorted(out.items())]
