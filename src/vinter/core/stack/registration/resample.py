"""Samples of a frame where another frame's pixels fall: cubic interpolation through a homography, a row at a
time.

A row of the result is a straight line on the frame. Where the two are nearly level, the samples are first
interpolated downwards onto that line at every column, then along it: eight samples for each instead of
sixteen, of neighbours in memory.
"""

import math

import numba
import numpy as np
import numpy.typing as npt

F32 = npt.NDArray[np.float32]
F64 = npt.NDArray[np.float64]
I64 = npt.NDArray[np.int64]
U16 = npt.NDArray[np.uint16]
CUBIC = np.float32(
    -0.6
)  # slope of the kernel one pixel away: of -0.5 to -0.75 the one that keeps width and place of small stars
RIM = 4  # px that a line is carried on beyond the frame
STRETCH = 64  # px along a line, over which where they fall is told by a parabola
STEEPEST = 0.12  # slope of the lines, and change of scale, beyond which every place takes its own sixteen


@numba.njit(cache=True, fastmath={"contract", "nsz"})  # type: ignore[untyped-decorator]
def _cubic(t: np.float32, s0: np.float32, s1: np.float32, s2: np.float32, s3: np.float32) -> np.float32:
    """The value that lies t (0 to 1) beyond the second of four samples."""
    one = CUBIC * (s0 - s2)
    three = CUBIC * (s0 - s3) + (CUBIC + np.float32(2)) * (s1 - s2)
    return s1 + t * (one + t * ((s2 - s1 - one - three) + t * three))


@numba.njit(cache=True, fastmath={"contract", "nsz"})  # type: ignore[untyped-decorator]
def _downwards(
    samples: U16,
    begins: I64,
    count: int,
    thirds: F32,
    over: float,
    slope: float,
    line: F32,
    into: int,
) -> None:
    """Interpolate ``count`` samples between four rows, given by where they begin, into the line; the first
    lies ``over`` beyond the second row, each further place ``slope`` more."""
    start, more = np.float32(over), np.float32(slope)
    b0, b1, b2, b3, to = (
        np.uint64(begins[0]),
        np.uint64(begins[1]),
        np.uint64(begins[2]),
        np.uint64(begins[3]),
        np.uint64(into),
    )
    for i in range(np.uint64(count)):
        line[to + i] = _cubic(
            start + more * thirds[i],
            np.float32(samples[b0 + i]),
            np.float32(samples[b1 + i]),
            np.float32(samples[b2 + i]),
            np.float32(samples[b3 + i]),
        )


@numba.njit(cache=True, fastmath={"contract", "nsz"})  # type: ignore[untyped-decorator]
def _along(
    line: F32,
    first: int,
    count: int,
    thirds: F32,
    over: float,
    slope: float,
    bend: float,
    out: U16,
    into: int,
) -> None:
    """Interpolate ``count`` samples along a line of three colours; ``first`` is the leftmost of the four of
    the first place, which lies ``over`` beyond the second, a place k further ``slope`` k + ``bend`` k k more.
    None becomes 0."""
    start, more, most = np.float32(over), np.float32(slope), np.float32(bend)
    half, low, high = np.float32(0.5), np.float32(1), np.float32(65535)
    b0, b1, b2, b3, to = (
        np.uint64(first),
        np.uint64(first + 3),
        np.uint64(first + 6),
        np.uint64(first + 9),
        np.uint64(into),
    )
    for i in range(np.uint64(count)):
        t = start + thirds[i] * (more + most * thirds[i])
        v = _cubic(t, line[b0 + i], line[b1 + i], line[b2 + i], line[b3 + i])
        out[to + i] = np.uint16(np.int32(min(max(v + half, low), high)))


@numba.njit(cache=True)  # type: ignore[untyped-decorator]
def _pixel(line: F32, at: int, out: U16, to: int) -> None:
    """One pixel of a line as it is."""
    for k in range(3):
        out[to + k] = np.uint16(np.int32(min(max(line[at + k] + 0.5, 1.0), 65535.0)))


