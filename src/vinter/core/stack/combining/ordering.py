"""The samples of many places put in order at once, and what is read off an ordered place.

A network of compare-and-exchange steps (Batcher's odd-even merge sort, 1968) sorts any values by the same
steps, so that one step runs along a row of places and the compiler takes many of them at a time.
"""

from functools import lru_cache

import numba
import numpy as np
import numpy.typing as npt

U16 = npt.NDArray[np.uint16]
I64 = npt.NDArray[np.int64]


@lru_cache(maxsize=64)
def network(count: int) -> I64:
    """Pairs (steps, 2) of rows to exchange, lower row first, that put ``count`` rows in rising order.

    The steps of the next power of two, without those that touch rows which are not there: such rows would
    hold the largest values, and never move.
    """
    pairs: list[tuple[int, int]] = []
    p = 1
    while p < count:
        k = p
        while k >= 1:
            for j in range(k % p, count - k, 2 * k):
                for i in range(j, min(j + k, count - k)):
                    if i // (2 * p) == (i + k) // (2 * p):
                        pairs.append((i, i + k))
            k //= 2
        p *= 2
    return np.array(pairs, np.int64).reshape(-1, 2)


@numba.njit(cache=True)  # type: ignore[untyped-decorator]
def copy_into(row: U16, samples: U16) -> None:
    """The samples to the front of a row."""
    for at in range(len(samples)):
        row[at] = samples[at]


@numba.njit(cache=True)  # type: ignore[untyped-decorator]
def _exchange(low: U16, high: U16) -> None:
    """The smaller of two values of every place into ``low``, the larger into ``high``."""
    for at in range(len(low)):
        a, b = low[at], high[at]
        low[at] = a if a < b else b
        high[at] = b if a < b else a


@numba.njit(cache=True)  # type: ignore[untyped-decorator]
def order(rows: U16, pairs: I64) -> None:
    """Put the values (n, places) of every place in rising order by the steps of ``network(n)``, in place."""
    for k in range(len(pairs)):
        _exchange(rows[pairs[k, 0]], rows[pairs[k, 1]])


@numba.njit(cache=True)  # type: ignore[untyped-decorator]
def middle(rows: U16, at: int, count: int) -> float:
    """Median of the ``count`` largest of the ordered values of a place."""
    first = len(rows) - count
    return 0.5 * (float(rows[first + (count - 1) // 2, at]) + float(rows[first + count // 2, at]))


@numba.njit(cache=True)  # type: ignore[untyped-decorator]
def scatter(rows: U16, at: int, count: int, centre: float) -> float:
    """Median distance from ``centre``, their median, of the ``count`` largest of the ordered values of a
    place: taken from the centre outwards."""
    first, half = len(rows) - count, count // 2
    up, down = first + half, first + half - 1
    here = before = 0.0
    for _ in range(half + 1):
        before = here
        above = float(rows[up, at]) - centre if up < len(rows) else np.inf
        below = centre - float(rows[down, at]) if down >= first else np.inf
        if above <= below:
            here, up = above, up + 1
        else:
            here, down = below, down - 1
    return here if count % 2 else 0.5 * (before + here)
