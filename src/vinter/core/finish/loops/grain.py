"""The inner loops of less noise, compiled: the picture is worked band by band, so that what lies between the
steps never leaves the processor's own memory."""

import math

import numba
import numpy as np

from vinter.core.finish.loops.pixels import (
    BAND,
    F32,
    Array,
    apart,
    inside,
    joined,
    kernel,
    places,
    put,
    row_between,
    row_kernel,
    widened,
)

REACH = 3.0  # standard deviations that a smoothing reaches to each side
LUMA = (np.float32(0.299), np.float32(0.587), np.float32(0.114))
OF_RED, OF_BLUE = np.float32(0.713), np.float32(0.564)  # of a colour's difference from luma, in YCrCb
EDGE = np.float32(0.05)  # share of sky by which neighbours of an edge differ: no luma is smoothed across it
ROWS, COLUMNS = 48, 3  # pixels down and across of which one is looked at, where grain is measured


def weights(sigma: float) -> F32:
    """Weights (1 + reach,) of the place itself and of those 1, 2, ... px away on either side, of a Gaussian
    whose deviation is ``sigma`` px; together they are 1."""
    far = np.arange(math.ceil(REACH * sigma) + 1)
    tall = np.exp(-0.5 * (far / sigma) ** 2)
    return np.asarray(tall / (tall[0] + 2 * tall[1:].sum()), np.float32)


@row_kernel  # type: ignore[untyped-decorator]
def _weighted_rows(rows: F32, middle: int, taps: F32, out: F32) -> None:
    """The rows about a middle one, weighted."""
    one, reach = rows[middle], len(taps) - 1
    for x in range(len(out)):
        out[x] = taps[0] * one[x]
    for k in range(1, reach, 2):  # two at a time: half as often is the sum read and put back
        above, below, tap = rows[middle - k], rows[middle + k], taps[k]
        over, under, next_tap = rows[middle - k - 1], rows[middle + k + 1], taps[k + 1]
        for x in range(len(out)):
            out[x] += tap * (above[x] + below[x]) + next_tap * (over[x] + under[x])
    if reach % 2:
        above, below, tap = rows[middle - reach], rows[middle + reach], taps[reach]
        for x in range(len(out)):
            out[x] += tap * (above[x] + below[x])


@row_kernel  # type: ignore[untyped-decorator]
def _weighted_along(row: F32, taps: F32, longer: F32, out: F32) -> None:
    """The places about each of a row, weighted; ``longer`` (row and twice the reach) is worked in."""
    wide, reach = len(row), len(taps) - 1
    put(row, longer[reach:][:wide])
    for k in range(reach):
        longer[k] = row[inside(k - reach, wide)]
        longer[reach + wide + k] = row[inside(wide + k, wide)]
    for x in range(wide):
        out[x] = taps[0] * row[x]
    for k in range(1, reach, 2):
        left, right, tap = longer[reach - k :][:wide], longer[reach + k :][:wide], taps[k]
        beyond, further, next_tap = (
            longer[reach - k - 1 :][:wide],
            longer[reach + k + 1 :][:wide],
            taps[k + 1],
        )
        for x in range(wide):
            out[x] += tap * (left[x] + right[x]) + next_tap * (beyond[x] + further[x])
    if reach % 2:
        left, right, tap = longer[:wide], longer[2 * reach :][:wide], taps[reach]
        for x in range(wide):
            out[x] += tap * (left[x] + right[x])


@row_kernel  # type: ignore[untyped-decorator]
def _luma(three: F32, out: F32) -> None:
    """Luma of a row of colours."""
    for x in range(len(out)):
        out[x] = LUMA[0] * three[3 * x] + LUMA[1] * three[3 * x + 1] + LUMA[2] * three[3 * x + 2]


def colours_of(rgb: F32) -> F32:
    """The differences of red and of blue from luma (h, w, 2), in the scale of YCrCb."""
    luma = rgb @ np.array(LUMA, np.float32)
    return np.stack([(rgb[..., 0] - luma) * OF_RED, (rgb[..., 2] - luma) * OF_BLUE], axis=-1)


