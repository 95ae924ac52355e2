"""A row of places of a tile at a time: sums, how far samples lie off, and what is left out of few."""

import math

import numba
import numpy as np
import numpy.typing as npt

from vinter.core.frames.mosaic import PEDESTAL
from vinter.core.stack.combining.ordering import middle

F32 = npt.NDArray[np.float32]
U16 = npt.NDArray[np.uint16]
# Samples up to which each is judged by the others: beyond, the largest deviation from the mean can tell
FEW = 10


@numba.njit(cache=True)  # type: ignore[untyped-decorator]
def variance_at(level: float, steady: float, rising: float) -> float:
    """Variance of a sample by the noise model."""
    return float(max(steady + rising * max(level - PEDESTAL, 0.0), 1.0))


@numba.njit(cache=True)  # type: ignore[untyped-decorator]
def clip_few(samples: F32, kappa: float, sigma: float, spread: F32, alive: npt.NDArray[np.bool_]) -> None:
    """Leaves out, one after the other, the sample that lies farthest from the others.

    The measure is the noise model, or the others' own scatter where that is larger. Of two that disagree the
    darker stays: what crosses one frame only is light.
    """
    m, total, square = 0, 0.0, 0.0
    for i in range(len(samples)):
        alive[i] = samples[i] != 0
        if alive[i]:
            m += 1
            total += samples[i]
            square += float(samples[i]) * samples[i]
    while m > 1:
        worst, most = -1, 0.0
        for i in range(len(samples)):
            if not alive[i]:
                continue
            v = float(samples[i])
            mean = (total - v) / (m - 1)
            scatter = math.sqrt(max((square - v * v) / (m - 1) - mean * mean, 0.0)) if m > 3 else 0.0
            floor = sigma * spread[i] + (0.05 * mean if m <= 3 else 0.0)
            z = abs(v - mean) / (max(floor, scatter) * math.sqrt(1 + 1 / (m - 1)))
            if z > most or (m == 2 and worst >= 0 and v > samples[worst]):
                worst, most = i, max(z, most)
        if most <= kappa:
            break
        v = float(samples[worst])
        alive[worst] = False
        total, square, m = total - v, square - v * v, m - 1


@numba.njit(cache=True)  # type: ignore[untyped-decorator]
def keep_near(
    samples: F32,
    centre: float,
    kappa: float,
    sigma: float,
    wide: float,
    spread: F32,
    alive: npt.NDArray[np.bool_],
) -> None:
    """Leaves out what lies further from a centre than ``kappa`` deviations by the noise model, or of the
    samples' own scatter (``wide``) where that is larger."""
    for i in range(len(samples)):
        reach = kappa * max(sigma * spread[i], wide)
        alive[i] = samples[i] != 0 and abs(samples[i] - centre) <= reach


@numba.njit(cache=True)  # type: ignore[untyped-decorator]
def sums_without(
    flat: U16,
    y: int,
    at: int,
    left_out: npt.NDArray[np.int64],
    weights: F32,
    given: np.float32,
    sums: F32,
    shares: F32,
) -> tuple[np.float32, np.float32, np.float32]:
    """Count, sum of the samples and of their weights at a place of a row, without some frames."""
    m, total, weight = given, sums[at], shares[at]
    for i in left_out:
        v = np.float32(flat[i, y, at])
        if v == 0:
            continue
        m -= np.float32(1)
        total, weight = total - weights[i] * v, weight - weights[i]
    return m, total, weight


@numba.njit(cache=True)  # type: ignore[untyped-decorator]
def kept_count(values: F32, kept: npt.NDArray[np.bool_]) -> int:
    """How many values are kept (0 is none)."""
    m = 0
    for i in range(len(values)):
        m += 1 if kept[i] and values[i] != 0 else 0
    return m


