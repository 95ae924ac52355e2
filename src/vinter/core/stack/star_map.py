"""Bright stars by where they stand in the sky: cells on the six faces of a cube about the observer, so that a
question for the stars near a direction looks at nine of them.

Each face is drawn a little wider than it is asked, so that a star near an edge stands on both sides of it.
"""

from dataclasses import dataclass
from functools import lru_cache

import numba
import numpy as np
import numpy.typing as npt

from vinter.core.sky.catalogue import stars_to

Array = npt.NDArray[np.float64]
Ints = npt.NDArray[np.int64]
CELLS = 60  # cells across a face
EARLY, EARLY_LEAST = 20, 5  # of so many of the brightest rays so many must agree: three by the pattern itself
REACH = 1.2  # tangent to which a face is drawn; it is asked to 1
WIDEST = 0.75  # degrees, the largest radius that may be asked: a cell is as wide even in a corner


@dataclass(frozen=True)
class StarMap:
    """Unit vectors (n, 3; ICRS) sorted by their cells, and where each of the cells (6 faces, rows, columns)
    begins among them; a star may stand on several faces."""

    vectors: Array
    starts: Ints


@lru_cache(maxsize=4)
def star_map(faintest: float) -> StarMap:
    """The map of the stars to a V magnitude."""
    stars = stars_to(faintest)[0]
    cells, rows = [], []
    for face in range(6):
        axis, sign = face // 2, 1 - 2 * (face % 2)
        depth = stars[:, axis] * sign
        ahead = np.flatnonzero(depth > 0.4)
        u, v = (stars[ahead, (axis + k) % 3] / depth[ahead] for k in (1, 2))
        inside = np.maximum(np.abs(u), np.abs(v)) < REACH
        column, row = ((c[inside] + REACH) * (CELLS / (2 * REACH)) for c in (u, v))
        cells.append((face * CELLS + row.astype(np.int64)) * CELLS + column.astype(np.int64))
        rows.append(ahead[inside])
    cell, which = np.concatenate(cells), np.concatenate(rows)
    order = np.argsort(cell, kind="stable")
    starts = np.searchsorted(cell[order], np.arange(6 * CELLS * CELLS + 1))
    return StarMap(np.ascontiguousarray(stars[which[order]]), starts.astype(np.int64))


def agreed(rays: Array, turns: Array, stars: StarMap, near: float, least: int) -> Ints:
    """How many of the rays (n, 3; unit vectors in the camera) each rotation (m, 3, 3) lays within ``near``
    degrees (at most ``WIDEST``) of a star; 0 where it is fewer than ``least``, or few already of the first.
    The inverse of a rotation leads from the camera to the sky."""
    cosine = float(np.cos(np.radians(min(near, WIDEST))))
    found: Ints = _agreed(rays, turns, stars.vectors, stars.starts, cosine, least)
    return found


@numba.njit(cache=True)  # type: ignore[untyped-decorator]
def _agreed(rays: Array, turns: Array, stars: Array, starts: Ints, cosine: float, least: int) -> Ints:
    out = np.zeros(len(turns), np.int64)
    count, scale = len(rays), CELLS / (2 * REACH)
    for t in range(len(turns)):
        turn, seen = turns[t], 0
        for k in range(count):
            if seen + count - k < least or (k == EARLY and seen < EARLY_LEAST):
                break
            x = rays[k, 0] * turn[0, 0] + rays[k, 1] * turn[1, 0] + rays[k, 2] * turn[2, 0]
            y = rays[k, 0] * turn[0, 1] + rays[k, 1] * turn[1, 1] + rays[k, 2] * turn[2, 1]
            z = rays[k, 0] * turn[0, 2] + rays[k, 1] * turn[1, 2] + rays[k, 2] * turn[2, 2]
            if abs(x) >= abs(y) and abs(x) >= abs(z):
                axis, depth, a, b = 0, x, y, z
            elif abs(y) >= abs(z):
                axis, depth, a, b = 1, y, z, x
            else:
                axis, depth, a, b = 2, z, x, y
            face, far = 2 * axis + (1 if depth < 0 else 0), abs(depth)
            column, row = int((a / far + REACH) * scale), int((b / far + REACH) * scale)
            near = False
            for r in range(row - 1, row + 2):
                first = (face * CELLS + r) * CELLS + column - 1
                for i in range(starts[first], starts[first + 3]):  # three cells of a row lie side by side
                    if stars[i, 0] * x + stars[i, 1] * y + stars[i, 2] * z > cosine:
                        near = True
                        break
                if near:
                    break
            seen += near
        out[t] = seen if seen >= least else 0
    return out
