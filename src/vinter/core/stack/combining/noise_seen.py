"""The noise that is left in a stack, measured in its tiles for any method and any number of frames."""

from dataclasses import replace

import numpy as np
import numpy.typing as npt

from vinter.core.frames.mosaic import SPAN
from vinter.core.stack.combining.kernels import Rules, combine
from vinter.core.stack.combining.methods import Method
from vinter.core.stack.combining.plan import Source

F32 = npt.NDArray[np.float32]
U16 = npt.NDArray[np.uint16]
FEW_TO_SPLIT, MOST_TO_SPLIT = 5, 9  # frames up to which more runs are looked at, and the most runs
FEW_TOLD = 8  # frames under which each counts by itself in the noise of one


def scales(sources: list[Source], method: Method) -> tuple[F32, F32]:
    """Weights and relative noise of the frames; all 1 unless they differ enough to matter."""
    spread = np.array([s.normalization.spread for s in sources], np.float32)
    if spread.max() < 1.1 * spread.min():
        spread = np.ones_like(spread)
    weight = (
        np.array([s.normalization.weight for s in sources], np.float32)
        if method == Method.WEIGHTED
        else np.asarray(1 / spread**2, np.float32)
    )
    return weight, spread


def _variance(weight: F32, spread: F32) -> float:
    """Variance of a weighted mean of frames whose relative noise is ``spread``."""
    w, r = weight.astype(float), spread.astype(float)
    return float((w * w * r * r).sum() / w.sum() ** 2)


def _robust(values: npt.NDArray[np.floating]) -> float:
    return float(1.4826 * np.median(np.abs(values - np.median(values))))


def noise_seen(cube: U16, count: npt.NDArray[np.uint16], rules: Rules) -> tuple[float, float]:
    """Noise of one aligned sample and of the stack by the same robust estimator, shares of full scale.

    The stack's is that of its method, whatever it is: even and odd frames are combined by it, each by
    themselves, and how far the two lie apart tells.
    """
    n, weight, spread = len(cube), rules.weights, rules.spread
    full = count[::8, ::2, 1] >= n - 1  # a sixteenth of the places, of few rows, is enough to tell
    if n < 4 or not rules.method.points or full.sum() < 2000:
        return float("nan"), float("nan")
    cube = np.ascontiguousarray(cube[:, ::8, ::2])
    steps = [
        _robust((cube[i, ..., 1].astype(np.float32) - cube[(i + 1) % n, ..., 1])[full])
        / np.hypot(spread[i], spread[(i + 1) % n])
        for i in range(0, n, max(n // FEW_TOLD, 1))
    ]
    even, odd = (
        combine(
            cube[first::2].copy(),
            replace(rules, weights=weight[first::2].copy(), spread=spread[first::2].copy()),
        ).picture
        for first in (0, 1)
    )
    parts = _variance(weight[::2], spread[::2]) + _variance(weight[1::2], spread[1::2])
    half = _robust((even - odd)[..., 1][full]) * np.sqrt(_variance(weight, spread) / parts)
    # of few frames each counts: the reference is not interpolated, and has another noise than those that are
    single = np.sqrt(np.mean(np.square(steps))) if n < FEW_TOLD else np.median(steps)
    return float(single) / SPAN, half / SPAN


def noise_by_count(cube: U16, weight: F32, spread: F32) -> list[tuple[int, float]]:
    """How noise falls while frames are added: counts, and the noise of the mean of that count, shares of full
    scale."""
    part = cube[:, 1::3, 1::3, 1].astype(np.float32)
    part = part[:, (part > 0).all(axis=0)]
    if part.shape[0] < 2 or part.shape[1] < 1500:
        return []
    counts = sorted(
        {k for k in (2, 3, 4, 6, 8, 12, 16, 24, 32, 48, 64, 96, 128, 200, len(cube)) if k <= len(cube)}
    )
    out = []
    for k in counts:
        found = [_noise_of_mean(part, weight, spread, order) for order in _orders(k, len(cube))]
        out.append((k, float(np.sqrt(np.mean(np.square(found)))) / SPAN))
    return out


def _orders(count: int, frames: int) -> list[list[int]]:
    """Which runs of ``count`` frames are looked at, from the last on into the first: frames are not equally
    noisy, for each is smoothed by how it fell between the pixels, and one that was not resampled must not
    stand on one side alone."""
    turns = min(frames, FEW_TO_SPLIT if count > FEW_TO_SPLIT else MOST_TO_SPLIT)
    return [[(t * frames // turns + k) % frames for k in range(count)] for t in range(turns)]


def _noise_of_mean(part: F32, weight: F32, spread: F32, order: list[int]) -> float:
    """Noise of the mean of frames, from the difference of their two halves."""
    w, r, cube = weight[order], spread[order], part[order]
    means = [np.average(cube[h::2], axis=0, weights=w[h::2]) for h in (0, 1)]
    parts = _variance(w[::2], r[::2]) + _variance(w[1::2], r[1::2])
    return _robust(np.asarray(means[0] - means[1])) * float(np.sqrt(_variance(w, r) / parts))
