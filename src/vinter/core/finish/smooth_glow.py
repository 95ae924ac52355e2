"""The smooth glow of a sky: a surface that follows towns, twilight and dark corners, and not the galaxy.

In: a picture reduced to ``COARSE`` px, its share of sky, and where the field is solved the galaxy's light
over it. Out: coefficients (k, 3) by colour, and the surface they make at shares of width and height.
"""

from functools import lru_cache

import cv2
import numpy as np
import numpy.typing as npt

from vinter.core.frames.frame import Colour
from vinter.core.sky.brightness import ray_airmass
from vinter.core.sky.diffuse_light import milky_way_at
from vinter.core.stack.plate_solve import Solution

F32 = npt.NDArray[np.float32]
Array = npt.NDArray[np.float64]
USUAL_AIR = 0.22  # mag an airmass, by which the band is dimmed
POLYNOMIAL, BUMPS = 10, (15, 11)  # terms of the smooth glow: of its polynomial; bumps across and down
HELD = 0.01  # share of a bump's places by which it is held back
BESIDE_BAND = 0.25  # of the galaxy's brightest light in the picture, under which a place counts as beside it
FAINTEST_BAND = 60.0  # nL: of a picture whose galaxy's light is fainter throughout, a quarter of this counts
LITTLE_BAND = 0.05  # of the sky's level, under which the galaxy's light is nothing that bumps could take away
SHINING, SHINING_TIMES = 0.5, 10.0  # of full scale, and of the sky's median, over which something shines in
LEAST_OVER = 0.4  # weight of sky that is much brighter than its surface, beside the galaxy's light
LEAST_UNDER = 0.4  # weight of sky that is much darker than the smooth glow
ROW = 8192  # places that are read in one row
DRAWN = (145, 113)  # places across and down at which the bumps are worked out once and read between


def polynomial(x: Array, y: Array) -> Array:
    """Terms (..., 10) of a polynomial of third degree at shares of width and height."""
    return np.stack([x**i * y**j for i in range(4) for j in range(4 - i)], axis=-1)


def _over(glow: Array, across: Array, down: Array) -> Array:
    """The bumps' light (h, w, c) of coefficients (k, c), from the bumps across (w, i) and down (h, j)."""
    each = glow.reshape(across.shape[1], down.shape[1], -1)
    return np.asarray(np.einsum("hj,ijc,wi->hwc", down, each, across, optimize=True))


def _cubic(at: Array, count: int) -> Array:
    """Cubic bumps (n, count + 2) at equal distances over 0 to 1, the outermost about places beyond: at an
    edge as many reach a place as in the middle."""
    off = np.abs(at[:, None] * count - (np.arange(-1, count + 1) + 0.5))
    near = 2 / 3 - off**2 + off**3 / 2
    return np.where(off < 1, near, np.where(off < 2, np.maximum(2 - off, 0) ** 3 / 6, 0))


def surface(glow: Array, x: Array, y: Array) -> Array:
    """Level (..., 3) of the smooth sky at shares of width and height (...); ``glow`` are the coefficients of
    the polynomial, and of the bumps where there are some. Bumps are read between drawn places, to a
    hundredth of their height: it is asked at every change of a slider."""
    out = polynomial(x, y) @ glow[:POLYNOMIAL]
    if glow[POLYNOMIAL:].any():
        drawn = _drawn(glow[POLYNOMIAL:].tobytes())
        column, row = (_in_rows(v * (n - 1)) for v, n in ((x, DRAWN[0]), (y, DRAWN[1])))
        read = cv2.remap(drawn, column, row, cv2.INTER_LINEAR, borderMode=cv2.BORDER_REPLICATE)
        out = out + read.reshape(-1, 3)[: x.size].reshape(*x.shape, 3)
    return np.asarray(out)


def _in_rows(values: Array) -> F32:
    """Values in rows of at most ``ROW``, the last filled up: remapping knows no side of over 32,767."""
    flat = np.asarray(values, np.float32).ravel()
    width = max(min(ROW, flat.size), 1)
    return np.pad(flat, (0, -flat.size % width)).reshape(-1, width)


@lru_cache(maxsize=16)
def _drawn(coefficients: bytes) -> F32:
    """The bumps' part of a surface at ``DRAWN`` places over the picture (rows, columns, 3)."""
    across, down = (_cubic(np.linspace(0, 1, n), bumps) for n, bumps in zip(DRAWN, BUMPS, strict=True))
    return np.asarray(_over(np.frombuffer(coefficients), across, down), np.float32)


