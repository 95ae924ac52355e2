"""The simulated sensor: trailed stars and streaks onto a Bayer mosaic, then shot noise, read noise and
digits."""

import math

import numba
import numpy as np
import numpy.typing as npt

F32 = npt.NDArray[np.float32]
MOST_REACH = 512  # px of a star's side
LEAST_WING, WING_REACH = 0.15, 400.0  # electrons at which wings are cut off, and px at the most
REACH = 3.6  # standard deviations at which a star image is cut off


@numba.njit(cache=True)  # type: ignore[untyped-decorator]
def _gaussian(out: npt.NDArray[np.float64], many: int, first: float, sigma: float, peak: float) -> None:
    """Values of a Gaussian at ``many`` places, one apart from ``first`` on: each from the one before."""
    narrow = 1 / (2 * sigma * sigma)
    value, factor = peak * math.exp(-first * first * narrow), math.exp(-(2 * first + 1) * narrow)
    turn = math.exp(-2 * narrow)
    for k in range(many):
        out[k] = value
        value *= factor
        factor *= turn


@numba.njit(cache=True)  # type: ignore[untyped-decorator]
def draw_trails(
    mosaic: F32,
    x0: npt.NDArray[np.float64],
    y0: npt.NDArray[np.float64],
    x1: npt.NDArray[np.float64],
    y1: npt.NDArray[np.float64],
    flux: npt.NDArray[np.float64],
    sigma: npt.NDArray[np.float64],
    apart: npt.NDArray[np.float64] | None = None,
) -> None:
    """Add straight trails of Gaussian images to a mosaic, in place; flux (n, 3) in electrons by colour.

    Colours follow an RGGB mosaic: red at even rows and columns, blue at odd ones. ``apart`` (n, 2, 3) moves
    the images by x and y, px, in each colour.
    """
    height, width = mosaic.shape
    across, down = np.empty((3, MOST_REACH)), np.empty((3, MOST_REACH))
    for i in range(len(x0)):
        s = sigma[i]
        reach = min(math.ceil(REACH * s), MOST_REACH // 2 - 2)
        length = math.hypot(x1[i] - x0[i], y1[i] - y0[i])
        steps = max(math.ceil(length / (0.8 * s)), 1)
        norm = 1 / (2 * math.pi * s * s * steps)
        for j in range(steps):
            along = (j + 0.5) / steps
            cx = x0[i] + along * (x1[i] - x0[i])
            cy = y0[i] + along * (y1[i] - y0[i])
            left, right = max(int(cx) - reach, 0), min(int(cx) + reach + 2, width)
            top, bottom = max(int(cy) - reach, 0), min(int(cy) + reach + 2, height)
            # a Gaussian is a product: one of the columns, one of the rows, in each colour
            for c in range(3):
                right_by, down_by = (apart[i, 0, c], apart[i, 1, c]) if apart is not None else (0.0, 0.0)
                _gaussian(across[c], right - left, left - cx - right_by, s, 1.0)
                _gaussian(down[c], bottom - top, top - cy - down_by, s, flux[i, c] * norm)
            for y in range(top, bottom):
                for x in range(left, right):
                    colour = (y & 1) + (x & 1)
                    mosaic[y, x] += down[colour, y - top] * across[colour, x - left]


@numba.njit(cache=True)  # type: ignore[untyped-decorator]
def draw_wings(
    mosaic: F32,
    x0: npt.NDArray[np.float64],
    y0: npt.NDArray[np.float64],
    x1: npt.NDArray[np.float64],
    y1: npt.NDArray[np.float64],
    flux: npt.NDArray[np.float64],
    width: float,
) -> None:
    """Add the wide, faint part of star images along straight trails to a mosaic, in place: what a lens
    scatters, (1 + r^2 / width^2)^-1.5, cut off where it adds less than ``LEAST_WING`` electrons.

    ``flux`` (n, 3) is the wings' light in electrons by colour, of an RGGB mosaic; ``width`` is in px.
    """
    height, across = mosaic.shape
    narrow = 1 / (width * width)
    for i in range(len(x0)):
        length = math.hypot(x1[i] - x0[i], y1[i] - y0[i])
        steps = max(math.ceil(length / width), 1)
        peak = np.empty(3)
        for c in range(3):
            peak[c] = flux[i, c] * narrow / (2 * math.pi * steps)
        reach = int(min(width * (peak.max() * steps / LEAST_WING) ** (1 / 3), WING_REACH)) + 1
        for j in range(steps):
            along = (j + 0.5) / steps
            cx = x0[i] + along * (x1[i] - x0[i])
            cy = y0[i] + along * (y1[i] - y0[i])
            left, right = max(int(cx) - reach, 0), min(int(cx) + reach + 2, across)
            for y in range(max(int(cy) - reach, 0), min(int(cy) + reach + 2, height)):
                for x in range(left, right):
                    r2 = ((x - cx) ** 2 + (y - cy) ** 2) * narrow
                    mosaic[y, x] += peak[(y & 1) + (x & 1)] / ((1 + r2) * math.sqrt(1 + r2))


@numba.njit(cache=True)  # type: ignore[untyped-decorator]
def digitise(
    electrons: F32,
    z: F32,
    read_noise: float,
    gain: float,
    black: float,
    white: int,
    out: npt.NDArray[np.uint16],
) -> None:
    """Electrons to digital numbers: shot noise (skewed as Poisson), read noise, gain in DN per electron."""
    for y in range(out.shape[0]):
        for x in range(out.shape[1]):
            mean = max(electrons[y, x], 0.0)
            n = z[y, x]
            spread = math.sqrt(mean + read_noise * read_noise)
            value = black + gain * (
                mean + spread * n + (n * n - 1) / 6 * mean / (mean + read_noise * read_noise + 1e-6)
            )
            out[y, x] = min(max(int(value + 0.5), 0), white)
