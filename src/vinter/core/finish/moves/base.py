"""What every move is: a typed part of the recipe that knows its controls and changes the canvas."""

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any, ClassVar, TypeVar

import numpy as np
import numpy.typing as npt
from pydantic import BaseModel, ConfigDict, Field

from vinter.core.finish.canvas import Canvas
from vinter.core.finish.linear_light import LinearLight
from vinter.core.finish.scene import Scene

V = TypeVar("V")
F32 = npt.NDArray[np.float32]


class Part(BaseModel):
    """Base of all parts of a recipe: unknown fields are refused, so that a typing error is seen."""

    model_config = ConfigDict(extra="forbid", frozen=True)


@dataclass(frozen=True)
class Row:
    """A line of controls: its name and its place among the lines."""

    name: str
    place: int


DARK_AND_LIGHT = Row("Dark and light", 40)  # the row where black point, brightness and curve stand together


@dataclass(frozen=True)
class Shown:
    """How a field is shown: its label, unit, line, column (sky or ground; None by the part it stands in),
    step of its slider, and from where on it gets risky. ``click`` marks the x of a place that a click in the
    picture sets, with the words for it; its y must follow."""

    label: str
    unit: str
    row: Row
    column: str | None = None
    step: float = 0.01
    risky: float | None = None
    click: str = ""


def setting(
    default: V,
    shown: Shown | None = None,
    *,
    ge: float | None = None,
    le: float | None = None,
    min_length: int | None = None,
    max_length: int | None = None,
) -> V:
    """A field of a move with its bounds and the way it is shown; without that it has no control of its
    own."""
    extra: dict[str, Any] | None = {"shown": shown} if shown else None
    return Field(default, json_schema_extra=extra, ge=ge, le=le, min_length=min_length, max_length=max_length)


class Move(Part):
    """One move of the edit. ``key`` names it in the recipe, ``place`` is its place in the order of the
    work."""

    key: ClassVar[str] = ""
    place: ClassVar[int] = 0

    def apply(self, canvas: Canvas, scene: Scene) -> Canvas:
        """The canvas after this move."""
        raise NotImplementedError


class LinearMove(Move):
    """A move that changes each pixel of linear light by itself; such moves are done together in one pass."""

    @property
    def alone(self) -> bool:
        """Whether it does more than that just now, and is done by itself."""
        return False

    def asked(self, light: LinearLight, canvas: Canvas, scene: Scene) -> tuple[LinearLight, Canvas]:
        """What is to be done with this move as well; and the canvas, its background as it will be."""
        raise NotImplementedError

    def apply(self, canvas: Canvas, scene: Scene) -> Canvas:
        """The canvas after this move."""
        nothing = LinearLight()
        light, canvas = self.asked(nothing, canvas, scene)
        return canvas if light is nothing else light.on(canvas)


MOVES: dict[str, type[Move]] = {}
M = TypeVar("M", bound=type[Move])


def move(key: str, place: int) -> Callable[[M], M]:
    """Register a class as a move: the one thing to write for a new one."""

    def registered(kind: M) -> M:
        kind.key, kind.place = key, place
        MOVES[key] = kind
        return kind

    return registered