@numba.njit(cache=True)  # type: ignore[untyped-decorator]
def _line_drawn(
    samples: U16,
    tall: int,
    wide: int,
    first: int,
    last: int,
    level: float,
    slope: float,
    thirds: F32,
    line: F32,
) -> None:
    """A straight line over a frame, its columns ``first`` to before ``last``: at ``first`` it lies at the row
    ``level``, and ``slope`` lower at each further one."""
    begins = np.empty(4, np.int64)
    at = first
    while at < last:
        here = level + (at - first) * slope
        row = math.floor(here)
        run = float(last - at)
        if slope > 0:
            run = math.ceil((row + 1 - here) / slope)
        elif slope < 0:
            run = math.floor((here - row) / -slope) + 1
        to = at + int(min(max(run, 1.0), float(last - at)))
        for j in range(4):
            begins[j] = 3 * (min(max(row - 1 + j, 0), tall - 1) * wide + at)
        _downwards(samples, begins, 3 * (to - at), thirds, here - row, slope, line, 3 * (at + RIM))
        at = to
    for x in range(RIM):
        for k in range(3):
            if first == 0:
                line[3 * x + k] = line[3 * RIM + k]
            if last == wide:
                line[3 * (wide + RIM + x) + k] = line[3 * (wide + RIM - 1) + k]


@numba.njit(cache=True, error_model="numpy")  # type: ignore[untyped-decorator]
def _by_lines(rgb: U16, h: F64, out: U16) -> None:
    """``resample`` for nearly level lines."""
    tall, wide, _ = rgb.shape
    height, width, _ = out.shape
    samples, flat = rgb.reshape(-1), out.reshape(height, 3 * width)
    thirds = np.empty(3 * max(wide, width), np.float32)
    for i in range(len(thirds)):
        thirds[i] = i // 3
    line = np.empty(3 * (wide + 2 * RIM), np.float32)
    a, c = h[0, 0], h[2, 0]
    for y in range(height):
        x0, y0, w0 = h[0, 1] * y + h[0, 2], h[1, 1] * y + h[1, 2], h[2, 1] * y + h[2, 2]
        start, end, top = x0 / w0, (a * (width - 1) + x0) / (c * (width - 1) + w0), y0 / w0
        slope = ((h[1, 0] * (width - 1) + y0) / (c * (width - 1) + w0) - top) / (end - start)
        first, last = min(max(int(start) - 2, 0), wide - 1), min(max(int(end) + 4, 1), wide)
        _line_drawn(samples, tall, wide, first, last, top + (first - start) * slope, slope, thirds, line)
        inside, beyond = 0, width  # beyond the rim all samples are the edge's
        while inside < width and (a * inside + x0) / (c * inside + w0) < -2:
            inside += 1
        while beyond > inside and (a * (beyond - 1) + x0) / (c * (beyond - 1) + w0) > wide + 1:
            beyond -= 1
        for x in range(inside):
            _pixel(line, 3 * RIM, flat[y], 3 * x)
        for x in range(beyond, width):
            _pixel(line, 3 * (wide - 1 + RIM), flat[y], 3 * x)
        for x in range(inside, beyond, STRETCH):
            count = min(STRETCH, beyond - x)
            # where its places fall, by a parabola through three of them
            here = (a * x + x0) / (c * x + w0)
            near = (a * (x + STRETCH / 2) + x0) / (c * (x + STRETCH / 2) + w0) - here
            far = (a * (x + STRETCH) + x0) / (c * (x + STRETCH) + w0) - here
            bend = 2 * (far - 2 * near) / (STRETCH * STRETCH)
            pace = far / STRETCH - bend * STRETCH
            at = 0
            while at < count:
                place = here + at * (pace + bend * at)
                to, column = at + 1, math.floor(place) - at
                last_place = here + (count - 1) * (pace + bend * (count - 1))
                if math.floor(last_place) - (count - 1) == column:
                    to = count
                while to < count and math.floor(here + to * (pace + bend * to)) - to == column:
                    to += 1
                _along(
                    line,
                    3 * (at + column - 1 + RIM),
                    3 * (to - at),
                    thirds,
                    place - (at + column),
                    pace - 1 + 2 * bend * at,
                    bend,
                    flat[y],
                    3 * (x + at),
                )
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
