"""The inner loops of the moves that look at what surrounds a pixel, compiled."""

import numba
import numpy as np
import numpy.typing as npt

from vinter.core.finish.loops.pixels import (
    BAND,
    F32,
    Array,
    apart,
    inside,
    joined,
    kernel,
    light_at,
    places,
    put,
    row_between,
    row_kernel,
    thrice,
    widened,
)

SLOPE = np.float32(-0.6)  # slope of the cubic kernel one pixel away, the same as in a stack


@kernel  # type: ignore[untyped-decorator]
def locally(rgb: F32, share: F32, changes: F32) -> F32:
    """A picture whose light grows by an amount from a small map (rows, columns, 2) for sky and ground, laid
    together by the share of sky; its colours are kept."""
    out = np.empty_like(rgb)
    rows, wide = share.shape
    flat, to = rgb.reshape(rows, 3 * wide), out.reshape(rows, 3 * wide)
    above, down = places(rows, changes.shape[0])
    for band in numba.prange((rows + BAND - 1) // BAND):
        top, end = band * BAND, min(band * BAND + BAND, rows)
        first = above[top]
        wider = widened(changes[first : above[end - 1] + 2], wide)
        change, colours = np.empty((2, wide), np.float32), np.empty((3, wide), np.float32)
        sky, ground = change[0], change[1]
        red, green, blue = colours[0], colours[1], colours[2]
        for y in range(top, end):
            for k in range(2):
                row_between(wider[k], above[y] - first, down[y], change[k])
            apart(flat[y], colours)
            shares = share[y]
            for x in range(wide):
                light = min(light_at(red[x], green[x], blue[x]), np.float32(1))
                more = ground[x] + shares[x] * (sky[x] - ground[x])
                gain = (light + more) / max(light, np.float32(1e-3))
                gain = min(max(gain, np.float32(0.3)), np.float32(3.0))
                red[x], green[x], blue[x] = red[x] * gain, green[x] * gain, blue[x] * gain
            joined(colours, to[y])
    return out


@numba.njit(cache=True, nogil=True)  # type: ignore[untyped-decorator]
def _taps(many: int, larger: float, middle: float) -> tuple[npt.NDArray[np.int32], F32]:
    """For places along a side, ``larger`` times as far from the centre: the four samples about each (the
    side's ends stand for what lies beyond), and how far each lies beyond the second."""
    at, over = np.empty((4, many), np.int32), np.empty(many, np.float32)
    for i in range(many):
        place = middle + larger * (i - middle)
        first = int(np.floor(place))
        over[i] = place - first
        for k in range(4):
            at[k, i] = min(max(first - 1 + k, 0), many - 1)
    return at, over


@row_kernel  # type: ignore[untyped-decorator]
def _between_four(s0: F32, s1: F32, s2: F32, s3: F32, over: F32, out: F32) -> None:
    """Cubic convolution of four rows, each place so far beyond the second; one place says it for all."""
    for i in range(len(out)):
        t = over[i] if len(over) > 1 else over[0]
        one = SLOPE * (s0[i] - s2[i])
        three = SLOPE * (s0[i] - s3[i]) + (SLOPE + np.float32(2)) * (s1[i] - s2[i])
        out[i] = s1[i] + t * (one + t * ((s2[i] - s1[i] - one - three) + t * three))


@row_kernel  # type: ignore[untyped-decorator]
def _one_of_three(three: F32, c: int, line: F32) -> None:
    """A colour of a row."""
    first = np.uint64(c)
    for x in range(np.uint64(len(line))):
        line[x] = three[np.uint64(3) * x + first]


@row_kernel  # type: ignore[untyped-decorator]
def _into_three(line: F32, c: int, three: F32) -> None:
    """A colour of a row put in its places."""
    first = np.uint64(c)
    for x in range(np.uint64(len(line))):
        three[np.uint64(3) * x + first] = line[x]


@numba.njit(cache=True, nogil=True)  # type: ignore[untyped-decorator]
def _shifted(line: F32, columns: npt.NDArray[np.int32], over: F32, out: F32) -> None:
    """A line between its places; stretches of it that are shifted alike are done together."""
    wide, x = len(line), 0
    while x < wide:
        off, to = columns[0, x] - x, x + 1
        if columns[3, x] - columns[0, x] == 3:  # not at an end
            while to < wide and columns[0, to] - to == off and columns[3, to] - columns[0, to] == 3:
                to += 1
        a, b, c, d, n = columns[0, x], columns[1, x], columns[2, x], columns[3, x], to - x
        _between_four(
            line[a : a + n], line[b : b + n], line[c : c + n], line[d : d + n], over[x:to], out[x:to]
        )
        x = to


@kernel  # type: ignore[untyped-decorator]
def drawn_in(rgb: F32, larger: Array, middle: Array) -> F32:
    """A picture (h, w, 3) of which each colour (``larger`` (3,), 1 for one that stays) is taken from so many
    times as far from a centre (x, y px)."""
    out = np.empty_like(rgb)
    height, wide = rgb.shape[:2]
    flat, to = rgb.reshape(height, 3 * wide), out.reshape(height, 3 * wide)
    columns, across = np.empty((3, 4, wide), np.int32), np.empty((3, wide), np.float32)
    rows, down = np.empty((3, 4, height), np.int32), np.empty((3, height), np.float32)
    for c in range(3):
        columns[c], across[c] = _taps(wide, larger[c], middle[0])
        rows[c], down[c] = _taps(height, larger[c], middle[1])
    for y in numba.prange(height):
        three, line = np.empty(3 * wide, np.float32), np.empty((2, wide), np.float32)
        put(flat[y], to[y])
        for c in range(3):
            if larger[c] != 1:
                r = rows[c, :, y]
                _between_four(flat[r[0]], flat[r[1]], flat[r[2]], flat[r[3]], down[c, y : y + 1], three)
                _one_of_three(three, c, line[0])
                _shifted(line[0], columns[c], across[c], line[1])
                _into_three(line[1], c, to[y])
    return out


@row_kernel  # type: ignore[untyped-decorator]
def _spline(far: F32, near: F32, own: F32, next_: F32, beyond: F32, out: F32) -> None:
    """The wavelet's smoothing kernel (B3) on five samples of each place."""
    for x in range(len(out)):
        ends, sides = far[x] + beyond[x], near[x] + next_[x]
        out[x] = ends * np.float32(1 / 16) + sides * np.float32(1 / 4) + own[x] * np.float32(3 / 8)


@kernel  # type: ignore[untyped-decorator]
def softened(light: F32, step: int) -> F32:
    """A light (h, w) smoothed by the wavelet's kernel with its places ``step`` px apart; turned back at the
    ends."""
    rows, wide = light.shape
    out = np.empty_like(light)
    for band in numba.prange((rows + BAND - 1) // BAND):
        longer, down = np.empty(wide + 4 * step, np.float32), np.empty(wide, np.float32)
        for y in range(band * BAND, min(band * BAND + BAND, rows)):
            a, b = light[inside(y - 2 * step, rows)], light[inside(y - step, rows)]
            c, d = light[inside(y + step, rows)], light[inside(y + 2 * step, rows)]
            _spline(a, b, light[y], c, d, down)
            put(down, longer[2 * step :][:wide])
            for k in range(2 * step):
                longer[k] = down[inside(k - 2 * step, wide)]
                longer[wide + 2 * step + k] = down[inside(wide + k, wide)]
            _spline(
                longer[:wide],
                longer[step:][:wide],
                down,
                longer[3 * step :][:wide],
                longer[4 * step :][:wide],
                out[y],
            )
    return out


@kernel  # type: ignore[untyped-decorator]
def add_layer(added: F32, light: F32, softer: F32, amount: float, narrow: float) -> None:
    """So much of what a light loses in ``softer`` added (h, w, in place); the less the fewer times 1 /
    ``narrow`` it is, by 1 - exp(-x^2), or all the same where that is 0."""
    much, by = np.float32(amount), np.float32(narrow)
    one, part = np.float32(1), np.float32(1 / 32)
    for y in numba.prange(len(added)):
        out, own, soft = added[y], light[y], softer[y]
        for x in range(len(out)):
            layer = own[x] - soft[x]
            # the 32nd power of 1 - x^2 / 32 stands for the exponential
            left = max(one - (layer * by) * (layer * by) * part, np.float32(0))
            left *= left
            left *= left
            left *= left
            left *= left
            left *= left
            out[x] += much * layer * ((one - left) if by > 0 else one)


@kernel  # type: ignore[untyped-decorator]
def brightened(rgb: F32, added: F32, most: float) -> F32:
    """A picture with a light (h, w) added to each colour, no more than ``most`` either way."""
    out = np.empty_like(rgb)
    rows, wide = added.shape
    flat, to, top = rgb.reshape(rows, 3 * wide), out.reshape(rows, 3 * wide), np.float32(most)
    for y in numba.prange(rows):
        light, three = np.empty(wide, np.float32), np.empty(3 * wide, np.float32)
        for x in range(wide):
            light[x] = min(max(added[y, x], -top), top)
        thrice(light, three)
        row, here = flat[y], to[y]
        for x in range(3 * wide):
            here[x] = row[x] + three[x]
    return out


def warm() -> None:
    """Compile every loop, so that the first change is as fast as the next."""
    rgb, share = np.full((4, 4, 3), 0.2, np.float32), np.full((4, 4), 0.5, np.float32)
    locally(rgb, share, np.ascontiguousarray(rgb[..., :2]))
    add_layer(share.copy(), share, softened(share, 1), 0.5, 1.0)
    brightened(rgb, share, 0.25)
    drawn_in(rgb, np.array([1.001, 1.0, 0.999]), np.array([2.0, 2.0]))
