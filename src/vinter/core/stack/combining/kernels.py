"""Combining aligned samples of a tile: sigma clipping about the median, mean, median or brightest."""

import math
from dataclasses import dataclass

import numba
import numpy as np
import numpy.typing as npt

from vinter.core.stack.combining.methods import KAPPA, Method
from vinter.core.stack.combining.ordering import copy_into, middle, network, order, scatter
from vinter.core.stack.combining.rows import (
    FEW,
    add_row,
    add_whole_row,
    all_there,
    clip_few,
    far_of_mean,
    far_of_ordered,
    keep_near,
    kept_count,
    means,
    sums_without,
    variance_at,
)

F32 = npt.NDArray[np.float32]
U16 = npt.NDArray[np.uint16]
I64 = npt.NDArray[np.int64]
JOIN_FROM = np.float32(180)  # of 255, share of sky up to which a pixel is the ground's
SORTED_AT_ONCE = 512  # px of a row whose samples are put in order together


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
    """A combined tile: picture (h, w, 3) on the clean scale, samples kept (h, w, 3), and the share of the
    second colour's samples left out (h, w)."""

    picture: F32
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
        found.count,
        found.left_out,
    )
    return found


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
    count: npt.NDArray[np.uint16],
    lost: F32,
) -> None:
    """``combine`` into arrays that are there; exactly one of ``clips``, ``median`` and ``brightest`` is true,
    or none for a plain mean. ``pairs`` is the network that puts the samples in order."""
    n, height, width, colours = cube.shape
    length = width * colours
    flat = cube.reshape(n, height, length)
    merged, left = out.reshape(height, length), count.reshape(height, length)
    values, alive, good = np.empty(n, np.float32), np.empty(n, np.bool_), np.empty(n, np.bool_)
    left_out = np.empty(n + 1, np.int64)
    one = np.float32(1)
    reach = (kappa * spread.min()) ** 2
    # squared distance from the mean, in variances, under which none of m samples can be far
    gates = np.full(n + 1, np.inf, np.float32)
    ordered = median or (clips and n > FEW)
    for m in range(2, min(n, FEW) + 1 if clips else 0):
        gates[m] = 0.97**2 * (m - 1) / m * reach
    sums, shares = np.empty(length, np.float32), np.empty(length, np.float32)
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
            whole = whole and all_there(flat[i, y])
        if whole:  # the common case, and what is far is told by the ordered samples
            for i in range(n):
                add_whole_row(flat[i, y], weights[i], sums, total)
                shares += weights[i]
            given[:] = n
        else:
            low[:], high[:] = 1e9, 0
            for i in range(n):
                add_row(flat[i, y], weights[i], sums, shares, total, given, low, high)
            far_of_mean(total, given, low, high, steady, rising, excess)
            for at in range(length):
                excess[at] /= gates[int(given[at])]
        means(sums, shares, merged[y])
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
                far_of_ordered(
                    rows, total[part], given[part], steady[part], rising[part], reach, excess[part]
                )
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
                    sigma = math.sqrt(variance_at(total[at] / m, steady[at], rising[at]))
                    for i in range(n):
                        values[i] = flat[i, y, at]
                    if median or m > FEW:
                        place = at - colours * begin
                        centre = middle(rows, place, m)
                        wide = 1.4826 * scatter(rows, place, m, centre)
                        keep_near(values, centre, kappa, sigma, wide, spread, alive)
                        if median:
                            merged[y, at] = centre
                            left[y, at] = kept_count(values, alive)
                    else:
                        clip_few(values, kappa, sigma, spread, alive)
                    for i in range(n):
                        good[i] = good[i] and (alive[i] or values[i] == 0)
                bad = 0
                for i in range(n):
                    left_out[bad] = i
                    bad += 0 if good[i] else 1
                for c in range(0 if median or bad == 0 else colours):
                    at = base + c
                    m, kept, weight = sums_without(
                        flat, y, at, left_out[:bad], weights, given[at], sums, shares
                    )
                    if m > 0:  # else each colour kept other frames, and the mean of all stands
                        merged[y, at], left[y, at] = kept / weight, int(m)
                if given[base + 1] > 0:
                    lost[y, x] = one - left[y, base + 1] / given[base + 1]
        if brightest:
            merged[y] = high


@numba.njit(cache=True)  # type: ignore[untyped-decorator]
def join(sky: F32, ground: F32, mask: npt.NDArray[np.uint8], count: npt.NDArray[np.uint16]) -> None:
    """Lay the ground (h, w, 3) under the sky in place, by the mask (255 is sky), and wholly where no sky
    sample was kept.

    A pixel of the edge is the ground's up to ``JOIN_FROM``: the frames as they lay show there what share of
    the sky shines past it, and sky laid over that once more would be a bright rim.
    """
    height, width, colours = sky.shape
    for y in range(height):
        for x in range(width):
            share = (np.float32(mask[y, x]) - JOIN_FROM) / (np.float32(255) - JOIN_FROM)
            if share < 0 or count[y, x, 1] == 0:
                share = np.float32(0)
            if share < 1:
                for c in range(colours):
                    sky[y, x, c] = share * sky[y, x, c] + (np.float32(1) - share) * ground[y, x, c]
