"""The inner loops of the moves that look at what surrounds a pixel, compiled."""

import numba
import numpy as np
import numpy.typing as npt

from vinter.core.finish.pixels import F32, Array, kernel, light_at, line_between, places

SLOPE = np.float32(-0.6)  # of the cubic's kernel one pixel away, as in a stack
LUMA = (np.float32(0.299), np.float32(0.587), np.float32(0.114))
OF_RED, OF_BLUE = np.float32(0.713), np.float32(0.564)  # of a colour's difference from luma, in YCrCb


@kernel  # type: ignore[untyped-decorator]
def locally(rgb: F32, share: F32, changes: F32) -> F32:
    """A picture whose light grows by an amount from a small map (rows, columns, 2) for sky and ground, laid
    together by the share of sky; its colours are kept."""
    out = np.empty_like(rgb)
    (above, down), (left, along) = (
        places(rgb.shape[0], changes.shape[0]),
        places(rgb.shape[1], changes.shape[1]),
    )
    for y in numba.prange(rgb.shape[0]):
        lines = np.empty((2, changes.shape[1] + 1), np.float32)
        for k in range(2):
            line_between(changes, above[y], down[y], k, lines[k])
        for x in range(rgb.shape[1]):
            at = left[x]
            sky = lines[0, at] + along[x] * (lines[0, at + 1] - lines[0, at])
            ground = lines[1, at] + along[x] * (lines[1, at + 1] - lines[1, at])
            light = min(light_at(rgb[y, x, 0], rgb[y, x, 1], rgb[y, x, 2]), np.float32(1))
            gain = (light + ground + share[y, x] * (sky - ground)) / max(light, np.float32(1e-3))
            gain = min(max(gain, np.float32(0.3)), np.float32(3.0))
            for c in range(3):
                out[y, x, c] = rgb[y, x, c] * gain
    return out


@kernel  # type: ignore[untyped-decorator]
def luma_and_colours(rgb: F32) -> tuple[F32, F32]:
    """Luma (h, w) and the differences of red and blue from it (h, w, 2), in the scale of YCrCb."""
    luma = np.empty(rgb.shape[:2], np.float32)
    colours = np.empty((rgb.shape[0], rgb.shape[1], 2), np.float32)
    for y in numba.prange(rgb.shape[0]):
        for x in range(rgb.shape[1]):
            r, g, b = rgb[y, x, 0], rgb[y, x, 1], rgb[y, x, 2]
            light = LUMA[0] * r + LUMA[1] * g + LUMA[2] * b
            luma[y, x] = light
            colours[y, x, 0] = (r - light) * OF_RED
            colours[y, x, 1] = (b - light) * OF_BLUE
    return luma, colours


@kernel  # type: ignore[untyped-decorator]
def calmer(
    luma: F32, colours: F32, soft: F32, smooth: F32, share: F32, colour: Array, light: Array, grain: Array
) -> F32:
    """RGB of a luma and its colour differences moved towards their surroundings (``soft`` of the differences,
    a small map (rows, columns, 2); ``smooth`` of the luma), by shares of sky and ground; less where they
    stand further off than is usual of grain (``grain``: of luma, of the differences): stars, lamps, edges."""
    out = np.empty((*luma.shape, 3), np.float32)
    (above, down), (left, along) = (
        places(luma.shape[0], soft.shape[0]),
        places(luma.shape[1], soft.shape[1]),
    )
    narrow, reach = np.float32(1 / grain[0]), np.float32(1 / grain[1])
    own, over = np.asarray(colour, np.float32), np.asarray(light, np.float32)
    for y in numba.prange(luma.shape[0]):
        lines = np.empty((2, soft.shape[1] + 1), np.float32)
        for k in range(2):
            line_between(soft, above[y], down[y], k, lines[k])
        for x in range(luma.shape[1]):
            at, s = left[x], share[y, x]
            by_colour, by_light = own[1] + s * (own[0] - own[1]), over[1] + s * (over[0] - over[1])
            detail = luma[y, x] - smooth[y, x]
            far = np.float32(1) + (detail * narrow) * (detail * narrow)
            bright = luma[y, x] - by_light * detail / (far * far)
            red_away = lines[0, at] + along[x] * (lines[0, at + 1] - lines[0, at]) - colours[y, x, 0]
            blue_away = lines[1, at] + along[x] * (lines[1, at + 1] - lines[1, at]) - colours[y, x, 1]
            near = np.float32(1) + (red_away * reach) * (red_away * reach)
            red = bright + (colours[y, x, 0] + by_colour * red_away / near) * (np.float32(1) / OF_RED)
            near = np.float32(1) + (blue_away * reach) * (blue_away * reach)
            blue = bright + (colours[y, x, 1] + by_colour * blue_away / near) * (np.float32(1) / OF_BLUE)
            out[y, x, 0] = red
            out[y, x, 1] = (bright - LUMA[0] * red - LUMA[2] * blue) * (np.float32(1) / LUMA[1])
            out[y, x, 2] = blue
    return out


@numba.njit(inline="always")  # type: ignore[untyped-decorator]
def _thrice(row: F32, out: F32) -> None:
    """Each value of a row for each of three colours."""
    for x in range(len(row)):
        out[3 * x] = row[x]
        out[3 * x + 1] = row[x]
        out[3 * x + 2] = row[x]


@numba.njit(inline="always")  # type: ignore[untyped-decorator]
def _worn(row: F32, low: np.float32, at: int, by: F32) -> np.float32:
    worn: np.float32 = row[at] + by[at] * (min(low, row[at]) - row[at])
    return worn