@kernel  # type: ignore[untyped-decorator]
def details(rgb: F32, taps: F32) -> F32:
    """By how much the luma of some pixels (h / ROWS, w / COLUMNS) stands over what surrounds it."""
    rows, wide = rgb.shape[:2]
    flat, reach = rgb.reshape(rows, 3 * wide), len(taps) - 1
    out = np.empty(((rows + ROWS - 1) // ROWS, (wide + COLUMNS - 1) // COLUMNS), np.float32)
    for i in numba.prange(out.shape[0]):
        luma = np.empty((2 * reach + 1, wide), np.float32)
        down, soft = np.empty(wide, np.float32), np.empty(wide, np.float32)
        longer = np.empty(wide + 2 * reach, np.float32)
        for k in range(2 * reach + 1):
            _luma(flat[inside(i * ROWS + k - reach, rows)], luma[k])
        _weighted_rows(luma, reach, taps, down)
        _weighted_along(down, taps, longer, soft)
        for j in range(out.shape[1]):
            out[i, j] = luma[reach, j * COLUMNS] - soft[j * COLUMNS]
    return out


@row_kernel  # type: ignore[untyped-decorator]
def _inner(above: F32, share: F32, below: F32, out: F32) -> None:
    """How far places of a row lie inside sky or ground: 1, and 0 at an edge between them."""
    wide, by = len(share), np.float32(1) / EDGE
    for x in range(wide):
        out[x] = max(abs(above[x] - share[x]), abs(below[x] - share[x]))
    left, right = share[: wide - 1], share[1:]
    first, second = out[: wide - 1], out[1:]
    for x in range(wide - 1):
        first[x] = max(first[x], abs(left[x] - right[x]))
    for x in range(wide - 1):
        second[x] = max(second[x], abs(left[x] - right[x]))
    for x in range(wide):
        out[x] = max(np.float32(1) - out[x] * by, np.float32(0))


@row_kernel  # type: ignore[untyped-decorator]
def _calm_row(
    colours: F32, luma: F32, smooth: F32, soft: F32, share: F32, inner: F32, amounts: F32, grain: F32
) -> None:
    """A row of ``calmer``, its three colours in place."""
    red, green, blue = colours[0], colours[1], colours[2]
    soft_red, soft_blue = soft[0], soft[1]
    narrow, reach = np.float32(1) / grain[0], np.float32(1) / grain[1]
    low_colour, low_light = amounts[0, 1], amounts[1, 1]
    more_colour, more_light = amounts[0, 0] - low_colour, amounts[1, 0] - low_light
    for x in range(len(luma)):
        s, light = share[x], luma[x]
        detail = light - smooth[x]
        far = np.float32(1) + (detail * narrow) * (detail * narrow)
        bright = light - inner[x] * (low_light + s * more_light) * detail / (far * far)
        reddish, bluish = (red[x] - light) * OF_RED, (blue[x] - light) * OF_BLUE
        red_away, blue_away = soft_red[x] - reddish, soft_blue[x] - bluish
        near_red = np.float32(1) + (red_away * reach) * (red_away * reach)
        near_blue = np.float32(1) + (blue_away * reach) * (blue_away * reach)
        by = (low_colour + s * more_colour) / far  # a star keeps its colour
        r = bright + (reddish + by * red_away / near_red) * (np.float32(1) / OF_RED)
        b = bright + (bluish + by * blue_away / near_blue) * (np.float32(1) / OF_BLUE)
        green[x] = (bright - LUMA[0] * r - LUMA[2] * b) * (np.float32(1) / LUMA[1])
        red[x], blue[x] = r, b


@kernel  # type: ignore[untyped-decorator]
def calmer(rgb: F32, soft: F32, taps: F32, share: F32, amounts: Array, grain: Array) -> F32:
    """A picture (h, w, 3) whose colour differences are moved towards their surroundings (``soft``, a smaller
    map (rows, columns, 2)) and whose luma is smoothed by ``taps``, by so much (``amounts``: of colour and of
    light, each in sky and ground); less where they stand further off than is usual of grain (``grain``: of
    luma, of the differences), colours also where the luma does: stars, lamps, edges. No luma is carried over
    the edge between sky and ground."""
    out = np.empty_like(rgb)
    rows, wide = share.shape
    flat, to, reach = rgb.reshape(rows, 3 * wide), out.reshape(rows, 3 * wide), len(taps) - 1
    by, usual = np.asarray(amounts, np.float32), np.asarray(grain, np.float32)
    above, down = places(rows, soft.shape[0])
    for band in numba.prange((rows + BAND - 1) // BAND):
        top, end = band * BAND, min(band * BAND + BAND, rows)
        luma = np.empty((end - top + 2 * reach, wide), np.float32)
        for k in range(len(luma)):
            _luma(flat[inside(top + k - reach, rows)], luma[k])
        first = above[top]
        wider = widened(soft[first : above[end - 1] + 2], wide)
        smooth, longer = np.empty(wide, np.float32), np.empty(wide + 2 * reach, np.float32)
        tall, inner, away, colours = (
            np.empty(wide, np.float32),
            np.empty(wide, np.float32),
            np.empty((2, wide), np.float32),
            np.empty((3, wide), np.float32),
        )
        for y in range(top, end):
            at = y - top + reach
            for k in range(2):
                row_between(wider[k], above[y] - first, down[y], away[k])
            _weighted_rows(luma, at, taps, tall)
            _weighted_along(tall, taps, longer, smooth)
            apart(flat[y], colours)
            _inner(share[max(y - 1, 0)], share[y], share[min(y + 1, rows - 1)], inner)
            _calm_row(colours, luma[at], smooth, away, share[y], inner, by, usual)
            joined(colours, to[y])
    return out


def warm() -> None:
    """Compile the loops."""
    rgb, share, taps = np.full((4, 4, 3), 0.2, np.float32), np.full((4, 4), 0.5, np.float32), weights(0.6)
    details(rgb, taps)
    calmer(rgb, colours_of(rgb), taps, share, np.zeros((2, 2)), np.ones(2))
