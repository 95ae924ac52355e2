"""Combining aligned samples of a tile: sigma clipping about the median, mean, median or brightest."""

import math
from dataclasses import dataclass
from itertools import pairwise

import numba
import numpy as np
import numpy.typing as npt

from vinter.core.frames.mosaic import PEDESTAL
from vinter.core.stack.combining.methods import KAPPA, Method
from vinter.core.stack.combining.ordering import copy_into, middle, network, order, scatter

F32 = npt.NDArray[np.float32]
U16 = npt.NDArray[np.uint16]
I64 = npt.NDArray[np.int64]
SORTED_AT_ONCE = 512  # px of a row whose samples are put in order together
# Samples up to which each is judged by the others: beyond, the largest deviation from the mean can tell
FEW = 10


@numba.njit(cache=True)  # type: ignore[untyped-decorator]
def _clip_few(samples: F32, kappa: float, sigma: float, spread: F32, alive: npt.NDArray[np.bool_]) -> None:
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
def _kept(values: F32, kept: npt.NDArray[np.bool_], weights: F32) -> tuple[np.float32, np.float32, int]:
    """Weighted mean of the values kept (0 is none), mean of the even less that of the odd ones, and their
    count."""
    s0, s1, w0, w1, m = np.float32(0), np.float32(0), np.float32(0), np.float32(0), 0
    for i in range(len(values)):
        if kept[i] and values[i] != 0:
            m += 1
            if i & 1:
                s1 += weights[i] * values[i]
                w1 += weights[i]
            else:
                s0 += weights[i] * values[i]
                w0 += weights[i]
    apart = s0 / w0 - s1 / w1 if w0 > 0 and w1 > 0 else np.float32(np.nan)
    return (s0 + s1) / (w0 + w1) if m > 0 else np.float32(0), apart, m


