"""How noisy a sample is at each level, by the samples of a tile themselves."""

from itertools import pairwise

import numpy as np
import numpy.typing as npt

from vinter.core.frames.mosaic import PEDESTAL

F32 = npt.NDArray[np.float32]
U16 = npt.NDArray[np.uint16]
MOST_PLACES = 15_000  # of a cube, at which the scatter of their samples is looked at


def noise_model(cube: U16) -> npt.NDArray[np.float64]:
    """Variance against level (3, 2) of the samples of a cube, from robust scatter in bins of the level.

    With a single sample a pixel the model is so wide that nothing is left out.
    """
    if cube.shape[0] < 2:
        return np.tile([1e9, 0.0], (3, 1))
    out = np.empty((3, 2))
    for c in range(3):
        values = cube[:, 1::3, 1::3, c].reshape(cube.shape[0], -1).astype(np.float32)
        values = values[:, (values > 0).all(axis=0)][:, :MOST_PLACES]
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
    rows = [
        (float(level[inside].mean()), float(np.median(deviation[inside]) ** 2))
        for a, b in pairwise(edges)
        if (inside := (level >= a) & (level < b)).sum() > 40
    ]
    if not rows:
        return float(np.median(deviation) ** 2), 0.0
    x, v = np.array(rows).T
    slope = float(np.polyfit(x, v, 1)[0]) if np.ptp(x) > 1 else 0.0
    slope = float(
        np.clip(slope, 0.0, 0.75 * np.median(v) / max(float(np.median(x)), 1.0))
    )  # levels too alike tell no slope
    return max(float(np.median(v - slope * x)), 0.25 * float(np.median(v))), slope
