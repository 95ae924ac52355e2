"""The inner loops of the moves, compiled: one pass over the pixels each, on as many cores as there are."""

import numba
import numpy as np
import numpy.typing as npt

F32 = npt.NDArray[np.float32]
U8 = npt.NDArray[np.uint8]
Array = npt.NDArray[np.float64]
BAND = 32  # rows that are worked together: what lies between the steps stays in the processor's own memory
kernel = numba.njit(cache=True, parallel=True, fastmath=True, nogil=True, error_model="numpy")
row_kernel = numba.njit(cache=True, fastmath=True, nogil=True, error_model="numpy")


@numba.njit(cache=True, nogil=True)  # type: ignore[untyped-decorator]
def places(many: int, few: int) -> tuple[npt.NDArray[np.int32], F32]:
    """Where ``many`` pixels lie on a map of ``few``: the place before each, and how far on it is."""
    first, along = np.empty(many, np.int32), np.empty(many, np.float32)
    for i in range(many):
        place = min(max((i + 0.5) * few / many - 0.5, 0.0), few - 1.0)
        first[i] = min(int(place), max(few - 2, 0))
        along[i] = np.float32(place - first[i])
    return first, along


@row_kernel  # type: ignore[untyped-decorator]
def widened(small: F32, wide: int) -> F32:
    """The planes of a small map (rows, columns, planes), each row spread over ``wide`` places: (planes, rows,
    wide)."""
    rows, columns, planes = small.shape
    left, along = places(wide, columns)
    out, line = np.empty((planes, rows, wide), np.float32), np.empty(columns + 1, np.float32)
    for k in range(planes):
        for y in range(rows):
            for i in range(columns):
                line[i] = small[y, i, k]
            line[columns] = line[columns - 1]
            to = out[k, y]
            for x in range(wide):
                at = np.uint64(left[x])
                to[x] = line[at] + along[x] * (line[at + np.uint64(1)] - line[at])
    return out


@numba.njit(inline="always")  # type: ignore[untyped-decorator]
def put(row: F32, out: F32) -> None:
    """A row's values into another; assigning to a slice costs ten times as much."""
    for x in range(len(out)):
        out[x] = row[x]


@numba.njit(inline="always")  # type: ignore[untyped-decorator]
def inside(place: int, many: int) -> int:
    """A place along a side of n, turned back at its ends."""
    place = abs(place)
    return min(max(2 * (many - 1) - place if place >= many else place, 0), many - 1)


@numba.njit(inline="always")  # type: ignore[untyped-decorator]
def thrice(row: F32, out: F32) -> None:
    """Each value of a row for each of three colours."""
    for x in range(len(row)):
        out[3 * x] = row[x]
        out[3 * x + 1] = row[x]
        out[3 * x + 2] = row[x]


@numba.njit(inline="always")  # type: ignore[untyped-decorator]
def apart(three: F32, colours: F32) -> None:
    """A row of pixels by colours (3, wide): the compiler takes many places of a colour at once."""
    red, green, blue = colours[0], colours[1], colours[2]
    for x in range(len(red)):
        red[x], green[x], blue[x] = three[3 * x], three[3 * x + 1], three[3 * x + 2]


@numba.njit(inline="always")  # type: ignore[untyped-decorator]
def joined(colours: F32, three: F32) -> None:
    """Colours (3, wide) as a row of pixels."""
    red, green, blue = colours[0], colours[1], colours[2]
    for x in range(len(red)):
        three[3 * x], three[3 * x + 1], three[3 * x + 2] = red[x], green[x], blue[x]


@numba.njit(inline="always")  # type: ignore[untyped-decorator]
def row_between(rows: F32, above: int, down: np.float32, out: F32) -> None:
    """What lies so far beyond a row of a widened map on the way to the next."""
    first, second = rows[above], rows[min(above + 1, len(rows) - 1)]
    for x in range(len(out)):
        out[x] = first[x] + down * (second[x] - first[x])


