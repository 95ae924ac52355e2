"""Ground that may be as bright as the sky, or brighter: told by its texture, where the sky between its stars
is smooth.

A sky's light, carried on from where it is sure, fits to a few per cent wherever there is sky; moonlit rock,
grass and trees do not. Whether what is textured is ground and no cloud of stars is asked of the sources in
it: on the ground they stand still while the sky's move.
"""

import cv2
import numpy as np
import numpy.typing as npt
from scipy.spatial import cKDTree

from vinter.core.stack.masking.basics import EMPTY_OF_STARS, SURE_COUNT, disc, log_light

Array = npt.NDArray[np.float64]
F32 = npt.NDArray[np.float32]
U8 = npt.NDArray[np.uint8]
WORKING_PX = 1000  # px across at which texture and light are looked at
STAR_PX = 7  # working px about a source that tell nothing of the texture
FINE, COARSE = 1.5, 10.0  # working px, standard deviations: of what is left out and held against
OVER = 4.0  # working px, standard deviation, over which the texture is summed
CALMEST = 15  # percentile of the texture near sources: the sky's
TEXTURED, LEAST_TEXTURE = 5.0, 0.02  # times the calmest, and natural log, from which a place is textured
UNSURE_PX = 14  # working px about textured ground that may be sky or ground
CARRY = 10.0  # working px, standard deviation, over which the sky's light is carried on
SLOPE_TIMES = 3  # times as far the slope of that light is looked at
LIKE, LEAST_LIKE = 5.0, 0.03  # times the sky's scatter, and natural log, within which light is the sky's
STEPS = 12  # at most, in which the sky grows into what was unsure
SETTLED = 50  # px by which it no longer grows
SAME_PX = 2.0  # full-size px within which a source stands: a patch of light is placed no better
STANDING, STANDING_TIMES = 0.3, 2.0  # share of a ground's sources that stand, and against the sky's
FEWEST = 8  # sources by which a ground is judged
LEAST_SHARE = 0.005  # share of the frame under which there is no such ground


def _mean_of(values: F32, weights: F32, reach: float, there: F32 | None = None) -> F32:
    """Weighted mean of the values about every place, of which ``there`` tells how much weight stands about
    it."""
    total = cv2.GaussianBlur(values * weights, (0, 0), reach)
    there = cv2.GaussianBlur(weights, (0, 0), reach) if there is None else there
    return np.asarray(total / np.maximum(there, 1e-4), np.float32)


def _factor(plane: F32) -> int:
    return max(round(float(plane.shape[1]) / WORKING_PX), 1)


