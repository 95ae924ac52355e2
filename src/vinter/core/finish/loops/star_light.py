"""The inner loops of stars, compiled: what stands over its surroundings by less than a star's width, and how
it is worn down; worked band by band."""

import cv2
import numba
import numpy as np
import numpy.typing as npt

from vinter.core.finish.loops.pixels import (
    BAND,
    F32,
    kernel,
    light_at,
    put,
    row_kernel,
    thrice,
)

I64 = npt.NDArray[np.int64]
BEYOND = np.float32(1e30)  # linear level above any light


def disc(wide: int) -> I64:
    """Half the width of each row of a disc that is ``wide`` px (odd) across, from its first row to its
    last."""
    shape = cv2.getStructuringElement(cv2.MORPH_ELLIPSE, (wide, wide))
    return np.asarray(shape.sum(axis=1) // 2, np.int64)


@row_kernel  # type: ignore[untyped-decorator]
def _least_along(row: F32, longer: F32, out: F32) -> None:
    """The least within 0, 1, 2, ... places of each of a row (reach + 1, wide); ``longer`` (row and twice the
    reach) is worked in."""
    wide, reach = len(row), len(out) - 1
    for k in range(reach):
        longer[k], longer[reach + wide + k] = row[0], row[wide - 1]
    put(row, longer[reach:][:wide])
    put(row, out[0])
    for r in range(1, reach + 1):
        left, right, before, now = longer[reach - r :][:wide], longer[reach + r :][:wide], out[r - 1], out[r]
        for x in range(wide):
            now[x] = min(before[x], min(left[x], right[x]))


@row_kernel  # type: ignore[untyped-decorator]
def _least_about(along: F32, at: int, halves: I64, out: F32) -> None:
    """The least within a shape about each place of a row, by what is least along the rows about it (as many
    as the shape has, one after the other from the first or going on from the last; reach + 1; wide)."""
    many, reach = len(halves), len(halves) // 2
    put(along[at % many, halves[reach]], out)
    for d in range(1, reach + 1):
        above, below = along[(at - d) % many, halves[reach - d]], along[(at + d) % many, halves[reach + d]]
        for x in range(len(out)):
            out[x] = min(out[x], min(above[x], below[x]))


@row_kernel  # type: ignore[untyped-decorator]
def _heights(flat: F32, top: int, halves: I64, heights: F32) -> None:
    """By how much the light of some rows of a picture (h, 3 wide), from ``top`` on, stands over its opening
    by a shape; what lies beyond the picture does not count. Of each step only the rows that the next one
    looks at are kept."""
    rows, (many, wide), shape, reach = len(flat), heights.shape, len(halves), len(halves) // 2
    longer, low = np.empty(wide + 2 * reach, np.float32), np.empty(wide, np.float32)
    light = np.empty((shape, wide), np.float32)
    along, over = (
        np.empty((shape, reach + 1, wide), np.float32),
        np.empty((shape, reach + 1, wide), np.float32),
    )
    for k in range(many + 4 * reach):
        y = top - 2 * reach + k
        if 0 <= y < rows:
            three, own = flat[y], light[k % shape]
            for x in range(wide):
                own[x] = light_at(three[3 * x], three[3 * x + 1], three[3 * x + 2])
            _least_along(own, longer, along[k % shape])
        else:
            along[k % shape] = BEYOND
        if k >= 2 * reach:
            if 0 <= y - reach < rows:
                _least_about(along, k - reach, halves, low)
                for x in range(wide):
                    low[x] = -low[x]  # the least of what is turned over is the most
                _least_along(low, longer, over[k % shape])
            else:
                over[k % shape] = BEYOND
        if k >= 4 * reach:
            _least_about(over, k - reach, halves, low)
            own, height = light[(k - 2 * reach) % shape], heights[k - 4 * reach]
            for x in range(wide):
                height[x] = own[x] + low[x]


@kernel  # type: ignore[untyped-decorator]
def over_opening(rgb: F32, halves: I64) -> F32:
    """By how much the light of a picture (h, w, 3) stands over its opening by a shape (``disc``): what is
    narrower than that (h, w)."""
    rows, wide = rgb.shape[:2]
    flat, out = rgb.reshape(rows, 3 * wide), np.empty((rows, wide), np.float32)
    for band in numba.prange((rows + BAND - 1) // BAND):
        _heights(flat, band * BAND, halves, out[band * BAND : band * BAND + BAND])
    return out


@row_kernel  # type: ignore[untyped-decorator]
def _worn(above: F32, left: F32, row: F32, right: F32, below: F32, by: F32, out: F32) -> None:
    """Places worn down by so much to the least of themselves and their four neighbours."""
    for x in range(len(out)):
        least = min(min(min(above[x], below[x]), min(left[x], right[x])), row[x])
        out[x] = row[x] + by[x] * (least - row[x])


@numba.njit(cache=True, nogil=True)  # type: ignore[untyped-decorator]
def _thin_row(above: F32, row: F32, below: F32, by: F32, out: F32) -> None:
    """A row of three colours worn down; at its ends what lies beyond is left out."""
    last = len(row) - 3
    if last == 0:  # a picture of one column
        _worn(above, row, row, row, below, by, out)
        return
    inner, first, end = slice(3, last), slice(0, 3), slice(last, last + 3)
    _worn(above[inner], row[: last - 3], row[inner], row[6:], below[inner], by[inner], out[inner])
    _worn(above[first], row[first], row[first], row[3:6], below[first], by[first], out[first])
    _worn(above[end], row[last - 3 : last], row[end], row[end], below[end], by[end], out[end])


@row_kernel  # type: ignore[untyped-decorator]
def _sure(height: F32, share: F32, amount: np.float32, least: np.float32, span: np.float32, out: F32) -> None:
    """A row of an amount where something stands over its surroundings, by a share."""
    narrow = np.float32(1) / span
    for x in range(len(out)):
        sure = min(max((height[x] - least) * narrow, np.float32(0)), np.float32(1))
        out[x] = sure * share[x] * amount


@kernel  # type: ignore[untyped-decorator]
def thinner(rgb: F32, share: F32, halves: I64, amount: float, least: float, span: float) -> F32:
    """A picture whose stars (over its opening by a shape from ``least`` on, whole over ``span`` more) are
    worn down to the least of a pixel and its four neighbours, by an amount and a share (h, w)."""
    out = np.empty_like(rgb)
    rows, wide = share.shape
    flat, to = rgb.reshape(rows, 3 * wide), out.reshape(rows, 3 * wide)
    first, whole, most = np.float32(least), np.float32(span), np.float32(amount)
    for band in numba.prange((rows + BAND - 1) // BAND):
        top, end = band * BAND, min(band * BAND + BAND, rows)
        heights = np.empty((end - top, wide), np.float32)
        _heights(flat, top, halves, heights)
        by, of_three = np.empty(wide, np.float32), np.empty(3 * wide, np.float32)
        for y in range(top, end):
            _sure(heights[y - top], share[y], most, first, whole, by)
            thrice(by, of_three)
            _thin_row(flat[max(y - 1, 0)], flat[y], flat[min(y + 1, rows - 1)], of_three, to[y])
    return out


@kernel  # type: ignore[untyped-decorator]
def surely(height: F32, share: F32, amount: float, least: float, span: float) -> F32:
    """An amount where something stands over its surroundings (``least`` and ``span`` as in ``thinner``), by a
    share (h, w)."""
    out = np.empty_like(height)
    for y in numba.prange(len(out)):
        _sure(height[y], share[y], np.float32(amount), np.float32(least), np.float32(span), out[y])
    return out


def warm() -> None:
    """Compile the loops."""
    rgb, share = np.full((4, 4, 3), 0.2, np.float32), np.full((4, 4), 0.5, np.float32)
    surely(over_opening(rgb, disc(3)), share, 1.0, 0.02, 0.1)
    thinner(rgb, share, disc(3), 0.5, 0.02, 0.1)
