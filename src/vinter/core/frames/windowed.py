"""Places of stars by their light under a Gaussian window that follows them."""

import math

import numba
import numpy as np
import numpy.typing as npt

Array = npt.NDArray[np.float64]
F32 = npt.NDArray[np.float32]
REACH = 4.5  # standard deviations of the window beyond which it weighs nothing
SETTLED, TURNS = 2e-4, 16  # px of a step that ends the search, and steps at most


@numba.njit(cache=True)  # type: ignore[untyped-decorator]
def _weights(centre: float, first: int, falls: float, out: F32) -> None:
    for k in range(len(out)):
        off = first + k - centre
        out[k] = math.exp(-falls * off * off)


@numba.njit(cache=True, fastmath={"contract", "nsz", "reassoc"})  # type: ignore[untyped-decorator]
def _step(
    plane: F32, x: float, y: float, reach: int, falls: float, across: F32, down: F32, away: F32
) -> tuple[float, float]:
    """How far the light under the window at a place lies from its centre; nan where it has none."""
    left, top = int(x + 0.5) - reach, int(y + 0.5) - reach
    _weights(x, left, falls, across)
    _weights(y, top, falls, down)
    for k in range(len(away)):
        away[k] = left + k - x
    total, off_x, off_y = 0.0, 0.0, 0.0
    for j in range(len(down)):
        row, row_x = np.float32(0), np.float32(0)
        if 0 <= top + j < plane.shape[0]:
            begin = max(left, 0)
            for i in range(np.uint64(min(left + len(across), plane.shape[1]) - begin)):
                at = np.uint64(begin - left) + i
                light = across[at] * plane[top + j, np.uint64(begin) + i]
                row += light
                row_x += light * away[at]
        total += down[j] * row
        off_x += down[j] * row_x
        off_y += down[j] * row * (top + j - y)
    if total <= 0:
        return math.nan, math.nan
    return off_x / total, off_y / total


@numba.njit(cache=True)  # type: ignore[untyped-decorator]
def _settle(plane: F32, x: Array, y: Array, sigma: float) -> None:
    reach, falls = math.ceil(REACH * sigma), 0.5 / (sigma * sigma)
    across, down, away = np.empty((3, 2 * reach + 1), np.float32)
    for k in range(len(x)):
        start_x, start_y = x[k], y[k]
        for _ in range(TURNS):
            dx, dy = _step(plane, x[k], y[k], reach, falls, across, down, away)
            # twice the step: where star and window are alike, half of the way is seen
            x[k] += 2 * dx
            y[k] += 2 * dy
            if not (abs(x[k] - start_x) < reach and abs(y[k] - start_y) < reach):
                x[k], y[k] = math.nan, math.nan
                break
            if 4 * (dx * dx + dy * dy) < SETTLED * SETTLED:
                break


def windowed(plane: F32, x: Array, y: Array, sigma: float) -> tuple[Array, Array]:
    """Places (px) to which those given settle when each is moved to the centre of the light under a round
    Gaussian window of deviation ``sigma`` px about it, again and again; nan where it has no light, or walks
    away. ``plane`` is free of background."""
    out = np.array(x, np.float64), np.array(y, np.float64)
    _settle(np.ascontiguousarray(plane, np.float32), *out, sigma)
    return out
