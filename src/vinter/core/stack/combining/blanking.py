"""Where a frame has no sky to give, its samples are taken out: block by block, and place by place only where
a block is neither."""

import math

import numba
import numpy as np
import numpy.typing as npt

F64 = npt.NDArray[np.float64]
U8 = npt.NDArray[np.uint8]
U16 = npt.NDArray[np.uint16]
USABLE = 250  # level of 255 from which a place of a frame is sky
BLOCK = 16  # px a side


@numba.njit(cache=True)  # type: ignore[untyped-decorator]
def rows_with_sky(usable: U8) -> npt.NDArray[np.bool_]:
    """Which rows of a usable sky have any."""
    out = np.zeros(len(usable), np.bool_)
    for y in range(len(usable)):
        for x in range(usable.shape[1]):
            if usable[y, x] >= USABLE:
                out[y] = True
                break
    return out


@numba.njit(cache=True)  # type: ignore[untyped-decorator]
def _place(h: F64, x: float, y: float) -> tuple[float, float]:
    w = h[2, 0] * x + h[2, 1] * y + h[2, 2]
    return (h[0, 0] * x + h[0, 1] * y + h[0, 2]) / w, (h[1, 0] * x + h[1, 1] * y + h[1, 2]) / w


@numba.njit(cache=True)  # type: ignore[untyped-decorator]
def _range(row: U8) -> tuple[int, int]:
    """Least and largest of a row."""
    low, high = row[0], row[0]
    for at in range(len(row)):
        low, high = min(low, row[at]), max(high, row[at])
    return low, high


@numba.njit(cache=True)  # type: ignore[untyped-decorator]
def _share(usable: U8, x: float, y: float) -> float:
    """The usable sky at a place between pixels; none beyond the edge."""
    left, top = math.floor(x), math.floor(y)
    total = 0.0
    for j in range(2):
        for i in range(2):
            if 0 <= top + j < usable.shape[0] and 0 <= left + i < usable.shape[1]:
                across = x - left if i else 1 - (x - left)
                down = y - top if j else 1 - (y - top)
                total += across * down * usable[top + j, left + i]
    return total


@numba.njit(cache=True)  # type: ignore[untyped-decorator]
def _blank_block(samples: U16, x0: int, y0: int, usable: U8, h: F64) -> None:
    """``blank`` of the block that begins at x0, y0."""
    x1, y1 = min(x0 + BLOCK, samples.shape[1]), min(y0 + BLOCK, samples.shape[0])
    left = top = np.inf
    right = below = -np.inf
    for x in (x0, x1 - 1):
        for y in (y0, y1 - 1):
            u, v = _place(h, x, y)
            left, right, top, below = min(left, u), max(right, u), min(top, v), max(below, v)
    a, b, c, d = int(left) - 1, int(right) + 2, int(top) - 1, int(below) + 2
    low, high = 255, 0
    if a < 0 or c < 0 or b > usable.shape[1] or d > usable.shape[0]:
        low = 0
    for y in range(max(c, 0), min(d, usable.shape[0])):
        if max(a, 0) < min(b, usable.shape[1]):
            least, most = _range(usable[y, max(a, 0) : min(b, usable.shape[1])])
            low, high = min(low, least), max(high, most)
    if low == 255:
        return
    for y in range(y0, y1):
        for x in range(x0, x1):
            lost = high < USABLE
            if not lost:
                u, v = _place(h, x, y)
                lost = _share(usable, u, v) < USABLE - 0.5
            if lost:
                for k in range(samples.shape[2]):
                    samples[y, x, k] = 0


@numba.njit(cache=True)  # type: ignore[untyped-decorator]
def blank(samples: U16, usable: U8, h: F64) -> None:
    """Set the samples (h, w, 3) to none, in place, where a frame has no sky to give: where its usable sky
    (height, width; 255 is sky) is under USABLE. The homography (3, 3) leads from samples to the frame."""
    for y in range(0, samples.shape[0], BLOCK):
        for x in range(0, samples.shape[1], BLOCK):
            _blank_block(samples, x, y, usable, h)
