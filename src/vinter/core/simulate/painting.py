"""The inner loops of the painter of the ground, compiled: one pass over the pixels each."""

import math

import numba
import numpy as np
import numpy.typing as npt

F32 = npt.NDArray[np.float32]
U8 = npt.NDArray[np.uint8]
Array = npt.NDArray[np.float64]
FULL = 255 / 0.6  # scale of the stored reflectance: 0.6 is the brightest there is
NEAR_BELOW = -0.3  # degrees; under it is the plain, drawn in perspective
TUFTS = ((3.0, 0.6), (0.5, 0.4))  # m of the sizes of texture, and their weights
SHORE, RIPPLES = (0.5, 9.0), (0.25, 31.0)  # degrees by which a shore winds, and how often a degree
_kernel = numba.njit(cache=True, nogil=True)


@_kernel  # type: ignore[untyped-decorator]
def spread(coarse: F32, columns: F32, rows: F32) -> F32:
    """A coarse field at fractional places: of its columns (width,) and rows (height,)."""
    high, wide = coarse.shape
    out = np.empty((len(rows), len(columns)), np.float32)
    line = np.empty(wide, np.float32)
    for y in range(len(rows)):
        above = min(max(int(rows[y]), 0), high - 2)
        down = rows[y] - np.float32(above)
        for k in range(wide):
            line[k] = coarse[above, k] + down * (coarse[above + 1, k] - coarse[above, k])
        for x in range(len(columns)):
            left = min(max(int(columns[x]), 0), wide - 2)
            out[y, x] = line[left] + (columns[x] - np.float32(left)) * (line[left + 1] - line[left])
    return out


@numba.njit(inline="always")  # type: ignore[untyped-decorator]
def _lay(sky: F32, colour: U8, y: int, x: int, share: float, tint: F32, texture: float) -> None:
    """Lay a colour over what is in a pixel, by its share of it: the ground's colour becomes the mean of what
    was there and what covers it."""
    free = sky[y, x]
    under = (1 - free) * (1 - share)
    covered = max(1 - free * (1 - share), 1e-6)
    for c in range(3):
        laid = min(max(tint[c] * texture * FULL, 0.0), 255.0)
        colour[y, x, c] = np.uint8(min((colour[y, x, c] * under + laid * share) / covered + 0.5, 255.0))
    sky[y, x] = free * (1 - share)


@numba.njit(inline="always")  # type: ignore[untyped-decorator]
def _texture(tile: F32, u: float, v: float) -> float:
    """A tile that repeats, between its pixels."""
    size = tile.shape[0]
    x, y = math.floor(u), math.floor(v)
    right, down = u - x, v - y
    x, y = x % size, y % size
    x1, y1 = (x + 1) % size, (y + 1) % size
    top = tile[y, x] + right * (tile[y, x1] - tile[y, x])
    bottom = tile[y1, x] + right * (tile[y1, x1] - tile[y1, x])
    return float(top + down * (bottom - top))


@_kernel  # type: ignore[untyped-decorator]
def lay_profile(
    sky: F32,
    colour: U8,
    altitude: F32,
    relative: F32,
    table: F32,
    step: float,
    tint: F32,
    tile: F32,
    per_px: float,
    eye: float,
) -> None:
    """Lay all that lies under a skyline (altitudes over azimuths from -180 in steps), in place: hills as they
    stand, and below eye level the plain in perspective."""
    size, last = tile.shape[0], len(table) - 2
    for y in range(sky.shape[0]):
        for x in range(sky.shape[1]):
            alt, az = altitude[y, x], relative[y, x]
            at = (az + 180.0) / step
            i = min(max(int(at), 0), last)
            edge = table[i] + (at - i) * (table[i + 1] - table[i])
            share = min(max((edge - alt) / per_px + 0.5, 0.0), 1.0)
            if share <= 0:
                continue
            if alt < NEAR_BELOW:
                away = eye / math.tan(math.radians(-alt))
                turn = math.radians(az)
                east, north = away * math.sin(turn), away * math.cos(turn)
                texture, spans = 1.0, max(away * math.radians(per_px) * away / eye, 1e-6)
                for metres, weight in TUFTS:
                    # far off many tufts share a pixel
                    fine = min(metres / 6 / spans, 1.0)
                    got = _texture(tile, east / metres * size / 6, north / metres * size / 6)
                    texture *= 1 + weight * (got - 1) * fine
            else:
                texture = 0.35 + 0.65 * _texture(tile, az * 14, alt * 24)
            _lay(sky, colour, y, x, share, tint, texture)


@_kernel  # type: ignore[untyped-decorator]
def lay_mask(
    sky: F32,
    colour: U8,
    upright: U8,
    water: U8,
    mask: U8,
    top: int,
    left: int,
    tint: F32,
    tile: F32,
    grain: float,
) -> None:
    """Lay what covers a mask (of 255, its first pixel at (top, left)) in a colour with a grain, in place: it
    stands upright and hides water (an empty array where there is none)."""
    size = tile.shape[0]
    for j in range(mask.shape[0]):
        for i in range(mask.shape[1]):
            if mask[j, i] == 0:
                continue
            y, x, share = top + j, left + i, mask[j, i] / 255.0
            _lay(sky, colour, y, x, share, tint, 1 + grain * (tile[y % size, x % size] - 1))
            upright[y, x] = max(upright[y, x], mask[j, i])
            if water.size:
                water[y, x] = np.uint8(water[y, x] * (1 - share))


@_kernel  # type: ignore[untyped-decorator]
def lay_water(
    water: U8,
    sky: F32,
    altitude: F32,
    relative: F32,
    middle: float,
    half: float,
    near: float,
    far: float,
    per_px: float,
) -> None:
    """Lay water, in place, ``half`` degrees to both sides of a centre, between two altitudes, with winding
    shores, where there is ground."""
    for y in range(sky.shape[0]):
        for x in range(sky.shape[1]):
            alt = altitude[y, x]
            if alt < near - 2 or alt > far + 2 or sky[y, x] >= 1:
                continue
            az = (relative[y, x] - middle + 180.0) % 360.0 - 180.0
            winds = SHORE[0] * math.sin(math.radians(az * SHORE[1]))
            winds += RIPPLES[0] * math.sin(math.radians(az * RIPPLES[1]))
            inside = min(max((half - abs(az)) / 0.6, 0.0), 1.0)
            inside *= min(max((far + 0.1 * winds - alt) / per_px + 0.5, 0.0), 1.0)
            inside *= min(max((alt - near - winds) / (3 * per_px) + 0.5, 0.0), 1.0)
            share = np.uint8(inside * (1 - sky[y, x]) * 255 + 0.5)
            water[y, x] = max(water[y, x], share)


def warm() -> None:
    """Compile every loop, so that the first frame is as fast as the next."""
    sky, colour = np.ones((4, 4), np.float32), np.zeros((4, 4, 3), np.uint8)
    tint, tile, flat = np.ones(3, np.float32), np.ones((8, 8), np.float32), np.zeros((4, 4), np.uint8)
    table = np.zeros(8, np.float32)
    spread(sky, table, table)
    lay_profile(sky, colour, sky, sky, table, 45.0, tint, tile, 1.0, 1.6)
    lay_mask(sky, colour, flat, flat, flat, 0, 0, tint, tile, 0.5)
    lay_water(flat, sky, sky, sky, 0.0, 10.0, -5.0, 0.0, 1.0)
