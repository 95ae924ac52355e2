"""How much of each pixel is sky: along the edge of the ground what the picture itself shows."""

import cv2
import numpy as np
import numpy.typing as npt

F32 = npt.NDArray[np.float32]
EDGE_PX = 7  # px about the mask's edge that are looked at
BESIDE_PX = (31, 121)  # px from which sky and ground beside it are known, the nearest first
UNEVEN = 1.5  # times the scatter of the ground's light by which it may be brighter than nearby
LEAST_BESIDE = 0.02  # share of that window that must be sky, and ground
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
    out = mask.copy()
    out[part] = np.where(fair, share, m)
    return out