@numba.njit(cache=True)  # type: ignore[untyped-decorator]
def add_row(
    row: U16, weight: float, sums: F32, shares: F32, total: F32, given: F32, low: F32, high: F32
) -> None:
    """Add a frame's row to the running sums of a row; written so that the compiler can take many places at
    once."""
    for at in range(len(row)):
        v = np.float32(row[at])
        there = np.float32(1.0) if v != 0 else np.float32(0.0)
        sums[at] += weight * v
        shares[at] += weight * there
        total[at] += v
        given[at] += there
        low[at] = min(low[at], v if v != 0 else np.float32(1e9))
        high[at] = max(high[at], v)


@numba.njit(cache=True)  # type: ignore[untyped-decorator]
def all_there(row: U16) -> bool:
    """Whether a frame gives a sample everywhere in a row."""
    least = row[0]
    for at in range(len(row)):
        least = min(least, row[at])
    return bool(least > 0)


@numba.njit(cache=True)  # type: ignore[untyped-decorator]
def add_whole_row(row: U16, weight: float, sums: F32, total: F32) -> None:
    """``add_row`` where every sample is there."""
    times = np.float32(weight)
    for at in range(len(row)):
        v = np.float32(row[at])
        sums[at] += times * v
        total[at] += v


@numba.njit(cache=True, error_model="numpy")  # type: ignore[untyped-decorator]
def _far_of_all(
    least: U16,
    lower: U16,
    upper: U16,
    most: U16,
    total: F32,
    steady: F32,
    rising: F32,
    by: float,
    reach: float,
    out: F32,
) -> None:
    """``far_of_ordered`` where every frame gives a sample, by the four ordered rows that it needs."""
    half, pedestal, none, one = np.float32(0.5), np.float32(PEDESTAL), np.float32(0), np.float32(1)
    share, scale = np.float32(by), np.float32(reach)
    for at in range(len(total)):
        centre = half * (np.float32(lower[at]) + np.float32(upper[at]))
        far = max(np.float32(most[at]) - centre, centre - np.float32(least[at]))
        variance = max(steady[at] + rising[at] * max(total[at] * share - pedestal, none), one)
        out[at] = far * far / (variance * scale)


@numba.njit(cache=True)  # type: ignore[untyped-decorator]
def far_of_ordered(
    rows: U16, total: F32, given: F32, steady: F32, rising: F32, reach: float, excess: F32
) -> None:
    """Where more than ten samples are given, squared distance of the farthest from their median, in variances
    by the noise model, over ``reach``: beyond 1 it may be left out."""
    n = len(rows)
    if given.min() == n:
        _far_of_all(
            rows[0, : len(total)],
            rows[(n - 1) // 2, : len(total)],
            rows[n // 2, : len(total)],
            rows[n - 1, : len(total)],
            total,
            steady,
            rising,
            1 / n,
            reach,
            excess,
        )
        return
    for at in range(len(total)):
        m = int(given[at])
        if m > FEW:
            centre = middle(rows, at, m)
            far = max(float(rows[n - 1, at]) - centre, centre - float(rows[n - m, at]))
            excess[at] = far * far / (variance_at(total[at] / m, steady[at], rising[at]) * reach)


@numba.njit(cache=True, error_model="numpy")  # type: ignore[untyped-decorator]
def far_of_mean(total: F32, given: F32, low: F32, high: F32, steady: F32, rising: F32, out: F32) -> None:
    """Squared distance of the farthest sample from the mean, in variances by the noise model; 0 without a
    sample."""
    pedestal, none, one = np.float32(PEDESTAL), np.float32(0), np.float32(1)
    for at in range(len(total)):
        centre = total[at] / max(given[at], one)
        far = max(high[at] - centre, centre - low[at])
        out[at] = (
            far * far / max(steady[at] + rising[at] * max(centre - pedestal, none), one)
            if given[at] > none
            else none
        )


@numba.njit(cache=True, error_model="numpy")  # type: ignore[untyped-decorator]
def means(sums: F32, shares: F32, mean: F32) -> None:
    """Weighted mean of the frames (0 without a sample)."""
    tiny = np.float32(1e-30)
    for at in range(len(mean)):
        mean[at] = sums[at] / max(shares[at], tiny)
