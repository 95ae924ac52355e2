"""What moves with the sky and what does not: ground that brightness alone cannot tell from sky.

The same frames are laid over each other twice, as they lie and as the stars lie. Sky is where only the second
agrees; ground, water with its reflections and swaying branches are where the second disagrees.
"""

from itertools import pairwise

import cv2
import numpy as np
import numpy.typing as npt

Array = npt.NDArray[np.float64]
F32 = npt.NDArray[np.float32]
U8 = npt.NDArray[np.uint8]
WORKING_PX = 1000
WINDOW = 9.0  # working px over which differences are collected
SEEN = 0.35  # share of the noise beyond which a difference counts
NOT_SKY = 0.45  # share of the difference that is left when the stars are laid on each other
BRIGHTEST = 30.0  # times the noise, that a place's detail counts as at most: one star is no texture
STANDING = 0.7  # share of a mean's noise by which a texture that stands still shows


def shrunk(plane: F32, homography: Array) -> tuple[F32, Array, int]:
    """A half-size plane and a full-size homography at the working size, and the factor between half size and
    it."""
    factor = max(round(plane.shape[1] / WORKING_PX), 1)
    small = cv2.resize(
        plane, (plane.shape[1] // factor, plane.shape[0] // factor), interpolation=cv2.INTER_AREA
    )
    f = 2 * factor
    up = np.array([[f, 0, f / 2 - 0.5], [0, f, f / 2 - 0.5], [0, 0, 1]])
    return np.asarray(small, np.float32), np.asarray(np.linalg.inv(up) @ homography @ up), factor


def _fine(plane: F32) -> F32:
    """A plane without what is smooth."""
    return np.asarray(plane - cv2.GaussianBlur(plane, (0, 0), 4.0), np.float32)


def _noise(level: F32, square: F32) -> F32:
    """Variance that noise alone gives at each level, from the calmest half of the places at that level."""
    edges = np.quantile(level, np.linspace(0, 1, 9))
    rows = [
        (float(level[m].mean()), float(np.quantile(square[m], 0.3)) / 0.1485)
        for a, b in pairwise(edges)
        if (m := (level >= a) & (level <= b)).sum() > 200
    ]
    if len(rows) < 2:
        return np.full_like(level, max(float(np.median(square)) / 0.455, 1e-9))
    x, v = np.array(rows).T
    return np.asarray(np.interp(level, x, np.maximum(v, 1e-9)), np.float32)


def left_over(planes: list[F32], homographies: list[Array]) -> tuple[F32, F32, F32]:
    """Differences between frames as they lie, and as the stars lie, over what noise gives (0: noise alone),
    at working size; and by how much more detail the mean of the frames as they lie holds than their mean laid
    by the stars, over the noise of a mean.

    The differences are collected over a window in every frame and then the median of the frames is taken, so
    that what crosses one frame only does not count. The means find a faint texture that no single frame shows
    over its noise.
    """
    small = [shrunk(p, h) for p, h in zip(planes, homographies, strict=True)]
    still = [_fine(p) for p, _, _ in small]
    size = still[0].shape[::-1]
    moved = [
        np.asarray(
            cv2.warpPerspective(f, h, size, flags=cv2.INTER_CUBIC, borderMode=cv2.BORDER_REPLICATE),
            np.float32,
        )
        for f, (_, h, _) in zip(still, small, strict=True)
    ]
    level = cv2.GaussianBlur(np.asarray(np.mean([p for p, _, _ in small], axis=0), np.float32), (0, 0), 4.0)
    scale = len(planes) / (len(planes) - 1)
    out: list[F32] = []
    for group in (still, moved):
        mean = np.mean(group, axis=0)
        squares = [np.asarray((g - mean) ** 2 * scale, np.float32) for g in group]
        if not out:
            noise = _noise(level, squares[0])
        collected = [cv2.GaussianBlur(s / noise, (0, 0), WINDOW) for s in squares]
        out.append(np.asarray(np.maximum(np.median(collected, axis=0) - 1, 0), np.float32))
    of_mean = noise / len(planes)
    detail = [np.minimum(np.mean(group, axis=0) ** 2 / of_mean, BRIGHTEST) for group in (still, moved)]
    standing = cv2.GaussianBlur(np.asarray(detail[0] - detail[1], np.float32), (0, 0), WINDOW)
    return out[0], out[1], np.asarray(standing, np.float32)


def not_sky(planes: list[F32], homographies: list[Array]) -> tuple[U8, U8]:
    """Places (1) that surely are no sky, and places that surely are, at the planes' own half size."""
    still, moved, standing = left_over(planes, homographies)
    seen = still + moved > SEEN
    share = moved / np.maximum(still + moved, 1e-6)
    size = planes[0].shape[::-1]
    stood = standing > STANDING
    ground = ((seen & (share > NOT_SKY)) | stood).astype(np.uint8)
    sky = (seen & (share < 0.6 * NOT_SKY) & ~stood).astype(np.uint8)
    return tuple(
        np.asarray(cv2.resize(m, size, interpolation=cv2.INTER_NEAREST), np.uint8) for m in (ground, sky)
    )  # type: ignore[return-value]


def bordered(ground: U8, sky: U8, picture: F32) -> U8:
    """Ground (1) grown from sure places to the edges of a picture, half size; what is sure stays.

    ``ground`` and ``sky`` are sure places; everything between is given to one of them by a watershed on the
    picture's edges.
    """
    log = np.log(np.maximum(cv2.GaussianBlur(picture, (0, 0), 1.2), 1e-6))
    low, high = np.percentile(log[::4, ::4], (1, 99.5))
    grey = np.clip(255 * (log - low) / max(float(high - low), 1e-6), 0, 255).astype(np.uint8)
    markers = np.zeros(ground.shape, np.int32)
    markers[sky > 0], markers[ground > 0] = 1, 2
    cv2.watershed(cv2.cvtColor(grey, cv2.COLOR_GRAY2BGR), markers)
    found = (markers[1:-1, 1:-1] == 2).astype(np.uint8)  # the watershed leaves a border of its own
    return np.asarray(
        cv2.medianBlur(cv2.copyMakeBorder(found, 1, 1, 1, 1, cv2.BORDER_REPLICATE), 5), np.uint8
    )
