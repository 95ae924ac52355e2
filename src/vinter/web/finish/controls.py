"""The controls of the finish, by the practitioner's moves: for each, what it changes on sky and ground."""

from dataclasses import dataclass
from typing import Any

from vinter.core.finish.guard import SMOOTH_LIMIT


@dataclass(frozen=True)
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
        "kelvin": Control(p + "kelvin", "neutral light", 3000, 8000, 50, 5200, "K"),
        "cast": Control(p + "cast", "green to magenta", -0.5, 0.5, 0.01, 0, "EV"),
        "brightness": Control(p + "brightness", "brightness", -2, 5, 0.05, 0, "EV"),
        "contrast": Control(p + "contrast", "contrast", 0.5, 2.5, 0.01, 1, "×"),
        "colour": Control(p + "colour_smoothed", "colour smoothed", 0, 1, 0.01, 0, "%"),
        "light": Control(p + "light_smoothed", "light smoothed", 0, 1, 0.01, 0, "%", risky=SMOOTH_LIMIT)}


def _rows() -> list[Row]:
    s, g = _zone("sky"), _zone("ground")
    return [
        Row("Level", [Control("level", "turned clockwise", -10, 10, 0.1, 0, "°")], []),
        Row("Light balance", [s["kelvin"], s["cast"]], [g["kelvin"], g["cast"]]),
        Row("Glow", [Control("glow", "gradient taken out", 0, 1, 0.01, 0, "%")], []),
        Row("Floor", [Control("floor", "sky darkened by", 0, 2.5, 0.05, 0, "mag")], [g["brightness"]]),
        Row("Curve", [s["brightness"], s["contrast"]], [g["contrast"]]),
        Row("Core", [Control("core.brightness", "brightened", -1, 2, 0.05, 0, "EV"),
                     Control("core.length", "ellipse, half length", 0.05, 0.6, 0.01, 0.22, "%"),
                     Control("core.angle", "ellipse, lean", -90, 90, 1, 0, "°")], []),
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
