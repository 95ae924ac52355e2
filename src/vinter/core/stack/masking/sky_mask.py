"""Which part of the frame is sky: smooth, moving with the stars, and not joined to the lower edge."""

from collections.abc import Callable
from dataclasses import dataclass

import cv2
import numpy as np
import numpy.typing as npt

from vinter.core.stack.masking.basics import EMPTY_OF_STARS, SURE_COUNT, log_light
from vinter.core.stack.masking.light_ground import carried_on
from vinter.core.stack.masking.motion import bordered
from vinter.core.stack.masking.silhouette import REACHES, in_detail, scale_of

Array = npt.NDArray[np.float64]
F32 = npt.NDArray[np.float32]
U8 = npt.NDArray[np.uint8]
DEGREE = 3
GRID_CELLS = 90  # places across, beside the stars, at which the sky is looked at again
PALE = 0.8  # natural log against the first surface within which such a place may be sky
LOG_LIMIT = 0.35  # natural log of brightness against the smooth sky beyond which a pixel is no sky
NEAR = 0.5  # of the mean distance between stars, within which there is sky about one
EMPTY = 1e-4  # share of a sky that lies in gaps as wide as those that count as none
LONG = 3.0  # times as long as a gap is wide: no gap in a sky
LEAST_GROUND = 0.002  # share of the frame below which there is no ground at all
SURE_REACH = 22  # half-size px that something moving otherwise is seen beyond its border
SPECK = 2e-4  # share of the frame under which a piece is not looked at
BODY_PX = 41  # half-size px across dark ground that is more than a patch
NOT_DARK = 0.4  # share of the sky's light: a corner of the lens is not darker
FEWEST_SKY = 40  # stars by which the sky is judged
LOST_STARS = 0.6  # share of the stars in the ground that is too many even with a lake that mirrors them
LEAST_HOLE = 400  # px of a plane of 1000 across from which what is closed in may be sky
BRANCH_PX = 15  # the same, across at most of what closes sky in
OPEN_SIDE, SAME_LIGHT = 0.3, 0.15  # share of its border beside open sky, and natural log of both lights
REACHES_OVER = 2.0  # times the farthest reach of the sky's light over the ground that is looked at in detail
FEATHER = 1.3  # px, standard deviation of the edge


def _terms(x: Array, y: Array) -> Array:
    return np.stack([x**i * y**j for i in range(DEGREE + 1) for j in range(DEGREE + 1 - i)], axis=-1)


def _surface(x: Array, y: Array, values: Array, shape: tuple[int, int]) -> F32:
    """Polynomial surface (height, width) through values at shares of width and height, fitted robustly."""
    terms = _terms(x, y)
    keep = np.ones(len(x), bool)
    weights: Array = np.zeros(terms.shape[1])
    for _ in range(4):
        weights = np.asarray(np.linalg.lstsq(terms[keep], values[keep], rcond=None)[0])
        error = np.abs(terms @ weights - values)
        keep = error < max(2.5 * float(np.median(error)), 0.05)
    gx, gy = np.meshgrid(np.linspace(0, 1, 64), np.linspace(0, 1, 64))
    coarse = (_terms(gx.ravel(), gy.ravel()) @ weights).reshape(64, 64)
    return np.asarray(cv2.resize(coarse.astype(np.float32), shape[::-1], interpolation=cv2.INTER_CUBIC))


