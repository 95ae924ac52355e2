"""Samples of a frame where another frame's pixels fall: cubic interpolation through a homography, a row at a
time.

A row of the result is a straight line on the frame. Where the two are nearly level, the samples are first
interpolated downwards onto that line at every column, then along it: eight samples for each instead of
sixteen, of neighbours in memory.
"""

import numba
import numpy as np
import numpy.typing as npt

F32 = npt.NDArray[np.float32]
F64 = npt.NDArray[np.float64]
I32 = npt.NDArray[np.int32]
U16 = npt.NDArray[np.uint16]
CUBIC = np.float32(
    -0.6
)  # slope of the kernel one pixel away: of -0.5 to -0.75 the one that keeps width and place of small stars
RIM = 4  # px that a line is carried on beyond the frame
STEEPEST = 0.12  # slope of the lines, and change of scale, beyond which every place takes its own sixteen


@numba.njit(cache=True)  # type: ignore[untyped-decorator]
def _split(places: F64, count: int, step: int, whole: I32, rest: F32) -> int:
    """Whole parts of places beyond the rim, ``step`` a pixel taken off; and, thrice each, how far every place
    lies beyond the first one's whole part, which is returned."""
    base = int(places[0] + RIM)
    for x in range(count):
        at = places[x] + RIM
        whole[x] = np.int32(at) - step * x
        over = np.float32(at - step * x - base)
        rest[3 * x] = over
        rest[3 * x + 1] = over
        rest[3 * x + 2] = over
    return base


@numba.njit(cache=True, fastmath={"contract", "nsz"})  # type: ignore[untyped-decorator]
def _cubic(t: np.float32, s0: np.float32, s1: np.float32, s2: np.float32, s3: np.float32) -> np.float32:
    """The value that lies t (0 to 1) beyond the second of four samples."""
    one = CUBIC * (s0 - s2)
    three = CUBIC * (s0 - s3) + (CUBIC + np.float32(2)) * (s1 - s2)
    return s1 + t * (one + t * ((s2 - s1 - one - three) + t * three))


@numba.njit(cache=True, fastmath={"contract", "nsz"})  # type: ignore[untyped-decorator]
def _downwards(
    samples: U16,
    r0: int,
    r1: int,
    r2: int,
    r3: int,
    over: F32,
    less: int,
    start: int,
    end: int,
    line: F32,
    shift: int,
) -> None:
    """Interpolate between four rows, given by where they begin, from start to end into the line; ``over`` is
    how far each place lies beyond the second row, and ``less`` more than that."""
    whole = np.float32(less)
    b0, b1, b2, b3 = (
        np.uint64(r0 + start),
        np.uint64(r1 + start),
        np.uint64(r2 + start),
        np.uint64(r3 + start),
    )
    first, into = np.uint64(start), np.uint64(start + shift)
    for i in range(np.uint64(end - start)):
        line[into + i] = _cubic(
            over[first + i] - whole,
            np.float32(samples[b0 + i]),
            np.float32(samples[b1 + i]),
            np.float32(samples[b2 + i]),
            np.float32(samples[b3 + i]),
        )


@numba.njit(cache=True, fastmath={"contract", "nsz"})  # type: ignore[untyped-decorator]
def _along(line: F32, first: int, over: F32, less: int, start: int, end: int, out: U16) -> None:
    """Interpolate along a line of three colours; ``first`` is the leftmost of the four samples of ``start``,
    ``over`` and ``less`` as above. None becomes 0."""
    whole, half, low, high = np.float32(less), np.float32(0.5), np.float32(1), np.float32(65535)
    b0, b1, b2, b3, from_ = (
        np.uint64(first),
        np.uint64(first + 3),
        np.uint64(first + 6),
        np.uint64(first + 9),
        np.uint64(start),
    )
    for i in range(np.uint64(end - start)):
        v = _cubic(over[from_ + i] - whole, line[b0 + i], line[b1 + i], line[b2 + i], line[b3 + i])
        out[from_ + i] = np.uint16(np.int32(min(max(v + half, low), high)))


@numba.njit(cache=True)  # type: ignore[untyped-decorator]
def _run(whole: I32, start: int, count: int) -> int:
    """Where a run of equal numbers ends; they go one way (where they waver by a rounding, so little that it
    does no harm)."""
    here, to = whole[start], start + 1
    while to + 16 < count and whole[to + 15] == here:
        to += 16
    while to < count and whole[to] == here:
        to += 1
    return to


