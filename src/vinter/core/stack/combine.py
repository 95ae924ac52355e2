"""Combining aligned samples of a tile: sigma clipping about the median, mean, median or brightest."""

import math
from itertools import pairwise

import numba
import numpy as np
import numpy.typing as npt

from vinter.core.frames.mosaic import PEDESTAL

F32 = npt.NDArray[np.float32]
U16 = npt.NDArray[np.uint16]
METHODS = {"clip": 0, "mean": 1, "median": 2, "trails": 3}
KAPPA = 3.5


@numba.njit(cache=True)  # type: ignore[untyped-decorator]
def _median(values: F32, n: int) -> float:
    """Median of the first n values, which are sorted in place."""
    for i in range(1, n):
        v = values[i]
        j = i - 1
        while j >= 0 and values[j] > v:
            values[j + 1] = values[j]
            j -= 1
        values[j + 1] = v
    half = n // 2
    return float(values[half]) if n % 2 else 0.5 * float(values[half - 1] + values[half])


@numba.njit(cache=True)  # type: ignore[untyped-decorator]
def _clipped(samples: U16, kappa: float, sigma: float, kept: F32, spread: F32) -> tuple[float, float, int, int, float]:
    """Sums and counts of the even and odd samples within kappa deviations of the median, and the median."""
    m = 0
    for v in samples:
        if v:
            kept[m] = v
            m += 1
    centre = _median(kept, m)
    for i in range(m):
        spread[i] = abs(kept[i] - centre)
    reach = kappa * max(sigma, 1.4826 * _median(spread, m))
    s0, s1, n0, n1 = 0.0, 0.0, 0, 0
    for i in range(len(samples)):
        v = float(samples[i])
        if v != 0.0 and abs(v - centre) <= reach:
            if i & 1:
                s1 += v
                n1 += 1
            else:
                s0 += v
                n0 += 1
    return s0, s1, n0, n1, centre


@numba.njit(cache=True)  # type: ignore[untyped-decorator]
def combine(cube: U16, method: int, kappa: float, noise: npt.NDArray[np.float64], out: F32, halves: F32,
            count: npt.NDArray[np.uint16]) -> None:
    """Combine a cube (n, h, w, 3) of clean samples, 0 meaning none, into out (h, w, 3), in place.

    noise (3, 2): variance of a sample of colour c is noise[c, 0] + noise[c, 1] * level above pedestal.
    A sample is left out when it lies more than kappa deviations from the median, the deviation being
    the larger of that model and of the samples' own scatter. halves gets the mean of the even frames
    less that of the odd ones (nan where one is empty), count the samples kept.
    """
    n, height, width, colours = cube.shape
    kept, spread = np.empty(n, np.float32), np.empty(n, np.float32)
    for y in range(height):
        for x in range(width):
            for c in range(colours):
                low, high = 1e9, 0.0
                s0, s1, n0, n1 = 0.0, 0.0, 0, 0
                for i in range(n):
                    v = float(cube[i, y, x, c])
                    if v != 0.0:
                        if i & 1:
                            s1 += v
                            n1 += 1
                        else:
                            s0 += v
                            n0 += 1
                        low, high = min(low, v), max(high, v)
                m = n0 + n1
                if m == 0:
                    out[y, x, c], halves[y, x, c], count[y, x, c] = 0.0, np.nan, 0
                    continue
                centre = (s0 + s1) / m
                if method == 2 or (method == 0 and m > 2):
                    sigma = math.sqrt(max(noise[c, 0] + noise[c, 1] * max(centre - PEDESTAL, 0.0), 1.0))
                    if method == 2 or high - centre > 0.9 * kappa * sigma or centre - low > 0.9 * kappa * sigma:
                        s0, s1, n0, n1, centre = _clipped(cube[:, y, x, c], kappa, sigma, kept, spread)
                if method == 3:
                    out[y, x, c] = high
                elif method == 2:
                    out[y, x, c] = centre
                else:
                    out[y, x, c] = (s0 + s1) / max(n0 + n1, 1)
                halves[y, x, c] = s0 / n0 - s1 / n1 if n0 and n1 else np.nan
                count[y, x, c] = n0 + n1


def noise_model(cube: U16) -> npt.NDArray[np.float64]:
    """Variance against level (3, 2) of the samples of a cube, from robust scatter in bins of the level.

    With fewer than three samples a pixel the model is so wide that nothing is left out.
    """
    if cube.shape[0] < 3:
        return np.tile([1e9, 0.0], (3, 1))
    out = np.empty((3, 2))
    for c in range(3):
        values = cube[:, 1::3, 1::3, c].reshape(cube.shape[0], -1).astype(np.float32)
        values = values[:, (values > 0).all(axis=0)][:, :40_000]
        if values.shape[1] < 500:
            out[c] = 1e9, 0.0
            continue
        level = np.median(values, axis=0)
        # successive differences do not feel slow drifts; their median absolute value is a robust deviation
        steps = np.median(np.abs(np.diff(values, axis=0)), axis=0) / 0.6745 / np.sqrt(2)
        out[c] = _line(level - PEDESTAL, steps)
    return out


def _line(level: F32, deviation: F32) -> tuple[float, float]:
    """Fit variance = a + b level through the means of ten bins of the level, both not negative."""
    edges = np.quantile(level, np.linspace(0, 0.98, 11))
    rows = [(float(level[inside].mean()), float(np.median(deviation[inside]) ** 2)) 
            for a, b in pairwise(edges) if (inside := (level >= a) & (level < b)).sum() > 40]
    if not rows:
        return float(np.median(deviation) ** 2), 0.0
    x, v = np.array(rows).T
    slope = float(np.polyfit(x, v, 1)[0]) if np.ptp(x) > 1 else 0.0
    slope = max(slope, 0.0)
    return max(float(np.median(v - slope * x)), 0.25 * float(np.median(v))), slope
