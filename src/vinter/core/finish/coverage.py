"""How much of each pixel is sky: along the edge of the ground what the picture itself shows."""

import cv2
import numpy as np
import numpy.typing as npt

F32 = npt.NDArray[np.float32]
EDGE_PX = 7  # px about the mask's edge that are looked at
BESIDE_PX = (31, 121)  # px from which sky and ground beside it are known, the nearest first
UNEVEN = 1.5  # times the scatter of the ground's light by which it may be brighter than nearby
LEAST_BESIDE = 0.02  # share of that window that must be sky, and ground
SPREAD_PX = 5  # px from the skyline into the ground up to which the lens may spread light of the sky
ALONG_PX = 31  # px of skyline whose light is taken together
LEAST_ALONG = 200  # px of skyline at one distance that tell how much it spreads
MOST_SPREAD = 0.25  # share of the sky's light a pixel away that is still the lens's doing
APART = 0.25  # share of the sky's light by which the ground must be darker to tell how much of a pixel is sky


def _beside(values: F32, share: F32) -> tuple[F32, F32]:
    """Mean of the values about each place where ``share`` is 1, and how much of it there is: close by, else
    (between leaves) as far as it has to be looked for."""
    mean = weight = np.zeros_like(values)
    for reach in BESIDE_PX:
        there = cv2.blur(share, (reach, reach))
        here = np.asarray(cv2.blur(values * share, (reach, reach)) / np.maximum(there, 1e-6))
        wanted = weight <= LEAST_BESIDE
        mean, weight = np.where(wanted, here, mean), np.where(wanted, there, weight)
    return np.asarray(mean, np.float32), np.asarray(weight, np.float32)


def covered(rgb: F32, mask: F32) -> F32:
    """Share of sky (0 to 1) of each pixel: the mask's, and along its edge what the picture itself shows
    between the ground's light and the sky's, so that what is taken from the sky is taken where it shines.

    Where both are alike, or one of them is not near, the mask stands.
    """
    edge = cv2.dilate(
        ((mask > 0.004) & (mask < 0.996)).astype(np.uint8), np.ones((EDGE_PX, EDGE_PX), np.uint8)
    )
    rows, columns = np.flatnonzero(edge.any(axis=1)), np.flatnonzero(edge.any(axis=0))
    if not len(rows):
        return mask
    part = np.s_[
        max(rows[0] - BESIDE_PX[-1], 0) : rows[-1] + BESIDE_PX[-1] + 1,
        max(columns[0] - BESIDE_PX[-1], 0) : columns[-1] + BESIDE_PX[-1] + 1,
    ]
    light = np.ascontiguousarray(rgb[part].sum(axis=2), np.float32)
    m, near = mask[part], edge[part] > 0
    if not (m > 0.5).any():
        return mask
    sure = [np.asarray((here & ~near).astype(np.float32)) for here in (m > 0.996, m < 0.004)]
    (above, high), (below, low) = (
        _beside(np.minimum(light, 1.5 * np.median(light[m > 0.5])), s) for s in sure
    )
    # twigs hold no place that is surely ground: the darkest one about them shows what light they have
    twigs = low <= LEAST_BESIDE
    darkest = cv2.erode(np.where(m < 0.5, light, np.inf).astype(np.float32), np.ones((2 * EDGE_PX + 1,) * 2))
    below = np.where(twigs, np.minimum(darkest, above), below)
    apart = above - below
    # ground is lit unevenly: only what is brighter than it usually is nearby is the sky's
    uneven = np.sqrt(np.maximum(_beside(np.asarray(np.minimum(light, above) ** 2), sure[1])[0] - below**2, 0))
    brightest = np.minimum(below + np.where(twigs, 0, UNEVEN * uneven), above - 0.5 * apart)
    share = np.clip((light - brightest) / np.maximum(above - brightest, 1e-12), 0, 1)
    fair = near & (high > LEAST_BESIDE) & (apart > APART * above)
    share = np.where(fair, share, m).astype(np.float32)
    out = mask.copy()
    out[part] = _spread(share, (light - below) / np.maximum(apart, 1e-12), fair & ~twigs)
    return out


def _spread(share: F32, lit: F32, fair: npt.NDArray[np.bool_]) -> F32:
    """Shares with the light that the lens spreads from the sky into the first rows of ground: of all places
    along the skyline at one distance the median of the light (0 the ground's, 1 the sky's), which the
    ground's own unevenness does not move, and no more of it than lies about a place."""
    away = cv2.distanceTransform((share < 0.5).astype(np.uint8), cv2.DIST_L2, cv2.DIST_MASK_PRECISE)
    rows = np.ceil(away - 0.5).astype(np.int32)
    told = fair & (share < MOST_SPREAD)
    at = [told & (rows == k) for k in range(1, SPREAD_PX + 1)]
    medians = np.array([float(np.median(lit[a])) if a.sum() >= LEAST_ALONG else 0.0 for a in at])
    falls = np.minimum.accumulate(np.clip(medians - medians[-1], 0, MOST_SPREAD))
    out = share.copy()
    for along, more in zip(at, falls, strict=True):
        if more > 0:
            some = along.astype(np.float32)
            about = cv2.blur(lit * some, (ALONG_PX,) * 2) / np.maximum(cv2.blur(some, (ALONG_PX,) * 2), 1e-6)
            out[along] = np.maximum(share, np.clip(about, 0, more))[along]
    return out
