"""Small drawings of the answers about a test shot: paths in a box of 60 by 40, filled or as lines."""


def _circle(x: float, y: float, r: float) -> str:
    return f"M{x - r} {y}a{r} {r} 0 1 0 {2 * r} 0a{r} {r} 0 1 0 {-2 * r} 0z"


def _hump(x: float, wide: float) -> str:
    return f"M{x - wide} 39L{x} 8L{x + wide} 39z"


def _dots(*places: tuple[float, float], size: float = 2) -> str:
    return "".join(f"M{x} {y}h{size}v{size}h-{size}z" for x, y in places)


FEW = ((27, 15), (44, 29))
MANY = ((8, 8), (20, 14), (33, 7), (47, 12), (12, 26), (27, 30), (41, 25), (52, 31), (6, 34))
THREE = ((17, 12), (38, 20), (25, 29))
FILLED = {
    "peak-edge": "M1 39V8l5 31z",
    "peak-tenth": _hump(9, 6),
    "peak-quarter": _hump(16, 8),
    "peak-third": _hump(21, 9),
    "peak-middle": _hump(31, 11),
    "peak-right": _hump(49, 11),
    "stars-many": _dots(*MANY),
    "stars-few": _dots(*FEW),
    "shape-points": _dots(*THREE, size=3),
    "shape-discs": "".join(_circle(x, y, 6) for x, y in THREE),
    "lit-no": _dots((16, 12), (40, 24)),
    "lit-yes": _circle(30, 22, 9),
}
LINES = {
    "shape-short": "M14 14l6 3M36 20l6 3M22 29l6 3",
    "shape-long": "M8 10l18 9M32 14l18 9M16 27l18 9",
    "shape-crooked": "M12 12l6 5 3-4 5 6M34 18l6 5 3-4 5 6",
    "core-there": _circle(30, 20, 6),
    "core-left": _circle(10, 20, 6),
    "core-right": _circle(50, 20, 6),
    "core-up": _circle(30, 9, 6),
    "core-down": _circle(30, 31, 6),
    "core-gone": "",
}


def drawing(question: str, answer: str) -> dict[str, str]:
    """What to fill and what to draw as lines for an answer."""
    key = f"{question}-{answer}"
    return {"filled": FILLED.get(key, ""), "lines": LINES.get(key, "")}
