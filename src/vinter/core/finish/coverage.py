"""How much of each pixel is sky: along the edge of the ground what the picture itself shows."""

import cv2
import numpy as np
import numpy.typing as npt

F32 = npt.NDArray[np.float32]
EDGE_PX = 7  # px about the mask's edge that are looked at
BESIDE_PX = (31, 121)  # px from which sky and ground beside it are known, the nearest first
UNEVEN = 1.5  # times the scatter of the ground's light by which it may be brighter than nearby
LEAST_BESIDE = 0.02  # share of that window that must be sky, and ground
SPREAD_PX = 8  # px from the skyline into the ground up to which the lens may spread light of the sky
ALONG_PX = 31  # px of skyline whose light is taken together
LEAST_ALONG = 200  # px of skyline at one distance that tell how much it spreads
MORE = 1.4  # times as much as usual that may shine into a place, by where in its row the skyline lies
MOST_SPREAD = 0.25  # share of the sky's light a pixel away that is still the lens's doing
LEAF, LEAF_SIGMAS = 0.12, 5.0  # share of the sky's light, and its scatter, by which a leaf is darker
LEAF_PX = 61  # px across about the ground in which there are leaves
STAR = 1.5  # times the sky's light beside a place, over which it is a star
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
    # stars and lamps count as no more than half as bright again as the sky beside: a town's dome is brighter
    # than the rest of the sky
    middle = np.float32(np.median(light[m > 0.5]))
    calm = np.minimum(light, STAR * np.maximum(_beside(light, sure[0])[0], middle)).astype(np.float32)
    (above, high), (below, low) = (_beside(calm, s) for s in sure)
    # twigs hold no place that is surely ground: the darkest one about them shows what light they have, and
    # the picture's other ground what they have where none of them is wide enough to be seen by itself
    twigs = low <= LEAST_BESIDE
    # leaves and twigs that the mask passed over
    leaves = _leaves(light, np.where(high > LEAST_BESIDE, above, 0), m, sure[0] > 0)
    near |= cv2.dilate(leaves.astype(np.uint8), np.ones((EDGE_PX,) * 2)) > 0
    dark = np.where((m < 0.5) | leaves, light, np.inf).astype(np.float32)
    darkest = cv2.erode(dark, np.ones((2 * EDGE_PX + 1,) * 2))
    usual = float(np.median(light[sure[1] > 0])) if sure[1].any() else np.inf
    below = np.where(twigs, np.minimum(np.minimum(darkest, usual), above), below)
    apart = above - below
    # ground is lit unevenly: only what is brighter than it usually is nearby is the sky's
    uneven = np.sqrt(np.maximum(_beside(np.asarray(np.minimum(light, above) ** 2), sure[1])[0] - below**2, 0))
    brightest = np.minimum(below + np.where(twigs, 0, UNEVEN * uneven), above - 0.5 * apart)
    share = np.clip((light - brightest) / np.maximum(above - brightest, 1e-12), 0, 1)
    fair = near & (high > LEAST_BESIDE) & (apart > APART * above)
    along = np.where(fair, share, m).astype(np.float32)
    out = mask.copy()
    lit = np.asarray((light - below) / np.maximum(apart, 1e-12), np.float32)
    out[part] = _spread(along, lit, fair & ~twigs)
    return out


def _leaves(light: F32, above: F32, mask: F32, sky: npt.NDArray[np.bool_]) -> npt.NDArray[np.bool_]:
    """Places near the ground that the mask takes for sky and that are darker than the sky beside them."""
    against = cv2.blur(light, (3, 3)) / np.maximum(above, 1e-12)
    plain = against[sky & (above > 0)][::7]
    if not plain.size:
        return np.zeros(light.shape, np.bool_)
    middle = float(np.median(plain))
    scatter = 1.4826 * float(np.median(np.abs(plain - middle)))
    near = cv2.dilate((mask < 0.5).astype(np.uint8), np.ones((LEAF_PX,) * 2)) > 0
    darker = against < middle - max(LEAF, LEAF_SIGMAS * scatter)
    return np.asarray(darker & near & (above > 0) & (mask >= 0.5))


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
            out[along] = np.maximum(share, np.clip(about, 0, MORE * more))[along]
    return out
