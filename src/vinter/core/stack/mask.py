"""Which part of the frame is sky: smooth where moving stars are, and not joined to the lower edge."""

import cv2
import numpy as np
import numpy.typing as npt

Array = npt.NDArray[np.float64]
F32 = npt.NDArray[np.float32]
U8 = npt.NDArray[np.uint8]
DEGREE = 3
LOG_LIMIT = 0.35  # natural log of brightness against the smooth sky beyond which a pixel is no sky
LEAST_GROUND = 0.002  # share of the frame below which there is no ground at all
FEATHER = 1.3  # px, standard deviation of the edge


def _terms(x: Array, y: Array) -> Array:
    return np.stack([x**i * y**j for i in range(DEGREE + 1) for j in range(DEGREE + 1 - i)], axis=-1)


def _smooth_sky(log: F32, xy: Array) -> F32:
    """Polynomial surface of the log brightness, fitted at the places of stars (half-size px), robustly."""
    height, width = log.shape
    x, y = np.clip(xy[:, 0].astype(int), 0, width - 1), np.clip(xy[:, 1].astype(int), 0, height - 1)
    terms, values = _terms(x / width, y / height), log[y, x].astype(float)
    keep = np.ones(len(x), bool)
    weights = np.zeros(terms.shape[1])
    for _ in range(4):
        weights, *_ = np.linalg.lstsq(terms[keep], values[keep], rcond=None)
        error = np.abs(terms @ weights - values)
        keep = error < max(2.5 * float(np.median(error)), 0.05)
    gx, gy = np.meshgrid(np.linspace(0, 1, 64), np.linspace(0, 1, 64))
    coarse = (_terms(gx.ravel(), gy.ravel()) @ weights).reshape(64, 64)
    return np.asarray(cv2.resize(coarse.astype(np.float32), (width, height), interpolation=cv2.INTER_CUBIC))


def _touching_below(blocked: U8) -> U8:
    """The parts of ``blocked`` (0 or 1) that reach the lower edge."""
    _, labels = cv2.connectedComponents(blocked, connectivity=4)
    low = np.unique(labels[-1][blocked[-1] > 0])
    return np.asarray(np.isin(labels, low[low > 0]), np.uint8)


def find_sky(mean_plane: F32, star_xy: Array, size: tuple[int, int]) -> U8:
    """Sky mask (height, width), 255 = sky, feathered.

    mean_plane: mean of the unmoved frames' half-size greens above black (any unit); star_xy: places
    (full-size px) of stars known to be sky, of all frames. Without ground, or without stars to judge
    by, everything is sky.
    """
    width, height = size
    everything = np.full((height, width), 255, np.uint8)
    if len(star_xy) < 40:
        return everything
    plane = cv2.GaussianBlur(cv2.medianBlur(mean_plane.astype(np.float32), 5), (0, 0), 1.0)
    floor = max(float(np.percentile(plane, 90)) * 0.02, 1e-6)
    log = np.log(np.maximum(plane, floor)).astype(np.float32)
    inside = star_xy[(star_xy >= 0).all(axis=1)] / 2
    residual = log - _smooth_sky(log, inside)
    at = residual[np.clip(inside[:, 1].astype(int), 0, log.shape[0] - 1), np.clip(inside[:, 0].astype(int), 0, log.shape[1] - 1)]
    limit = max(LOG_LIMIT, 3.0 * 1.4826 * float(np.median(np.abs(at - np.median(at)))))
    blocked = (residual < -limit) | _far_from_stars(log.shape, inside)
    blocked = cv2.morphologyEx(blocked.astype(np.uint8), cv2.MORPH_OPEN, np.ones((3, 3), np.uint8))
    land = cv2.morphologyEx(_touching_below(blocked), cv2.MORPH_CLOSE, np.ones((3, 3), np.uint8))
    if land.mean() < LEAST_GROUND:
        return everything
    land = _holes_filled(land)
    full = cv2.resize((1 - land).astype(np.float32), (width, height), interpolation=cv2.INTER_LINEAR)
    soft = cv2.GaussianBlur(full, (0, 0), FEATHER)
    return np.asarray(np.round(np.clip(soft, 0, 1) * 255), np.uint8)


def _far_from_stars(shape: tuple[int, ...], xy: Array) -> npt.NDArray[np.bool_]:
    """Places so far from any star that they cannot be counted as sky by brightness alone."""
    empty = np.full(shape, 255, np.uint8)
    empty[np.clip(xy[:, 1].astype(int), 0, shape[0] - 1), np.clip(xy[:, 0].astype(int), 0, shape[1] - 1)] = 0
    distance = cv2.distanceTransform(empty, cv2.DIST_L2, 3)
    return np.asarray(distance > 0.18 * min(shape))


def _holes_filled(land: U8) -> U8:
    """Ground without the bright specks that are closed in by it."""
    _, labels = cv2.connectedComponents((1 - land).astype(np.uint8), connectivity=4)
    top = np.unique(labels[0][land[0] == 0])
    open_sky = np.isin(labels, top[top > 0])
    return np.asarray(~open_sky, np.uint8) if open_sky.any() else land


def usable_sky(mask: U8, border: int = 3, reach: int = 5) -> U8:
    """Pixels (255) of a frame that may be taken for sky: well inside the mask and off the frame's border."""
    hard = cv2.erode((mask > 200).astype(np.uint8) * 255, np.ones((reach, reach), np.uint8))
    hard[:border], hard[-border:], hard[:, :border], hard[:, -border:] = 0, 0, 0, 0
    return np.asarray(hard)