@numba.njit(inline="always")  # type: ignore[untyped-decorator]
def _thin_row(above: F32, row: F32, below: F32, by: F32, out: F32) -> None:
    """A row of three colours, each worn down by so much to the least of itself and its four neighbours."""
    length, three, six = len(row), np.uint64(3), np.uint64(6)
    for i in range(np.uint64(length - 6)):
        at = i + three
        out[at] = _worn(row, min(min(above[at], below[at]), min(row[i], row[i + six])), at, by)
    for c in range(3):
        out[c] = _worn(row, min(min(above[c], below[c]), row[c + 3]), c, by)
        last = length - 3 + c
        out[last] = _worn(row, min(min(above[last], below[last]), row[last - 3]), last, by)


@kernel  # type: ignore[untyped-decorator]
def thinner(rgb: F32, height: F32, share: F32, amount: float, least: float, span: float) -> F32:
    """A picture whose stars (``height`` over the sky, from ``least`` on, whole over ``span`` more) are worn
    down to the least of a pixel and its four neighbours, by an amount and a share (h, w)."""
    out = np.empty_like(rgb)
    rows, wide = height.shape
    flat, to = rgb.reshape(rows, 3 * wide), out.reshape(rows, 3 * wide)
    first, narrow, most = np.float32(least), np.float32(1 / span), np.float32(amount)
    for y in numba.prange(rows):
        by, of_three = np.empty(wide, np.float32), np.empty(3 * wide, np.float32)
        tall, shares = height[y], share[y]
        for x in range(wide):
            sure = min(max((tall[x] - first) * narrow, np.float32(0)), np.float32(1))
            by[x] = sure * shares[x] * most
        _thrice(by, of_three)
        _thin_row(flat[max(y - 1, 0)], flat[y], flat[min(y + 1, rows - 1)], of_three, to[y])
    return out


@kernel  # type: ignore[untyped-decorator]
def over_crosses(light: F32) -> F32:
    """By how much a light (h, w) stands over its opening by a cross of three pixels: what is narrower than
    that."""
    rows, wide = light.shape
    low, out = np.empty_like(light), np.empty_like(light)
    for y in numba.prange(rows):
        row, above, below, to = light[y], light[max(y - 1, 0)], light[min(y + 1, rows - 1)], low[y]
        for x in range(wide):
            to[x] = min(min(row[max(x - 1, 0)], row[min(x + 1, wide - 1)]), row[x])
        for x in range(wide):
            to[x] = min(to[x], min(above[x], below[x]))
    for y in numba.prange(rows):
        row, above, below, to = low[y], low[max(y - 1, 0)], low[min(y + 1, rows - 1)], out[y]
        for x in range(wide):
            to[x] = max(max(row[max(x - 1, 0)], row[min(x + 1, wide - 1)]), row[x])
        for x in range(wide):
            to[x] = light[y, x] - max(to[x], max(above[x], below[x]))
    return out


@numba.njit(cache=True, nogil=True)  # type: ignore[untyped-decorator]
def _taps(many: int, larger: float, middle: float) -> tuple[npt.NDArray[np.int32], F32]:
    """For places along a side, ``larger`` times as far from the middle: the four samples about each (the
    side's ends stand for what lies beyond), and how far each lies beyond the second."""
    at, over = np.empty((4, many), np.int32), np.empty(many, np.float32)
    for i in range(many):
        place = middle + larger * (i - middle)
        first = int(np.floor(place))
        over[i] = place - first
        for k in range(4):
            at[k, i] = min(max(first - 1 + k, 0), many - 1)
    return at, over


@numba.njit(cache=True, fastmath=True, nogil=True)  # type: ignore[untyped-decorator]
def _between_four(s0: F32, s1: F32, s2: F32, s3: F32, over: F32, out: F32) -> None:
    """Cubic convolution of four rows, each place so far beyond the second; one place says it for all."""
    for i in range(len(out)):
        t = over[i] if len(over) > 1 else over[0]
        one = SLOPE * (s0[i] - s2[i])
        three = SLOPE * (s0[i] - s3[i]) + (SLOPE + np.float32(2)) * (s1[i] - s2[i])
        out[i] = s1[i] + t * (one + t * ((s2[i] - s1[i] - one - three) + t * three))


@numba.njit(cache=True, fastmath=True, nogil=True)  # type: ignore[untyped-decorator]
def _one_of_three(three: F32, c: int, line: F32) -> None:
    """A colour of a row."""
    first = np.uint64(c)
    for x in range(np.uint64(len(line))):
        line[x] = three[np.uint64(3) * x + first]


@numba.njit(cache=True, fastmath=True, nogil=True)  # type: ignore[untyped-decorator]
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
    times as far from a middle (x, y px)."""
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
        to[y] = flat[y]
        for c in range(3):
            if larger[c] != 1:
                r = rows[c, :, y]
                _between_four(flat[r[0]], flat[r[1]], flat[r[2]], flat[r[3]], down[c, y : y + 1], three)
                _one_of_three(three, c, line[0])
                _shifted(line[0], columns[c], across[c], line[1])
                _into_three(line[1], c, to[y])
    return out


def warm() -> None:
    """Compile every loop, so that the first change is as fast as the next."""
    rgb, share = np.full((4, 4, 3), 0.2, np.float32), np.full((4, 4), 0.5, np.float32)
    luma, colours = luma_and_colours(rgb)
    locally(rgb, share, colours)
    calmer(luma, colours, colours, luma, share, np.zeros(2), np.zeros(2), np.ones(2))
    thinner(rgb, share, share, 0.5, 0.02, 0.1)
    over_crosses(share)
    drawn_in(rgb, np.array([1.001, 1.0, 0.999]), np.array([2.0, 2.0]))