def _smooth_sky(log: F32, xy: Array) -> F32:
    """Surface of the log brightness of the sky: by the places of stars (half-size px), then by all places
    that are not much darker than that, so that it does not bend where no star holds it."""
    height, width = log.shape
    x, y = np.clip(xy[:, 0].astype(int), 0, width - 1), np.clip(xy[:, 1].astype(int), 0, height - 1)
    values = log[y, x].astype(float)
    first = _surface(x / width, y / height, values, log.shape)
    step = max(width // GRID_CELLS, 1)
    gy, gx = np.mgrid[step // 2 : height : step, step // 2 : width : step]
    residual = (log - first)[gy, gx]
    pale = np.abs(residual) < PALE
    gx, gy = gx[pale], gy[pale]
    return _surface(
        np.r_[x, gx] / width, np.r_[y, gy] / height, np.r_[values, log[gy, gx].astype(float)], log.shape
    )


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
    travel: float = 0.0,
    light: U8 | None = None,
) -> U8:
    """Sky mask (height, width), 255 = sky, feathered.

    mean_plane: mean of the unmoved frames' half-size greens above black (any unit); star_xy: places
    (full-size px) of stars known to be sky, of all ``frames``; sure: gives half-size maps (1) of what moves
    otherwise than the sky, and of what moves with it; ``travel`` px the sky moved over those frames;
    ``light``: half-size map (1) of ground told by its texture, with its true outline. Without ground, or
    without stars to judge by, everything is sky.
    """
    width, height = size
    everything = np.full((height, width), 255, np.uint8)
    if len(star_xy) < FEWEST_SKY:
        return everything
    inside = matched = star_xy[(star_xy >= 0).all(axis=1)] / 2
    if light is not None and not light.any():
        light = None
    if light is not None:  # what was matched there stood still
        x, y = np.clip(inside.astype(int), 0, [light.shape[1] - 1, light.shape[0] - 1]).T
        inside = inside[light[y, x] == 0]
        if len(inside) < FEWEST_SKY:
            return _at_full_size(1 - light, size)
    dark = _dark(mean_plane, inside, len(inside) / frames)
    low = _low_or_across(dark)
    closed = cv2.morphologyEx(low, cv2.MORPH_CLOSE, np.ones((3, 3), np.uint8)) if low.any() else low
    counts = _StarCounts(matched, frames)
    ground = _holes_filled(np.asarray(closed, np.uint8), mean_plane, counts)
    doubtful = None
    if light is not None:
        black = _much_darker(ground, mean_plane)
        ground = _holes_filled(np.maximum(black, light), mean_plane, counts)
        doubtful = ground & (1 - black)  # texture runs on from a roof to a hill
    elif sure is not None:
        by_darkness = ground
        ground = _with_sure(ground, dark, sure(), mean_plane, _StarCounts(inside, frames), travel / 2)
        doubtful = ground & (1 - by_darkness)
    if _share_of(inside, ground) > LOST_STARS:
        return everything  # what moves with the sky lies all over it: sure of nothing
    if ground.mean() < LEAST_GROUND:
        return everything
    if light is not None and not _is_dark(light, mean_plane):
        return _at_full_size(1 - ground, size)
    top = _first_row(ground)
    share = np.ones(ground.shape, np.float32)
    share[top:] = in_detail(
        ground[top:],
        mean_plane[top:],
        counts.below(top).starless,
        None if doubtful is None else doubtful[top:],
    )
    return _at_full_size(share, size)


def _first_row(ground: U8) -> int:
    """The row from which on a picture has to be looked at in detail: as far over the ground as the sky's
    light is carried."""
    reach = REACHES_OVER * REACHES[0] * scale_of(ground)
    return max(int(np.flatnonzero(ground.any(axis=1))[0] - reach), 0)


def _is_dark(ground: U8, picture: F32) -> bool:
    """Whether ground (1) is dark against the rest."""
    return bool(np.median(picture[ground > 0]) < NOT_DARK * np.median(picture[ground == 0]))


def _at_full_size(share: U8 | F32, size: tuple[int, int]) -> U8:
    """A share of sky (0 to 1; half size) as a mask."""
    full = cv2.resize(share.astype(np.float32), size, interpolation=cv2.INTER_LINEAR)
    soft = cv2.GaussianBlur(full, (0, 0), FEATHER)
    return np.asarray(cv2.convertScaleAbs(soft, alpha=255), np.uint8)


def _dark(mean_plane: F32, stars: Array, count: float) -> U8:
    """Places (1) darker than the smooth sky that the stars (half-size px, their count) show, or far
    from any of them and not lit as that sky."""
    plane = cv2.GaussianBlur(cv2.medianBlur(mean_plane.astype(np.float32), 5), (0, 0), 1.0)
    log = log_light(np.asarray(plane, np.float32))
    residual = log - _smooth_sky(log, stars)
    x, y = np.clip(stars.astype(int), 0, [log.shape[1] - 1, log.shape[0] - 1]).T
    at = residual[y, x]
    limit = max(LOG_LIMIT, 3.0 * 1.4826 * float(np.median(np.abs(at - np.median(at)))))
    darker, far = residual < -limit, _far_from_stars(log.shape, stars, count)
    if (
        far & ~darker
    ).mean() > LEAST_GROUND:  # hazy or moonlit sky shows no stars, and goes on without a step
        spacing = float(np.sqrt(log.size / max(count, 1.0)))
        seeds = _near_stars(log.shape, stars, NEAR * spacing) & ~darker
        far &= carried_on(mean_plane, seeds.astype(np.uint8)) == 0
    blocked = darker | far
    return np.asarray(
        cv2.morphologyEx(blocked.astype(np.uint8), cv2.MORPH_OPEN, np.ones((3, 3), np.uint8)), np.uint8
    )


@dataclass(frozen=True)
class _StarCounts:
    """Places of stars (half-size px) that moved with the sky in ``frames`` frames."""

    xy: Array
    frames: int

    def of(self, piece: npt.NDArray[np.bool_], sky: npt.NDArray[np.bool_]) -> tuple[float, float]:
        """Stars of one frame in a piece of the picture, and how many would be there were it sky like the
        rest."""
        x, y = np.clip(self.xy.astype(int), 0, [piece.shape[1] - 1, piece.shape[0] - 1]).T
        inside, elsewhere = piece[y, x], sky[y, x]
        density = elsewhere.sum() / self.frames / max(int(sky.sum()), 1)
        return float(inside.sum()) / self.frames, float(density * piece.sum())

    def below(self, top: int) -> "_StarCounts":
        """Those from a row on, for the picture from that row on."""
        return _StarCounts(self.xy[self.xy[:, 1] >= top] - [0, top], self.frames)

    def starless(self, piece: npt.NDArray[np.bool_], sky: npt.NDArray[np.bool_]) -> bool:
        """Whether a piece is wide enough to hold stars and has far fewer than the sky would show there."""
        seen, wanted = self.of(piece, sky)
        return wanted > SURE_COUNT and seen < EMPTY_OF_STARS * wanted


def _share_of(xy: Array, ground: U8) -> float:
    """Share of the stars that lie in the ground, off its edge."""
    deep = cv2.erode(ground, np.ones((9, 9), np.uint8), borderValue=1)
    x, y = np.clip(xy.astype(int), 0, [ground.shape[1] - 1, ground.shape[0] - 1]).T
    return float(deep[y, x].mean())


def _with_sure(
    ground: U8, dark: U8, sure: tuple[U8, U8], picture: F32, counts: _StarCounts, travel: float
) -> U8:
    """Ground with what does not move with the sky, joined to the lower edge; its border follows the picture's
    edges.

    Where brightness has found much darker ground its border stands: laid by the stars, its edge sweeps over
    as
    much sky as the stars travel (half-size px), and light round a skyline moves otherwise too. And a piece
    counts only when it holds none of the sky's stars where the sky
    would show some.
    """
    other, with_sky = sure
    more = _low_or_across(np.maximum(other, dark))
    more = cv2.morphologyEx(more, cv2.MORPH_OPEN, np.ones((9, 9), np.uint8))
    reach = np.ones((2 * SURE_REACH + 1, 2 * SURE_REACH + 1), np.uint8)
    black = _much_darker(ground, picture)
    wide = int(SURE_REACH + travel) * 2 + 1
    beside = cv2.dilate(black, np.ones((wide, wide), np.uint8))
    inner = cv2.erode(more, reach, borderValue=1) & other & (1 - black)
    inner[(beside > 0) & (ground == 0)] = 0
    _, labels, stats, _ = cv2.connectedComponentsWithStats(inner.astype(np.uint8), connectivity=4)
    new, sky = np.zeros_like(ground), (ground == 0) & (more == 0)
    for label in range(1, len(stats)):
        if stats[label, cv2.CC_STAT_AREA] < SPECK * inner.size:
            continue
        piece = labels == label
        starless = counts.starless(piece, sky)
        pale = (ground[piece] > 0).mean() > 0.5 and (beside[piece] == 0).mean() > 0.5
        if (piece.mean() > LEAST_GROUND / 2 and starless) or pale:
            new[piece] = 1
    if (new & (1 - ground)).mean() < LEAST_GROUND / 4:
        return ground
    outer = ((with_sky > 0) | (cv2.dilate(more, reach) == 0)) & (ground == 0) & (new == 0)
    found = bordered(np.maximum(ground, new), outer.astype(np.uint8), picture)
    found = np.where((beside > 0) & (cv2.dilate(new, reach) == 0), ground, found).astype(np.uint8)
    return _holes_filled(np.maximum(_low_or_across(np.maximum(found, ground)), ground), picture, counts)


def _much_darker(ground: U8, picture: F32) -> U8:
    """The parts of the ground that are so dark beside the sky that brightness cannot be wrong about their
    border."""
    if not ground.any() or ground.all():
        return np.zeros_like(ground)
    plane = cv2.GaussianBlur(picture.astype(np.float32), (0, 0), 2.0)
    level = float(np.median(plane[ground == 0]))
    black = ((ground > 0) & (plane < NOT_DARK * level)).astype(np.uint8)
    joined = cv2.morphologyEx(black, cv2.MORPH_CLOSE, np.ones((5, 5), np.uint8)) & ground
    _, labels = cv2.connectedComponents(joined.astype(np.uint8), connectivity=4)
    body = cv2.morphologyEx(joined, cv2.MORPH_OPEN, np.ones((BODY_PX, BODY_PX), np.uint8))
    solid = np.unique(labels[body > 0])  # dark patches of a bright ground are small
    return np.asarray(np.isin(labels, solid[solid > 0]), np.uint8)


def _near_stars(shape: tuple[int, ...], xy: Array, reach: float) -> npt.NDArray[np.bool_]:
    """Places within a distance (px) of a star."""
    return np.asarray(_to_star(shape, xy) < reach)


def _to_star(shape: tuple[int, ...], xy: Array) -> F32:
    """How far every place is from the nearest star, px."""
    empty = np.full(shape, 255, np.uint8)
    empty[np.clip(xy[:, 1].astype(int), 0, shape[0] - 1), np.clip(xy[:, 0].astype(int), 0, shape[1] - 1)] = 0
    return np.asarray(cv2.distanceTransform(empty, cv2.DIST_L2, 3), np.float32)


def _far_from_stars(shape: tuple[int, ...], xy: Array, count: float) -> npt.NDArray[np.bool_]:
    """Places so far from any star that they cannot be counted as sky by brightness alone: in a sky with so
    many stars strewn at random one place in ten thousand lies in so wide a gap. The frame's edge cuts gaps,
    so that one there must be wider than that or long: ground lies along the edge.
    """
    gap = float(np.sqrt(-np.log(EMPTY) * shape[0] * shape[1] / (np.pi * max(count, 1.0))))
    limit = max(0.18 * min(shape), gap)
    across = min(2 * int(limit) + 1, 2 * min(shape) - 1)
    inside = cv2.blur(np.ones(shape, np.float32), (across, across), borderType=cv2.BORDER_CONSTANT)
    distance = _to_star(shape, xy)
    _, labels, stats, _ = cv2.connectedComponentsWithStats((distance > limit).astype(np.uint8))
    wide = np.unique(labels[distance * np.sqrt(inside) > limit])
    long = np.flatnonzero(stats[:, cv2.CC_STAT_WIDTH] > LONG * limit)
    return np.asarray(np.isin(labels, np.setdiff1d(np.union1d(wide, long), [0])))


def _holes_filled(ground: U8, picture: F32, counts: _StarCounts) -> U8:
    """Ground without the bright specks that are closed in by it; sky that branches close in, as against the
    frame's edge, stays."""
    _, labels, stats, _ = cv2.connectedComponentsWithStats((1 - ground).astype(np.uint8), connectivity=4)
    top = np.unique(labels[0][ground[0] == 0])
    outer = np.isin(labels, top[top > 0])
    if not outer.any():
        return ground
    least = LEAST_HOLE * scale_of(ground) ** 2
    large = np.setdiff1d(np.flatnonzero(stats[:, cv2.CC_STAT_AREA] > least), np.r_[top, 0])
    kept = [k for k in large if _beside_sky(labels == k, outer, picture, counts)]
    return np.asarray(~(outer | np.isin(labels, kept)), np.uint8)


def _beside_sky(
    hole: npt.NDArray[np.bool_], sky: npt.NDArray[np.bool_], picture: F32, counts: _StarCounts
) -> bool:
    """Whether a hole lies but a branch's width from the sky, is as light as that is there, and does not lack
    its stars."""
    reach = np.ones((2 * round(BRANCH_PX * scale_of(hole)) + 1,) * 2, np.uint8)
    inner, outer = (cv2.dilate(v.astype(np.uint8), reach) > 0 for v in (hole, sky))
    rim = hole & (cv2.erode(hole.astype(np.uint8), np.ones((3, 3), np.uint8)) == 0)
    here, there = picture[hole & outer], picture[sky & inner]
    if not here.size or not there.size or outer[rim].mean() < OPEN_SIDE:
        return False
    apart = np.log(max(float(np.median(here)), 1e-6) / max(float(np.median(there)), 1e-6))
    return bool(abs(apart) < SAME_LIGHT and not counts.starless(hole, sky))


def usable_sky(mask: U8, border: int = 3, reach: int = 5) -> U8:
    """Pixels (255) of a frame that may be taken for sky: well inside the mask and off the frame's border."""
    hard = cv2.erode((mask > 200).astype(np.uint8) * 255, np.ones((reach, reach), np.uint8))
    hard[:border], hard[-border:], hard[:, :border], hard[:, -border:] = 0, 0, 0, 0
    return np.asarray(hard)