@numba.njit(cache=True)  # type: ignore[untyped-decorator]
def _add_row(
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
def _all_there(row: U16) -> bool:
    """Whether a frame gives a sample everywhere in a row."""
    least = row[0]
    for at in range(len(row)):
        least = min(least, row[at])
    return bool(least > 0)


@numba.njit(cache=True)  # type: ignore[untyped-decorator]
def _add_whole_row(row: U16, weight: float, sums: F32, total: F32) -> None:
    """``_add_row`` where every sample is there."""
    times = np.float32(weight)
    for at in range(len(row)):
        v = np.float32(row[at])
        sums[at] += times * v
        total[at] += v


@dataclass(frozen=True)
class Rules:
    """How the samples of a tile are combined.

    noise (3, 2): variance of a sample of colour c is noise[c, 0] + noise[c, 1] * level above pedestal; spread
    (n): how many times noisier than that a frame is; weights (n): how much it counts in a mean.
    """

    method: Method
    noise: npt.NDArray[np.float64]
    weights: F32
    spread: F32
    kappa: float = KAPPA


@dataclass(frozen=True)
class Combined:
    """A combined tile: picture (h, w, 3) on the clean scale, mean of the even frames less that of the odd
    ones (nan where one is empty), samples kept (h, w, 3), and the share of the second colour's samples left
    out (h, w)."""

    picture: F32
    halves: F32
    count: U16
    left_out: F32


def combine(cube: U16, rules: Rules) -> Combined:
    """Combine a cube (n, h, w, 3) of clean samples, 0 meaning none.

    Up to ten samples are judged each by the others, more by their distance from the median, the deviation
    being the larger of the noise model's and of the samples' own scatter. A sample that is left out in one
    colour is left out in all: what the colours are made of stays the same.
    """
    shape = cube.shape[1:]
    found = Combined(
        picture=np.empty(shape, np.float32),
        halves=np.empty(shape, np.float32),
        count=np.empty(shape, np.uint16),
        left_out=np.empty(shape[:2], np.float32),
    )
    method = rules.method
    combine_into(
        cube,
        method.clips,
        method == Method.MEDIAN,
        method == Method.TRAILS,
        float(rules.kappa),
        np.ascontiguousarray(rules.noise, np.float64),
        rules.weights,
        rules.spread,
        network(len(cube)),
        found.picture,
        found.halves,
        found.count,
        found.left_out,
    )
    return found


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
    """``_far`` where every frame gives a sample; the four rows are those of the ordered samples it needs."""
    half, pedestal, none, one = np.float32(0.5), np.float32(PEDESTAL), np.float32(0), np.float32(1)
    share, scale = np.float32(by), np.float32(reach)
    for at in range(len(total)):
        centre = half * (np.float32(lower[at]) + np.float32(upper[at]))
        far = max(np.float32(most[at]) - centre, centre - np.float32(least[at]))
        variance = max(steady[at] + rising[at] * max(total[at] * share - pedestal, none), one)
        out[at] = far * far / (variance * scale)


@numba.njit(cache=True)  # type: ignore[untyped-decorator]
def _far(rows: U16, total: F32, given: F32, steady: F32, rising: F32, reach: float, excess: F32) -> None:
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
            excess[at] = far * far / (_variance_at(total[at] / m, steady[at], rising[at]) * reach)


@numba.njit(cache=True)  # type: ignore[untyped-decorator]
def _variance_at(level: float, steady: float, rising: float) -> float:
    """Variance of a sample by the noise model."""
    return float(max(steady + rising * max(level - PEDESTAL, 0.0), 1.0))


@numba.njit(cache=True)  # type: ignore[untyped-decorator]
def combine_into(
    cube: U16,
    clips: bool,
    median: bool,
    brightest: bool,
    kappa: float,
    noise: npt.NDArray[np.float64],
    weights: F32,
    spread: F32,
    pairs: I64,
    out: F32,
    halves: F32,
    count: npt.NDArray[np.uint16],
    lost: F32,
) -> None:
    """``combine`` into arrays that are there; exactly one of ``clips``, ``median`` and ``brightest`` is true,
    or none for a plain mean. ``pairs`` is the network that puts the samples in order."""
    n, height, width, colours = cube.shape
    length = width * colours
    flat = cube.reshape(n, height, length)
    merged, apart, left = (
        out.reshape(height, length),
        halves.reshape(height, length),
        count.reshape(height, length),
    )
    values, alive, good = np.empty(n, np.float32), np.empty(n, np.bool_), np.empty(n, np.bool_)
    left_out = np.empty(n + 1, np.int64)
    one = np.float32(1)
    reach, least = (kappa * spread.min()) ** 2, np.float32(0.01) * weights.min()
    # squared distance from the mean, in variances, under which none of m samples can be far
    gates = np.full(n + 1, np.inf, np.float32)
    ordered = median or (clips and n > FEW)
    for m in range(2, min(n, FEW) + 1 if clips else 0):
        gates[m] = 0.97**2 * (m - 1) / m * reach
    sums, shares = np.empty((2, length), np.float32), np.empty((2, length), np.float32)
    total, given = np.empty(length, np.float32), np.empty(length, np.float32)
    low, high, excess = (
        np.empty(length, np.float32),
        np.empty(length, np.float32),
        np.empty(length, np.float32),
    )
    steady, rising = np.empty(length, np.float32), np.empty(length, np.float32)
    for at in range(length):
        steady[at], rising[at] = noise[at % colours, 0], noise[at % colours, 1]
    rows = np.empty((n, colours * SORTED_AT_ONCE), np.uint16)
    for y in range(height):
        sums[:], shares[:], total[:], given[:] = 0, 0, 0, 0
        whole = ordered
        for i in range(n):
            whole = whole and _all_there(flat[i, y])
        if whole:  # the common case, and what is far is told by the ordered samples
            for i in range(n):
                _add_whole_row(flat[i, y], weights[i], sums[i & 1], total)
                shares[i & 1] += weights[i]
            given[:] = n
        else:
            low[:], high[:] = 1e9, 0
            for i in range(n):
                _add_row(flat[i, y], weights[i], sums[i & 1], shares[i & 1], total, given, low, high)
            _excess(total, given, low, high, steady, rising, excess)
            for at in range(length):
                excess[at] /= gates[int(given[at])]
        _means(sums, shares, merged[y], apart[y])
        for at in range(length):
            left[y, at] = np.uint16(np.int32(given[at]))
        lost[y] = 0
        for begin in range(0, width if clips or median else 0, SORTED_AT_ONCE):
            end = min(begin + SORTED_AT_ONCE, width)
            if ordered:
                for i in range(n):
                    copy_into(rows[i], flat[i, y, colours * begin : colours * end])
                order(rows, pairs)
            part = slice(colours * begin, colours * end)
            if median:  # looks at all of them
                excess[part] = 2 * np.minimum(given[part], one)
            elif ordered:
                _far(rows, total[part], given[part], steady[part], rising[part], reach, excess[part])
            for x in range(begin, end):
                base, most = colours * x, np.float32(0)
                for c in range(colours):
                    most = max(most, excess[base + c])
                if most <= one:
                    continue
                for i in range(n):
                    good[i] = True
                for c in range(colours):
                    at = base + c
                    m = int(given[at])
                    if excess[at] <= one:
                        continue
                    sigma = math.sqrt(_variance_at(total[at] / m, steady[at], rising[at]))
                    for i in range(n):
                        values[i] = flat[i, y, at]
                    if median or m > FEW:
                        place = at - colours * begin
                        centre = middle(rows, place, m)
                        wide = 1.4826 * scatter(rows, place, m, centre)
                        for i in range(n):
                            alive[i] = values[i] != 0 and abs(values[i] - centre) <= kappa * max(
                                sigma * spread[i], wide
                            )
                        if median:
                            merged[y, at] = centre
                            _, apart[y, at], left[y, at] = _kept(values, alive, weights)
                    else:
                        _clip_few(values, kappa, sigma, spread, alive)
                    for i in range(n):
                        good[i] = good[i] and (alive[i] or values[i] == 0)
                bad = 0
                for i in range(n):
                    left_out[bad] = i
                    bad += 0 if good[i] else 1
                for c in range(0 if median or bad == 0 else colours):
                    at = base + c
                    m, s0, s1, w0, w1 = given[at], sums[0, at], sums[1, at], shares[0, at], shares[1, at]
                    for k in range(bad):
                        i = left_out[k]
                        v = np.float32(flat[i, y, at])
                        if v == 0:
                            continue
                        m -= 1
                        if i & 1:
                            s1, w1 = s1 - weights[i] * v, w1 - weights[i]
                        else:
                            s0, w0 = s0 - weights[i] * v, w0 - weights[i]
                    if m > 0:  # else each colour kept other frames, and the mean of all stands
                        merged[y, at], left[y, at] = (s0 + s1) / (w0 + w1), int(m)
                        apart[y, at] = s0 / w0 - s1 / w1 if w0 > least and w1 > least else np.nan
                if given[base + 1] > 0:
                    lost[y, x] = one - left[y, base + 1] / given[base + 1]
        if brightest:
            merged[y] = high


@numba.njit(cache=True)  # type: ignore[untyped-decorator]
def join(sky: F32, ground: F32, mask: npt.NDArray[np.uint8], count: npt.NDArray[np.uint16]) -> None:
    """Lay the ground (h, w, 3) under the sky in place, by the mask (255 is sky), and wholly where no sky
    sample was kept."""
    height, width, colours = sky.shape
    for y in range(height):
        for x in range(width):
            share = np.float32(mask[y, x]) / np.float32(255) if count[y, x, 1] > 0 else np.float32(0)
            if share < 1:
                for c in range(colours):
                    sky[y, x, c] = share * sky[y, x, c] + (np.float32(1) - share) * ground[y, x, c]


@numba.njit(cache=True, error_model="numpy")  # type: ignore[untyped-decorator]
def _excess(total: F32, given: F32, low: F32, high: F32, steady: F32, rising: F32, out: F32) -> None:
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
def _means(sums: F32, shares: F32, mean: F32, apart: F32) -> None:
    """Weighted mean of both halves of the frames (0 without a sample), and how far they lie apart (nan when
    one is empty)."""
    s0, s1, w0, w1 = sums[0], sums[1], shares[0], shares[1]
    none, tiny, nothing = np.float32(0), np.float32(1e-30), np.float32(np.nan)
    for at in range(len(mean)):
        mean[at] = (s0[at] + s1[at]) / max(w0[at] + w1[at], tiny)
        apart[at] = (
            s0[at] / max(w0[at], tiny) - s1[at] / max(w1[at], tiny)
            if w0[at] > none and w1[at] > none
            else nothing
        )


@numba.njit(cache=True)  # type: ignore[untyped-decorator]
def _surface_row(k: npt.NDArray[np.float64], u: F32, v: float, add: F32) -> None:
    """Values of a surface (3, 6) of degree 2 along a row, colour by colour."""
    for c in range(3):
        a, b, q = (
            np.float32(k[c, 0] + v * (k[c, 2] + k[c, 5] * v)),
            np.float32(k[c, 1] + k[c, 4] * v),
            np.float32(k[c, 3]),
        )
        for x in range(len(u)):
            add[3 * x + c] = a + u[x] * (b + q * u[x])


@numba.njit(cache=True)  # type: ignore[untyped-decorator]
def _match_row(samples: U16, scale: float, add: F32, ceiling: float) -> None:
    pedestal, half, least, most, none = (
        np.float32(PEDESTAL),
        np.float32(0.5),
        np.float32(1),
        np.float32(65535),
        np.float32(0),
    )
    times, top = np.float32(scale), np.float32(ceiling)
    for i in range(len(samples)):
        s = np.float32(samples[i])
        lit = min(max((s - pedestal) * times + pedestal + add[i] + half, least), most)
        samples[i] = np.uint16(np.int32(lit if s > none and s < top else none))


@numba.njit(cache=True)  # type: ignore[untyped-decorator]
def normalize_into(
    samples: U16,
    scale: float,
    surface: npt.NDArray[np.float64],
    x0: float,
    y0: float,
    width: float,
    height: float,
    ceiling: float,
) -> None:
    """Bring samples (h, w, 3) to the reference in place: times scale, plus a surface (3, 6) of degree 2 in x
    / width, y / height.

    0 stays 0; samples at or above ``ceiling`` are taken for clipped and become 0.
    """
    rows, columns, colours = samples.shape
    flat = samples.reshape(rows, columns * colours)
    u, add = np.empty(columns, np.float32), np.empty(columns * colours, np.float32)
    for x in range(columns):
        u[x] = (x0 + x) / width
    for y in range(rows):
        _surface_row(surface, u, (y0 + y) / height, add)
        _match_row(flat[y], scale, add, ceiling)


def noise_model(cube: U16) -> npt.NDArray[np.float64]:
    """Variance against level (3, 2) of the samples of a cube, from robust scatter in bins of the level.

    With a single sample a pixel the model is so wide that nothing is left out.
    """
    if cube.shape[0] < 2:
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