def fitted_glow(small: F32, sky: F32, band: Array | None) -> Array:
    """Fit the smooth sky per colour, leaning to its darker side so that stars do not count as glow; the
    galaxy's light (h, w, 3) is fitted along with it, in a strength of its own, where it makes a band. Bumps
    are used only where that light is known, and follow the sky beside it: within it, unless it is lost in the
    sky's own, and where there is no sky, they stay flat. Where
    the Moon shines into the lens they would ring about it, and only take the surface down where it lies over
    the sky."""
    h, w = sky.shape
    x, y = (np.arange(w) + 0.5) / w, (np.arange(h) + 0.5) / h
    gx, gy = np.meshgrid(x, y)
    inside = sky > 0.98
    if inside.sum() < 100:
        inside = np.ones_like(sky, bool)
    values = small[inside].astype(float)
    dazzled = values.max() > max(SHINING, SHINING_TIMES * float(np.median(values)))
    plain, across, down = polynomial(gx[inside], gy[inside]), _cubic(x, BUMPS[0]), _cubic(y, BUMPS[1])
    out = np.zeros((POLYNOMIAL + across.shape[1] * down.shape[1], 3))
    lean = 0.25 if band is None else 0.6
    rest, beside = np.zeros((h, w)), np.zeros((h, w), bool)
    for c in range(3):
        own = None if band is None else band[inside][:, c]
        # no galaxy, or too even a light to be told from a gradient
        if own is None or own.max() < BESIDE_BAND:
            best = np.append(_fitted(plain, values[:, c], None, lean), 0.0)
        else:
            best = _fitted(plain, values[:, c], own, lean)
        out[:POLYNOMIAL, c] = best[:POLYNOMIAL]
        if own is not None:
            level, galaxy = plain @ best[:POLYNOMIAL], own * best[POLYNOMIAL]
            left = values[:, c] - level - galaxy
            if dazzled:
                left = np.minimum(left + 1.4826 * np.median(np.abs(left)), 0)
            rest[inside], beside[inside] = left, (own < BESIDE_BAND) | (galaxy < LITTLE_BAND * level)
            out[POLYNOMIAL:, c] = _bumped(across, down, rest, beside, len(left))
    return out


def _fitted(t: Array, values: Array, band: Array | None, lean: float) -> Array:
    """Coefficients of the polynomial ``t`` (n, 10), and behind them the strength of the galaxy's light (n,)
    where it is known; what lies over the surface counts by ``lean``."""
    # on terms at right angles to each other normal equations lose nothing
    square, triangle = np.linalg.qr(t if band is None else np.c_[t, band])
    weight: Array = np.ones(len(t))
    best: Array = np.zeros(len(triangle))
    for _ in range(7):
        weighted = square * weight[:, None]
        normal, right = weighted.T @ square, weighted.T @ values
        best = np.linalg.solve(normal, right)
        # no light of the galaxy is seen: the sky alone
        if band is not None and best[-1] * triangle[-1, -1] < 0:
            best = np.append(np.linalg.solve(normal[:-1, :-1], right[:-1]), 0.0)
        weight = _weights(values - square @ best, lean)
    return np.asarray(np.linalg.lstsq(triangle, best, rcond=None)[0])


def _weights(error: Array, lean: float) -> Array:
    """How much what is off a surface counts: light over it is stars and band; under it hardly anything is, so
    that what lies there counts, and the surface does not run away above a corner that is darker."""
    spread = 1.4826 * np.median(np.abs(error)) + 1e-9
    over = lean * np.exp(-0.5 * (error / (2 * spread)) ** 2)
    under = np.maximum(np.exp(-0.5 * (error / (6 * spread)) ** 2), LEAST_UNDER)
    return np.asarray(np.where(error > 0, over, under))


def _bumped(across: Array, down: Array, rest: Array, beside: npt.NDArray[np.bool_], places: int) -> Array:
    """Coefficients (k,) of the bumps across (w, i) and down (h, j) that follow what a polynomial left (h, w),
    ``beside`` the galaxy's light only; each is held back by ``HELD`` of its share of the ``places`` of sky,
    so that one with little sky under it stays flat."""
    count = across.shape[1] * down.shape[1]
    best: Array = np.zeros(count)
    if beside.sum() < 20 * count:
        return best
    held = HELD * places / count * np.eye(count)
    # a bump is one across times one down, and so is the product of two: sums run over rows, then columns
    pairs_across, pairs_down = ((v[:, :, None] * v[:, None, :]).reshape(len(v), -1) for v in (across, down))
    sides = (down.shape[1], down.shape[1], across.shape[1], across.shape[1])
    for _ in range(7):
        error = rest - _over(best, across, down)[..., 0]
        spread = 1.4826 * np.median(np.abs(error[beside])) + 1e-9
        over = np.maximum(np.exp(-0.5 * (error / (3 * spread)) ** 2), LEAST_OVER)
        weight = np.where(error > 0, over, 1.0) * beside
        normal = (pairs_down.T @ (weight @ pairs_across)).reshape(sides).transpose(2, 0, 3, 1)
        right = across.T @ (weight * rest).T @ down
        best = np.asarray(np.linalg.solve(normal.reshape(count, count) + held, right.ravel()))
    return best


def galaxy_light(field: Solution, size: tuple[int, int], colour: Colour) -> Array:
    """The Milky Way's light (h, w, 3) over a picture reduced to a size, in camera colours, strength 1 at its
    brightest, less where it is faint throughout; dimmed by the air where the zenith is known."""
    w, h = size
    gx, gy = np.meshgrid(
        (np.arange(w) + 0.5) / w * field.width - 0.5, (np.arange(h) + 0.5) / h * field.height - 0.5
    )
    xy = np.stack([gx.ravel(), gy.ravel()], axis=1)
    light = milky_way_at(field.directions(xy))
    if field.zenith:
        up = np.maximum(field.altitudes(xy), 0.5)
        light = light * 10 ** (-0.4 * USUAL_AIR * ray_airmass(up))[:, None]
    to_camera = np.linalg.inv(np.array(colour.matrix)) * np.array(colour.neutral)[:, None]
    raw = np.maximum(light @ to_camera.T, 0)
    return np.asarray((raw / max(float(raw.max()), FAINTEST_BAND)).reshape(h, w, 3))
