"""The inner loops of the moves, compiled: one pass over the pixels each, on as many cores as there are."""

import numba
import numpy as np
import numpy.typing as npt

F32 = npt.NDArray[np.float32]
Array = npt.NDArray[np.float64]
_kernel = numba.njit(cache=True, parallel=True, fastmath=True, nogil=True)


@_kernel  # type: ignore[untyped-decorator]
def scaled(rgb: F32, gain: F32) -> F32:
    """A picture (h, w, 3) times a gain (h, w)."""
    out = np.empty_like(rgb)
    for y in numba.prange(rgb.shape[0]):
        for x in range(rgb.shape[1]):
            for c in range(3):
                out[y, x, c] = rgb[y, x, c] * gain[y, x]
    return out


@_kernel  # type: ignore[untyped-decorator]
def less(rgb: F32, amount: F32, share: F32) -> F32:
    """A picture less an amount (h, w, 3) by a share (h, w)."""
    out = np.empty_like(rgb)
    for y in numba.prange(rgb.shape[0]):
        for x in range(rgb.shape[1]):
            for c in range(3):
                out[y, x, c] = rgb[y, x, c] - amount[y, x, c] * share[y, x]
    return out


@_kernel  # type: ignore[untyped-decorator]
def transformed(rgb: F32, share: F32, first: F32, second: F32) -> F32:
    """A picture through two matrices (3, 3), laid together by the share of the first."""
    out = np.empty_like(rgb)
    for y in numba.prange(rgb.shape[0]):
        for x in range(rgb.shape[1]):
            s = share[y, x]
            r, g, b = rgb[y, x, 0], rgb[y, x, 1], rgb[y, x, 2]
            for c in range(3):
                p = first[c, 0] * r + first[c, 1] * g + first[c, 2] * b
                q = second[c, 0] * r + second[c, 1] * g + second[c, 2] * b
                out[y, x, c] = q + s * (p - q)
    return out


@_kernel  # type: ignore[untyped-decorator]
def encoded(rgb: F32, share: F32, first: F32, second: F32, brightest: float) -> F32:
    """A linear picture through two tables over square roots of levels up to ``brightest``, laid together by
    the share of the first; levels between entries take the nearest."""
    out = np.empty_like(rgb)
    last = first.shape[0] - 1
    scale = last / np.sqrt(brightest)
    for y in numba.prange(rgb.shape[0]):
        for x in range(rgb.shape[1]):
            s = share[y, x]
            for c in range(3):
                i = int(np.sqrt(max(rgb[y, x, c], np.float32(0))) * scale + 0.5)
                i = min(i, last)
                out[y, x, c] = second[i] + s * (first[i] - second[i])
    return out


@_kernel  # type: ignore[untyped-decorator]
def toned(rgb: F32, share: F32, sky: Array, ground: float, warmth: Array) -> F32:
    """Colours (encoded) of sky and ground: saturations, the sky's green and purple taken out, its red, yellow
    and blue (``sky``: saturation, green, purple, red, yellow, blue; shares), and factors on red (2,)."""
    out = np.empty_like(rgb)
    for y in numba.prange(rgb.shape[0]):
        for x in range(rgb.shape[1]):
            s = share[y, x]
            warm = warmth[1] + s * (warmth[0] - warmth[1])
            r, g, b = rgb[y, x, 0] * warm, rgb[y, x, 1], rgb[y, x, 2] / warm
            over = g - 0.5 * (r + b)
            shift = over * s * (sky[1] if over > 0 else sky[2])
            # taken from green where green leads, from red and blue where they do; the light stays
            g -= shift * 0.2848
            r += shift * 0.7152
            b += shift * 0.7152
            factor = 1.0 + ground + s * (sky[0] - ground)
            if sky[3] != 0.0:
                lead = min(max((r - 1.08 * max(g, b)) * 8.0, 0.0), 1.0)
                factor *= 1.0 + sky[3] * lead * s
            if sky[4] != 0.0:
                lead = min(max((min(r, g) - 1.04 * b) * 10.0, 0.0), 1.0)
                factor *= 1.0 + sky[4] * lead * s
            if sky[5] != 0.0:
                lead = min(max((b - 1.04 * max(r, g)) * 10.0, 0.0), 1.0)
                factor *= 1.0 + sky[5] * lead * s
            grey = 0.2126 * r + 0.7152 * g + 0.0722 * b
            out[y, x, 0] = grey + (r - grey) * factor
            out[y, x, 1] = grey + (g - grey) * factor
            out[y, x, 2] = grey + (b - grey) * factor
    return out


@_kernel  # type: ignore[untyped-decorator]
def locally(rgb: F32, light: F32, added: F32) -> F32:
    """A picture whose light (h, w) grows by an amount (h, w), its colours kept."""
    out = np.empty_like(rgb)
    for y in numba.prange(rgb.shape[0]):
        for x in range(rgb.shape[1]):
            at = max(light[y, x], np.float32(1e-3))
            gain = min(max((light[y, x] + added[y, x]) / at, np.float32(0.3)), np.float32(3.0))
            for c in range(3):
                out[y, x, c] = rgb[y, x, c] * gain
    return out


@_kernel  # type: ignore[untyped-decorator]
def between(first: F32, second: F32, share: F32) -> F32:
    """Two pictures laid together by the share (h, w) of the first."""
    out = np.empty_like(first)
    for y in numba.prange(first.shape[0]):
        for x in range(first.shape[1]):
            s = share[y, x]
            for c in range(3):
                out[y, x, c] = second[y, x, c] + s * (first[y, x, c] - second[y, x, c])
    return out


@_kernel  # type: ignore[untyped-decorator]
def calmer(ycc: F32, soft: F32, smooth: F32, share: F32, colour: Array, light: Array, grain: float) -> F32:
    """Luma and two colour differences (h, w, 3) moved towards their surroundings (``soft`` of the
    differences (h, w, 2), ``smooth`` of the luma), by shares of sky and ground; less where they stand far
    off: stars, lamps, edges."""
    out = np.empty_like(ycc)
    for y in numba.prange(ycc.shape[0]):
        for x in range(ycc.shape[1]):
            s = share[y, x]
            c = colour[1] + s * (colour[0] - colour[1])
            a = light[1] + s * (light[0] - light[1])
            detail = ycc[y, x, 0] - smooth[y, x]
            far = detail / (3 * grain)
            out[y, x, 0] = ycc[y, x, 0] - a * detail / (1 + far * far) ** 2
            for k in range(2):
                away = soft[y, x, k] - ycc[y, x, k + 1]
                out[y, x, k + 1] = ycc[y, x, k + 1] + c * away / (1 + (away / 0.12) ** 2)
    return out


def warm() -> None:
    """Compile every loop, so that the first change is as fast as the next."""
    rgb, share = np.full((4, 4, 3), 0.2, np.float32), np.full((4, 4), 0.5, np.float32)
    table, matrix = np.linspace(0, 1, 256).astype(np.float32), np.eye(3, dtype=np.float32)
    scaled(rgb, share)
    less(rgb, rgb, share)
    transformed(rgb, share, matrix, matrix)
    encoded(rgb, share, table, table, 8.0)
    toned(rgb, share, np.zeros(6), 0.0, np.ones(2))
    locally(rgb, share, share)
    between(rgb, rgb, share)
    calmer(rgb, np.ascontiguousarray(rgb[..., :2]), share, share, np.zeros(2), np.zeros(2), 0.1)