@kernel  # type: ignore[untyped-decorator]
def shrunk(rgb: F32, step: int) -> F32:
    """Means of blocks of about ``step`` px a side of a picture (h, w, 3); there is at least one."""
    height, wide = rgb.shape[:2]
    rows, columns = max(height // step, 1), max(wide // step, 1)
    flat, out = rgb.reshape(height, 3 * wide), np.empty((rows, columns, 3), np.float32)
    bounds = np.array([j * wide // columns for j in range(columns + 1)])
    for i in numba.prange(rows):
        top, end = i * height // rows, (i + 1) * height // rows
        line, means = np.empty(3 * wide, np.float32), out[i]
        put(flat[top], line)
        for y in range(top + 1, end):
            row = flat[y]
            for x in range(3 * wide):
                line[x] += row[x]
        for j in range(columns):
            left, right = bounds[j], bounds[j + 1]
            red, green, blue = np.float32(0), np.float32(0), np.float32(0)
            for x in range(left, right):
                red += line[3 * x]
                green += line[3 * x + 1]
                blue += line[3 * x + 2]
            one = np.float32(1) / np.float32((end - top) * (right - left))
            means[j, 0], means[j, 1], means[j, 2] = red * one, green * one, blue * one
    return out


@kernel  # type: ignore[untyped-decorator]
def scaled(rgb: F32, gain: F32) -> F32:
    """A picture (h, w, 3) times a gain (h, w)."""
    out = np.empty_like(rgb)
    for y in numba.prange(rgb.shape[0]):
        for x in range(rgb.shape[1]):
            for c in range(3):
                out[y, x, c] = rgb[y, x, c] * gain[y, x]
    return out


@row_kernel  # type: ignore[untyped-decorator]
def _warmed(colours: F32, share: F32, warms: F32) -> None:
    """A row with more red and less blue by factors of sky and ground, in place."""
    red, blue = colours[0], colours[2]
    for x in range(len(share)):
        warm = warms[1] + share[x] * (warms[0] - warms[1])
        red[x], blue[x] = red[x] * warm, blue[x] / warm


@row_kernel  # type: ignore[untyped-decorator]
def _by_hue(colours: F32, share: F32, sky: F32, factor: F32) -> None:
    """A row's saturation, changed where the sky is red, yellow or blue."""
    red, green, blue = colours[0], colours[1], colours[2]
    none, one = np.float32(0), np.float32(1)
    for x in range(len(share)):
        s, r, g, b = share[x], red[x], green[x], blue[x]
        reddish = min(max((r - np.float32(1.08) * max(g, b)) * np.float32(8), none), one)
        yellowish = min(max((min(r, g) - np.float32(1.04) * b) * np.float32(10), none), one)
        bluish = min(max((b - np.float32(1.04) * max(r, g)) * np.float32(10), none), one)
        factor[x] *= (
            (one + sky[3] * reddish * s) * (one + sky[4] * yellowish * s) * (one + sky[5] * bluish * s)
        )


@row_kernel  # type: ignore[untyped-decorator]
def _uncast(colours: F32, share: F32, sky: F32) -> None:
    """A row with the sky's green (or purple) taken out, in place: from green where green leads, from red and
    blue where they do; the light stays."""
    red, green, blue = colours[0], colours[1], colours[2]
    for x in range(len(share)):
        over = green[x] - np.float32(0.5) * (red[x] + blue[x])
        shift = (max(over, np.float32(0)) * sky[1] + min(over, np.float32(0)) * sky[2]) * share[x]
        held = np.float32(0.7152) * shift
        red[x], green[x], blue[x] = red[x] + held, green[x] - np.float32(0.2848) * shift, blue[x] + held


@row_kernel  # type: ignore[untyped-decorator]
def _saturated(colours: F32, factor: F32) -> None:
    """A row with a multiple of its colour, in place; of the same light."""
    red, green, blue = colours[0], colours[1], colours[2]
    for x in range(len(factor)):
        r, g, b = red[x], green[x], blue[x]
        grey = np.float32(0.2126) * r + np.float32(0.7152) * g + np.float32(0.0722) * b
        red[x], green[x], blue[x] = (
            grey + (r - grey) * factor[x],
            grey + (g - grey) * factor[x],
            grey + (b - grey) * factor[x],
        )


@kernel  # type: ignore[untyped-decorator]
def toned(rgb: F32, share: F32, sky: Array, ground: float, warmth: Array) -> F32:
    """Colours (encoded) of sky and ground: saturations, the sky's green and purple taken out, its red, yellow
    and blue (``sky``: saturation, green, purple, red, yellow, blue; shares), and factors on red (2,)."""
    own, low, warms = np.asarray(sky, np.float32), np.float32(ground), np.asarray(warmth, np.float32)
    hues = own[3] != 0 or own[4] != 0 or own[5] != 0 or warms[0] != 1 or warms[1] != 1
    out = np.empty_like(rgb)
    rows, wide = share.shape
    flat, to = rgb.reshape(rows, 3 * wide), out.reshape(rows, 3 * wide)
    for y in numba.prange(rows):
        colours, factor, shares = np.empty((3, wide), np.float32), np.empty(wide, np.float32), share[y]
        apart(flat[y], colours)
        for x in range(wide):
            factor[x] = np.float32(1) + low + shares[x] * (own[0] - low)
        if hues:
            _warmed(colours, shares, warms)
        _uncast(colours, shares, own)
        if hues:
            _by_hue(colours, shares, own, factor)
        _saturated(colours, factor)
        joined(colours, to[y])
    return out


@kernel  # type: ignore[untyped-decorator]
def coloured(rgb: F32, more: F32) -> F32:
    """A picture with so much more colour (h, w), of the same light."""
    out = np.empty_like(rgb)
    rows, wide = more.shape
    flat, to = rgb.reshape(rows, 3 * wide), out.reshape(rows, 3 * wide)
    for y in numba.prange(rows):
        colours, factor = np.empty((3, wide), np.float32), np.empty(wide, np.float32)
        apart(flat[y], colours)
        for x in range(wide):
            factor[x] = np.float32(1) + more[y, x]
        _saturated(colours, factor)
        joined(colours, to[y])
    return out


@kernel  # type: ignore[untyped-decorator]
def light_of(rgb: F32, most: float) -> F32:
    """Light (h, w) of an encoded picture, up to ``most``."""
    out = np.empty(rgb.shape[:2], np.float32)
    for y in numba.prange(rgb.shape[0]):
        for x in range(rgb.shape[1]):
            out[y, x] = min(light_at(rgb[y, x, 0], rgb[y, x, 1], rgb[y, x, 2]), np.float32(most))
    return out


@numba.njit(inline="always")  # type: ignore[untyped-decorator]
def light_at(red: np.float32, green: np.float32, blue: np.float32) -> np.float32:
    """Light of an encoded colour."""
    return np.float32(0.3) * red + np.float32(0.59) * green + np.float32(0.11) * blue


@kernel  # type: ignore[untyped-decorator]
def bytes_of(rgb: F32) -> U8:
    """An encoded picture in levels of 255, rounded and cut."""
    out, height, along = np.empty(rgb.shape, np.uint8), rgb.shape[0], 3 * rgb.shape[1]
    flat, to = rgb.reshape(height, along), out.reshape(height, along)
    for y in numba.prange(height):
        row, bytes_ = flat[y], to[y]
        for x in range(along):
            level = min(max(row[x] * np.float32(255) + np.float32(0.5), np.float32(0)), np.float32(255))
            bytes_[x] = np.uint8(np.int32(level))  # the compiler converts many at a time by that way
    return out


@kernel  # type: ignore[untyped-decorator]
def between(first: F32, second: F32, share: F32) -> F32:
    """Two pictures laid together by the share (h, w) of the first."""
    out = np.empty_like(first)
    rows, wide = share.shape
    over, under = first.reshape(rows, 3 * wide), second.reshape(rows, 3 * wide)
    to = out.reshape(rows, 3 * wide)
    for y in numba.prange(rows):
        part = np.empty(3 * wide, np.float32)
        thrice(share[y], part)
        one, other, row = over[y], under[y], to[y]
        for x in range(3 * wide):
            row[x] = other[x] + part[x] * (one[x] - other[x])
    return out


@numba.njit(cache=True, nogil=True)  # type: ignore[untyped-decorator]
def counted(picture: U8, share: F32, bins: int) -> npt.NDArray[np.int64]:
    """How many of every fourth pixel of a picture (h, w, 3) have which light (2, bins), in the ground and in
    the sky."""
    out = np.zeros((2, bins), np.int64)
    for y in range(0, picture.shape[0], 2):
        for x in range(0, picture.shape[1], 2):
            r, g, b = int(picture[y, x, 0]), int(picture[y, x, 1]), int(picture[y, x, 2])
            grey = (4899 * r + 9617 * g + 1868 * b + 8192) >> 14
            out[int(share[y, x] > 0.5), grey * bins // 256] += 1
    return out


@numba.njit(cache=True, nogil=True)  # type: ignore[untyped-decorator]
def cut(picture: U8, white: int, black: int) -> tuple[int, int, int]:
    """Of every fourth pixel of a picture (h, w, 3): how many are white, how many black, and how many there
    are."""
    whites, blacks, many = 0, 0, 0
    for y in range(0, picture.shape[0], 2):
        for x in range(0, picture.shape[1], 2):
            top = max(max(picture[y, x, 0], picture[y, x, 1]), picture[y, x, 2])
            whites += top >= white
            blacks += top <= black
            many += 1
    return whites, blacks, many


def warm() -> None:
    """Compile every loop, so that the first change is as fast as the next."""
    rgb, share = np.full((4, 4, 3), 0.2, np.float32), np.full((4, 4), 0.5, np.float32)
    scaled(rgb, share)
    toned(rgb, share, np.zeros(6), 0.0, np.ones(2))
    toned(rgb, share, np.ones(6), 0.0, np.ones(2))
    coloured(rgb, share)
    light_of(rgb, 1.0)
    shrunk(rgb, 2)
    bytes_of(rgb)
    between(rgb, rgb, share)
    picture = np.zeros((4, 4, 3), np.uint8)
    counted(picture, share, 128)
    cut(picture, 254, 2)
