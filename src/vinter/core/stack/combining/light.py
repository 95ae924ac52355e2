"""Samples of a tile brought to the reference's light."""

import numba
import numpy as np
import numpy.typing as npt

from vinter.core.frames.mosaic import PEDESTAL

F32 = npt.NDArray[np.float32]
U16 = npt.NDArray[np.uint16]


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