@numba.njit(cache=True, error_model="numpy")  # type: ignore[untyped-decorator]
def _by_lines(rgb: U16, h: F64, out: U16) -> None:
    """``resample`` for nearly level lines."""
    tall, wide, _ = rgb.shape
    height, width, _ = out.shape
    samples, flat = rgb.reshape(-1), out.reshape(height, 3 * width)
    right, level = np.empty(width), np.empty(wide)
    column, row = np.empty(width, np.int32), np.empty(wide, np.int32)
    across, down = np.empty(3 * width, np.float32), np.empty(3 * wide, np.float32)
    begins = np.empty(4, np.int64)
    line = np.empty(3 * (wide + 2 * RIM), np.float32)
    for y in range(height):
        x0, y0, w0 = h[0, 1] * y + h[0, 2], h[1, 1] * y + h[1, 2], h[2, 1] * y + h[2, 2]
        a, c = h[0, 0], h[2, 0]
        for x in range(width):
            right[x] = (a * x + x0) / (c * x + w0)
        end, start = right[-1], right[0]
        top = y0 / w0
        slope = ((h[1, 0] * (width - 1) + y0) / (c * (width - 1) + w0) - top) / (end - start)
        if start < -2 or end > wide + 1:
            for x in range(width):
                right[x] = min(max(right[x], -2.0), wide + 1.0)
        left = _split(right, width, 1, column, across)
        first, last = min(max(int(start) - 2, 0), wide - 1), min(max(int(end) + 4, 1), wide)
        for x in range(last - first):
            level[x] = min(max(top + (first + x - start) * slope, -2.0), tall + 1.0)
        upper = _split(level, last - first, 0, row, down)
        at = 0
        while at < last - first:
            to = _run(row, at, last - first)
            for j in range(4):
                begins[j] = 3 * (min(max(row[at] - RIM - 1 + j, 0), tall - 1) * wide + first)
            _downwards(
                samples,
                begins[0],
                begins[1],
                begins[2],
                begins[3],
                down,
                row[at] - upper,
                3 * at,
                3 * to,
                line,
                3 * (first + RIM),
            )
            at = to
        for x in range(RIM):
            for k in range(3):
                if first == 0:
                    line[3 * x + k] = line[3 * RIM + k]
                if last == wide:
                    line[3 * (wide + RIM + x) + k] = line[3 * (wide + RIM - 1) + k]
        at = 0
        while at < width:
            to = _run(column, at, width)
            _along(line, 3 * (at + column[at] - 1), across, column[at] - left, 3 * at, 3 * to, flat[y])
            at = to


@numba.njit(cache=True, error_model="numpy", fastmath={"contract", "nsz"})  # type: ignore[untyped-decorator]
def _by_places(rgb: U16, h: F64, out: U16) -> None:
    """``resample`` for any lines: sixteen samples for every place."""
    tall, wide, colours = rgb.shape
    height, width, _ = out.shape
    columns, rows, lines = np.empty(4, np.int64), np.empty(4, np.int64), np.empty(4, np.float32)
    for y in range(height):
        for x in range(width):
            w = h[2, 0] * x + h[2, 1] * y + h[2, 2]
            u = min(max((h[0, 0] * x + h[0, 1] * y + h[0, 2]) / w, -2.0), wide + 1.0) + RIM
            v = min(max((h[1, 0] * x + h[1, 1] * y + h[1, 2]) / w, -2.0), tall + 1.0) + RIM
            across, down = np.float32(u - int(u)), np.float32(v - int(v))
            for k in range(4):
                columns[k], rows[k] = (
                    min(max(int(u) - RIM - 1 + k, 0), wide - 1),
                    min(max(int(v) - RIM - 1 + k, 0), tall - 1),
                )
            for c in range(colours):
                for j in range(4):
                    lines[j] = _cubic(
                        across,
                        np.float32(rgb[rows[j], columns[0], c]),
                        np.float32(rgb[rows[j], columns[1], c]),
                        np.float32(rgb[rows[j], columns[2], c]),
                        np.float32(rgb[rows[j], columns[3], c]),
                    )
                value = _cubic(down, lines[0], lines[1], lines[2], lines[3]) + np.float32(0.5)
                out[y, x, c] = np.uint16(np.int32(min(max(value, np.float32(1)), np.float32(65535))))


def resample(rgb: U16, to_frame: F64, out: U16) -> None:
    """Fill ``out`` (h, w, 3) with the samples of ``rgb`` (h, w, 3) where the homography (3, 3) from its
    pixels to the frame's puts them. Places off the frame take its edge; none becomes 0.

    The kernel is a cubic convolution (Keys 1981); it draws a star of 1.5 px deviation to 1 % of its peak and
    0.01 px.
    """
    height, width, _ = out.shape
    h = np.asarray(to_frame / to_frame[2, 2], np.float64)
    corners = np.array([[0, 0, 1], [width - 1, 0, 1], [0, height - 1, 1], [width - 1, height - 1, 1]], float)
    alike = abs(h[0, 0] - 1) < STEEPEST and (np.abs(corners @ h[2] - 1) < STEEPEST).all()
    level = alike and abs(h[1, 0]) < STEEPEST and width > 1
    (_by_lines if level else _by_places)(np.ascontiguousarray(rgb), h, out)
