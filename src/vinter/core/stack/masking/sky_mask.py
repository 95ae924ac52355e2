"""Which part of the frame is sky: smooth, moving with the stars, and not joined to the lower edge."""

from collections.abc import Callable

import cv2
import numpy as np
import numpy.typing as npt

from vinter.core.stack.masking.motion import bordered

Array = npt.NDArray[np.float64]
F32 = npt.NDArray[np.float32]
U8 = npt.NDArray[np.uint8]
DEGREE = 3
LOG_LIMIT = 0.35  # natural log of brightness against the smooth sky beyond which a pixel is no sky
EMPTY = 1e-4  # share of a sky that lies in gaps as wide as those that count as none
LONG = 3.0  # times as long as a gap is wide: no gap in a sky
LEAST_GROUND = 0.002  # share of the frame below which there is no ground at all
SURE_REACH = 22  # half-size px by which what moves otherwise is seen beyond its border
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


def _low_or_across(blocked: U8) -> U8:
    """The parts of ``blocked`` (0 or 1) that reach the lower edge, or from the left edge to the right one."""
    _, labels = cv2.connectedComponents(blocked, connectivity=4)
    low = np.unique(labels[-1][blocked[-1] > 0])
    across = np.intersect1d(labels[:, 0], labels[:, -1])
    wanted = np.union1d(low, across)
    return np.asarray(np.isin(labels, wanted[wanted > 0]), np.uint8)


def find_sky(
    mean_plane: F32,
    star_xy: Array,
    size: tuple[int, int],
    sure: Callable[[], tuple[U8, U8]] | None = None,
    frames: int = 1,
) -> U8:
    """Sky mask (height, width), 255 = sky, feathered.

    mean_plane: mean of the unmoved frames' half-size greens above black (any unit); star_xy: places
    (full-size px) of stars known to be sky, of all ``frames``; sure: gives half-size maps (1) of what moves
    otherwise than the sky, and of what moves with it. Without ground, or without stars to judge by,
    everything is sky.
    """
    width, height = size
    everything = np.full((height, width), 255, np.uint8)
    if len(star_xy) < 40:
        return everything
    inside = star_xy[(star_xy >= 0).all(axis=1)] / 2
    dark = _dark(mean_plane, inside, len(inside) / frames)
    low = _low_or_across(dark)
    ground = _holes_filled(
        cv2.morphologyEx(low, cv2.MORPH_CLOSE, np.ones((3, 3), np.uint8)) if low.any() else low
    )
    if sure is not None:
        ground = _with_sure(ground, dark, sure(), mean_plane)
    if ground.mean() < LEAST_GROUND:
        return everything
    full = cv2.resize((1 - ground).astype(np.float32), (width, height), interpolation=cv2.INTER_LINEAR)
    soft = cv2.GaussianBlur(full, (0, 0), FEATHER)
    return np.asarray(np.round(np.clip(soft, 0, 1) * 255), np.uint8)


def _dark(mean_plane: F32, stars: Array, count: float) -> U8:
    """Places (1) darker than the smooth sky that the stars (half-size px; so many in a frame) show, or far
    from any of them."""
    plane = cv2.GaussianBlur(cv2.medianBlur(mean_plane.astype(np.float32), 5), (0, 0), 1.0)
    floor = max(float(np.percentile(plane, 90)) * 0.02, 1e-6)
    log = np.log(np.maximum(plane, floor)).astype(np.float32)
    residual = log - _smooth_sky(log, stars)
    x, y = np.clip(stars.astype(int), 0, [log.shape[1] - 1, log.shape[0] - 1]).T
    at = residual[y, x]
    limit = max(LOG_LIMIT, 3.0 * 1.4826 * float(np.median(np.abs(at - np.median(at)))))
    blocked = (residual < -limit) | _far_from_stars(log.shape, stars, count)
    return np.asarray(
        cv2.morphologyEx(blocked.astype(np.uint8), cv2.MORPH_OPEN, np.ones((3, 3), np.uint8)), np.uint8
    )


def _with_sure(ground: U8, dark: U8, sure: tuple[U8, U8], picture: F32) -> U8:
    """Ground with what does not move with the sky, joined to the lower edge; its border follows the picture's
    edges.

    Where brightness has found the ground already nothing changes.
    """
    other, with_sky = sure
    more = _low_or_across(np.maximum(other, dark))
    more = cv2.morphologyEx(more, cv2.MORPH_OPEN, np.ones((9, 9), np.uint8))
    reach = 2 * SURE_REACH + 1
    inner = cv2.erode(more, np.ones((reach, reach), np.uint8), borderValue=1) & other
    if (inner & (1 - ground)).mean() < LEAST_GROUND:
        return ground
    outer = (
        ((with_sky > 0) | (cv2.dilate(more, np.ones((reach, reach), np.uint8)) == 0))
        & (ground == 0)
        & (inner == 0)
    )
    found = bordered(np.maximum(ground, inner), outer.astype(np.uint8), picture)
    return _holes_filled(np.maximum(_low_or_across(found), ground))


def _far_from_stars(shape: tuple[int, ...], xy: Array, count: float) -> npt.NDArray[np.bool_]:
    """Places so far from any star that they cannot be counted as sky by brightness alone: in a sky with so
    many stars strewn at random one place in ten thousand lies in so wide a gap. The frame's edge cuts gaps,
    so that one there must be wider than that or long: ground lies along the edge.
    """
    gap = float(np.sqrt(-np.log(EMPTY) * shape[0] * shape[1] / (np.pi * max(count, 1.0))))
    limit = max(0.18 * min(shape), gap)
    across = min(2 * int(limit) + 1, 2 * min(shape) - 1)
    inside = cv2.blur(np.ones(shape, np.float32), (across, across), borderType=cv2.BORDER_CONSTANT)
    empty = np.full(shape, 255, np.uint8)
    empty[np.clip(xy[:, 1].astype(int), 0, shape[0] - 1), np.clip(xy[:, 0].astype(int), 0, shape[1] - 1)] = 0
    distance = cv2.distanceTransform(empty, cv2.DIST_L2, 3)
    _, labels, stats, _ = cv2.connectedComponentsWithStats((distance > limit).astype(np.uint8))
    wide = np.unique(labels[distance * np.sqrt(inside) > limit])
    long = np.flatnonzero(stats[:, cv2.CC_STAT_WIDTH] > LONG * limit)
    return np.asarray(np.isin(labels, np.setdiff1d(np.union1d(wide, long), [0])))


def _holes_filled(ground: U8) -> U8:
    """Ground without the bright specks that are closed in by it."""
    _, labels = cv2.connectedComponents((1 - ground).astype(np.uint8), connectivity=4)
    top = np.unique(labels[0][ground[0] == 0])
    open_sky = np.isin(labels, top[top > 0])
    return np.asarray(~open_sky, np.uint8) if open_sky.any() else ground


def usable_sky(mask: U8, border: int = 3, reach: int = 5) -> U8:
    """Pixels (255) of a frame that may be taken for sky: well inside the mask and off the frame's border."""
    hard = cv2.erode((mask > 200).astype(np.uint8) * 255, np.ones((reach, reach), np.uint8))
    hard[:border], hard[-border:], hard[:, :border], hard[:, -border:] = 0, 0, 0, 0
    return np.asarray(hard)
