"""The controls of the finish, by the practitioner's moves: for each, what it changes on sky and ground."""

from dataclasses import dataclass
from typing import Any

from vinter.core.finish.guard import SMOOTH_LIMIT


@dataclass(frozen=True, kw_only=True)
class Control:
    """A slider: path in the recipe, label, range, step, resting value, unit, and where it gets risky."""

    path: str
    label: str
    low: float
    high: float
    step: float
    rest: float
    unit: str
    value: float = 0.0
    risky: float | None = None


@dataclass(frozen=True)
class Row:
    """One move: its name, the sky's controls, the ground's."""

    name: str
    sky: list[Control]
    ground: list[Control]


def _zone(zone: str) -> dict[str, Control]:
    p = f"{zone}."
    return {
        "kelvin": Control(
            path=p + "kelvin", label="neutral light", low=3000, high=8000, step=50, rest=5200, unit="K"
        ),
        "cast": Control(
            path=p + "cast", label="green to magenta", low=-0.5, high=0.5, step=0.01, rest=0, unit="EV"
        ),
        "brightness": Control(
            path=p + "brightness", label="brightness", low=-2, high=5, step=0.05, rest=0, unit="EV"
        ),
        "contrast": Control(
            path=p + "contrast", label="contrast", low=0.5, high=2.5, step=0.01, rest=1, unit="×"
        ),
        "colour": Control(
            path=p + "colour_smoothed", label="colour smoothed", low=0, high=1, step=0.01, rest=0, unit="%"
        ),
        "light": Control(
            path=p + "light_smoothed",
            label="light smoothed",
            low=0,
            high=1,
            step=0.01,
            rest=0,
            unit="%",
            risky=SMOOTH_LIMIT,
        ),
    }


def _rows() -> list[Row]:
    s, g = _zone("sky"), _zone("ground")
    return [
        Row(
            "Level",
            [Control(path="level", label="turned clockwise", low=-10, high=10, step=0.1, rest=0, unit="°")],
            [],
        ),
        Row("Light balance", [s["kelvin"], s["cast"]], [g["kelvin"], g["cast"]]),
        Row(
            "Glow",
            [Control(path="glow", label="gradient taken out", low=0, high=1, step=0.01, rest=0, unit="%")],
            [],
        ),
        Row(
            "Floor",
            [Control(path="floor", label="sky darkened by", low=0, high=2.5, step=0.05, rest=0, unit="mag")],
            [g["brightness"]],
        ),
        Row("Curve", [s["brightness"], s["contrast"]], [g["contrast"]]),
        Row(
            "Core",
            [
                Control(
                    path="core.brightness", label="brightened", low=-1, high=2, step=0.05, rest=0, unit="EV"
                ),
                Control(
                    path="core.length",
                    label="ellipse, half length",
                    low=0.05,
                    high=0.6,
                    step=0.01,
                    rest=0.22,
                    unit="%",
                ),
                Control(path="core.angle", label="ellipse, lean", low=-90, high=90, step=1, rest=0, unit="°"),
            ],
            [],
        ),
        Row("Grain", [s["colour"], s["light"]], [g["colour"], g["light"]]),
    ]


def _value(recipe: dict[str, Any], path: str) -> float:
    value: Any = recipe
    for part in path.split("."):
        value = value[part]
    return float(value)


def rows(recipe: dict[str, Any]) -> list[Row]:
    """The rows with the values of a recipe."""

    def filled(controls: list[Control]) -> list[Control]:
        return [Control(**{**c.__dict__, "value": _value(recipe, c.path)}) for c in controls]

    return [Row(r.name, filled(r.sky), filled(r.ground)) for r in _rows()]