def _reduced(plane: F32) -> F32:
    f = _factor(plane)
    size = (plane.shape[1] // f, plane.shape[0] // f)
    return np.asarray(cv2.resize(plane, size, interpolation=cv2.INTER_AREA), np.float32)


def textured(mean_plane: F32, sources: Array) -> U8:
    """Places (1; half size) whose texture no sky has, joined to the lower edge.

    mean_plane: mean of the unmoved frames' half-size greens above black (any unit); sources: places
    (full-size px) of all that was taken for a star in those frames.
    """
    nothing = np.zeros(mean_plane.shape, np.uint8)
    if len(sources) < FEWEST:
        return nothing
    small = _reduced(mean_plane)
    log = log_light(small)
    x, y = (
        np.clip(sources / (2 * _factor(mean_plane)), 0, [small.shape[1] - 1, small.shape[0] - 1])
        .astype(int)
        .T
    )
    star = np.zeros(small.shape, np.uint8)
    star[y, x] = 1
    free = np.asarray(1 - cv2.dilate(star, disc(STAR_PX)), np.float32)
    fine = _mean_of(np.asarray(cv2.medianBlur(log, 5), np.float32), free, FINE)
    band = np.where(cv2.GaussianBlur(free, (0, 0), FINE) > 0.05, fine - _mean_of(log, free, COARSE), 0)
    texture = np.sqrt(_mean_of(np.asarray(band**2, np.float32), free, OVER))
    near = (cv2.dilate(star, disc(3 * STAR_PX)) > 0) & (free > 0)
    if not near.any():
        return nothing
    limit = max(TEXTURED * float(np.percentile(texture[near], CALMEST)), LEAST_TEXTURE)
    rough = cv2.morphologyEx((texture > limit).astype(np.uint8), cv2.MORPH_CLOSE, disc(6))
    rough = _from_below(np.asarray(cv2.morphologyEx(rough, cv2.MORPH_OPEN, disc(5)), np.uint8))
    if rough.mean() < LEAST_SHARE:
        return nothing
    return np.asarray(cv2.resize(rough, mean_plane.shape[::-1], interpolation=cv2.INTER_NEAREST), np.uint8)


def _from_below(ground: U8) -> U8:
    """The parts of a ground (1) that reach the lower edge."""
    _, labels = cv2.connectedComponents(ground, connectivity=4)
    low = np.unique(labels[-1][ground[-1] > 0])
    return np.asarray(np.isin(labels, low[low > 0]), np.uint8)


def stands(body: U8, first: Array, last: Array) -> bool:
    """Whether the sources in a body (1; half size) stand still while those elsewhere move: ``first`` and
    ``last`` are their places (full-size px) in two frames far apart. With too few to tell, whether the body
    has far fewer than the rest would give it."""
    if not len(first) or not len(last):
        return False
    away, _ = cKDTree(last).query(first)
    x, y = np.clip(first / 2, 0, [body.shape[1] - 1, body.shape[0] - 1]).astype(int).T
    inside = body[y, x] > 0
    if inside.sum() < FEWEST:
        wanted = (~inside).sum() * body.mean() / max(1 - float(body.mean()), 0.05)
        return bool(wanted > SURE_COUNT and inside.sum() < EMPTY_OF_STARS * wanted)
    still, others = (float((away[m] < SAME_PX).mean()) if m.any() else 0.0 for m in (inside, ~inside))
    return still > STANDING and still > STANDING_TIMES * others


def _carried(calm: F32, known: F32) -> tuple[F32, F32]:
    """What is known carried on to first order, and how much of it stands about each place."""
    rows, columns = calm.shape
    gy, gx = np.mgrid[:rows, :columns].astype(np.float32)
    there = np.asarray(cv2.GaussianBlur(known, (0, 0), CARRY), np.float32)
    value, x, y = (_mean_of(v, known, CARRY, there) for v in (calm, gx, gy))
    few = tuple(np.ascontiguousarray(v[::4, ::4]) for v in (calm, gx, gy, known))  # a slope is smooth
    part, px, py, weight = few
    reach = CARRY * SLOPE_TIMES / 4
    near = np.asarray(cv2.GaussianBlur(weight, (0, 0), reach), np.float32)
    m, mx, my = (_mean_of(v, weight, reach, near) for v in (part, px, py))
    sxx, syy, sxy = (
        _mean_of(np.asarray((a - ma) * (b - mb), np.float32), weight, reach, near)
        for a, ma, b, mb in ((px, mx, px, mx), (py, my, py, my), (px, mx, py, my))
    )
    sxv, syv = (
        _mean_of(np.asarray((a - ma) * (part - m), np.float32), weight, reach, near)
        for a, ma in ((px, mx), (py, my))
    )
    det = np.maximum(sxx * syy - sxy * sxy, 1e-3 * (4 * reach) ** 4)
    slopes = (
        cv2.resize(np.asarray(s / det, np.float32), (columns, rows), interpolation=cv2.INTER_LINEAR)
        for s in (syy * sxv - sxy * syv, sxx * syv - sxy * sxv)
    )
    ax, ay = slopes
    return np.asarray(value + ax * (gx - x) + ay * (gy - y), np.float32), there


def _grown(calm: F32, sure: U8, steps: int) -> U8:
    """Sky (1) grown from where it is sure to wherever the light is as the sky's, carried on, would be."""
    soft = cv2.GaussianBlur(calm, (0, 0), 0.8)
    sky, before = sure, 0
    surface, _ = _carried(calm, sky.astype(np.float32))
    off = (soft - surface)[sky > 0]
    limit = max(LIKE * 1.4826 * float(np.median(np.abs(off - np.median(off)))), LEAST_LIKE)
    for _ in range(steps):
        surface, there = _carried(calm, sky.astype(np.float32))
        like = ((np.abs(soft - surface) < limit) & (there > 0.02)).astype(np.uint8)
        like = cv2.morphologyEx(like, cv2.MORPH_OPEN, disc(2))
        _, labels = cv2.connectedComponents(np.maximum(sure, like), connectivity=4)
        outer = np.unique(labels[sure > 0])
        sky = np.isin(labels, outer[outer > 0]).astype(np.uint8)
        if abs(int(sky.sum()) - before) < SETTLED:
            break
        before = int(sky.sum())
    return np.asarray(sky, np.uint8)


def carried_on(mean_plane: F32, sure: U8) -> U8:
    """Where (1; half size) there is sky by its light: from where it is sure on, wherever the light is as that
    of the sky, carried on, would be, without a step between."""
    size = _reduced(mean_plane).shape[::-1]
    calm = np.asarray(cv2.medianBlur(log_light(_reduced(mean_plane)), 5), np.float32)
    small = cv2.erode(cv2.resize(sure, size, interpolation=cv2.INTER_NEAREST), disc(2))
    if not small.any():
        return sure
    grown = _grown(calm, np.asarray(small, np.uint8), STEPS)
    return np.asarray(cv2.resize(grown, sure.shape[::-1], interpolation=cv2.INTER_NEAREST), np.uint8)


def outlined(body: U8, mean_plane: F32) -> U8:
    """A rough ground (1; half size) brought to its true outline: what is not lit as the sky around it."""
    f = _factor(mean_plane)
    rough = cv2.resize(body, _reduced(mean_plane).shape[::-1], interpolation=cv2.INTER_NEAREST)
    calm = np.asarray(cv2.medianBlur(log_light(_reduced(mean_plane)), 5), np.float32)
    sure = np.asarray(1 - cv2.dilate(rough, disc(UNSURE_PX)), np.uint8)
    if not sure.any():
        return body
    sky = _grown(calm, sure, STEPS)
    if f > 1:  # the last pixels at the plane's own size
        wide = cv2.resize(sky, mean_plane.shape[::-1], interpolation=cv2.INTER_NEAREST)
        sure = np.asarray(cv2.erode(wide, disc(2 * f)), np.uint8)
        near = np.asarray(cv2.dilate(wide, disc(2 * f)), np.uint8)
        fine = np.asarray(cv2.medianBlur(log_light(mean_plane), 5), np.float32)
        sky = np.asarray(_grown(fine, sure, 2) & near, np.uint8)
    ground = cv2.morphologyEx(np.asarray(1 - sky, np.uint8), cv2.MORPH_CLOSE, disc(4))
    return _from_below(np.asarray(cv2.morphologyEx(ground, cv2.MORPH_OPEN, disc(1)), np.uint8))


def light_ground(mean_plane: F32, sources: list[Array]) -> U8:
    """Ground (1; half size) told by its texture, with its true outline; nothing where there is none.

    mean_plane: as in ``textured``; sources: for each of those frames, in the order they were taken, places
    (full-size px) of all that was taken for a star.
    """
    if not sources:
        return np.zeros(mean_plane.shape, np.uint8)
    body = textured(mean_plane, np.concatenate(sources))
    if not body.any() or body.all() or not stands(body, sources[0], sources[-1]):
        return np.zeros(mean_plane.shape, np.uint8)
    return outlined(body, mean_plane)
