"""Names over a picture: lines of the constellations, their names, the clouds that lie in the frame, a
scale."""

from dataclasses import dataclass
from itertools import pairwise

import numpy as np

from vinter.core.finish.canvas import Canvas
from vinter.core.sky import galaxy
from vinter.core.sky.catalogue import DATA
from vinter.core.sky.targets import CLOUDS, CORE
from vinter.core.stack.plate_solve import Solution

STEPS = 5  # pieces of a line, so that it bends with the lens
SCALES = (0.25, 0.5, 1.0, 2.0, 5.0, 10.0, 20.0)  # degrees
SCALE_SHARE = 0.16  # share of the width, longest scale bar
MARGIN = 0.02  # share of the frame that a name stays off its edge


@dataclass(frozen=True)
class Overlay:
    """Lines (x0, y0, x1, y1) and names (x, y, words) in shares of the picture's width and height."""

    lines: list[tuple[float, float, float, float]]
    names: list[tuple[float, float, str]]


def overlay(field: Solution) -> Overlay:
    """What of the sky's figures lies in a solved field."""
    with np.load(DATA / "figures.npz") as data:
        ends, centres = data["ends"].astype(float), data["centres"].astype(float)
        words = data["names"].tobytes().decode().replace("\u2005", " ").split("\n")
    size = np.array([field.width, field.height], float)

    def shares(vectors: "np.ndarray[tuple[int, int], np.dtype[np.float64]]") -> tuple[np.ndarray, np.ndarray]:
        x, y, front = field.places(vectors)
        at = (np.c_[x, y] + 0.5) / size
        return at, front & (at > 0).all(axis=1) & (at < 1).all(axis=1)

    lines = []
    first, last = galaxy.unit(ends[:, 0], ends[:, 1]), galaxy.unit(ends[:, 2], ends[:, 3])
    for a, b in zip(first, last, strict=True):
        t = np.linspace(0, 1, STEPS + 1)[:, None]
        way = a * (1 - t) + b * t
        at, inside = shares(way / np.linalg.norm(way, axis=1, keepdims=True))
        lines += [
            (float(p[0]), float(p[1]), float(q[0]), float(q[1]))
            for (p, in_p), (q, in_q) in pairwise(zip(at, inside, strict=True))
            if in_p and in_q
        ]
    at, inside = shares(galaxy.unit(centres[:, 0], centres[:, 1]))
    names = [
        (float(x), float(y), w.partition(" ")[2])
        for (x, y), ok, w in zip(at, inside, words, strict=True)
        if ok
    ]
    for target in (CORE, *CLOUDS):
        if target.radec is None:
            continue
        at, inside = shares(galaxy.unit(np.array([target.radec[0]]), np.array([target.radec[1]])))
        if inside[0]:
            names.append((float(at[0, 0]), float(at[0, 1]), target.name))
    return Overlay(lines, [n for n in names if MARGIN < n[0] < 1 - MARGIN and MARGIN < n[1] < 1 - MARGIN])


def scale_of(canvas: Canvas, field: Solution) -> tuple[float, float]:
    """Degrees of a scale that suits a canvas, and their length in px in its centre."""
    h, w = canvas.sky.shape
    ends = canvas.to_shares @ np.array([[w / 2, w / 2 + 1], [h / 2, h / 2], [1, 1]])
    at = (ends[:2] / ends[2]).T * [field.width, field.height] - 0.5
    first, last = field.directions(at)
    degrees_px = float(np.degrees(np.arccos(np.clip(first @ last, -1, 1))))
    degrees_px = max(degrees_px, field.scale_arcsec / 3600 * 1e-3)
    fitting = [d for d in SCALES if d / degrees_px <= SCALE_SHARE * w]
    degrees = fitting[-1] if fitting else SCALES[0]
    return degrees, degrees / degrees_px
