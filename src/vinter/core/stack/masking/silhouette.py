"""Dark ground against the sky in detail: gaps between branches are sky, twigs and leaves are ground.

The sky's light is smooth; carried over the ground it says of every place near it how much darker it is than
the sky behind would be.
"""

from collections.abc import Callable

import cv2
import numpy as np
import numpy.typing as npt

F32 = npt.NDArray[np.float32]
U8 = npt.NDArray[np.uint8]
Piece = npt.NDArray[np.bool_]
REACHES = (90.0, 30.0, 10.0)  # half-size px over which the sky's light is carried, the nearest last
REDUCED = 4  # times smaller at which what is carried far is worked out
LEAST_KNOWN = 0.05  # share of a reach that must be sky
SOFT = 0.7  # half-size px, standard deviation: less of it hides twigs, more shows noise
DARK, DARK_SIGMAS = 0.35, 5.0  # natural log, and the sky's scatter, under the sky's light: ground
FAINTER, FAINTER_SIGMAS = 0.22, 3.0  # the same within which a place is as light as the sky, below
BRIGHTER, BRIGHTER_SIGMAS = 0.5, 6.0  # and above: stars
EDGE_PX = 6  # half-size px by which the sky may reach into the ground's edge
LEAF_PX = 7  # half-size px between leaves over which they are one crown
FRAMED_PX = 25  # half-size px of ground from its border in which sky may shine through
LEAST_GAP = 4  # px of a gap between leaves
MANY_PX = 400  # px of a gap from which its stars are asked for
BORDER_PX = 2  # half-size px of sky beside ground that may be partly ground
GROUND_PX = 12  # half-size px over which the ground's own light is looked at
DARKEST = 0.4  # of the sky's light, over which ground is not dark
LEAST_DARK = 0.2  # share of the ground round about that must not be as light as the sky
DARK_MEAN = 0.55  # natural log under the sky's light in the mean, from which ground is dark
NO_SKY, ALL_SKY = 0.12, 0.9  # shares of sky that are none and all
ALL_ROUND = 0.7  # share of a large gap's frame that must be darker than the sky
SLIT_PX = 3  # half-size px, half the width of what shines through a wall
RING_PX = 3  # half-size px around a gap in which its frame is looked at


def _disc(radius: int) -> U8:
    size = 2 * radius + 1
    return np.asarray(cv2.getStructuringElement(cv2.MORPH_ELLIPSE, (size, size)), np.uint8)


def sky_level(log: F32, known: U8) -> F32:
    """The sky's light where it is known (1), carried to all other places from as near as there is some."""
    out = np.zeros_like(log)
    share = known.astype(np.float32)
    size = (log.shape[1], log.shape[0])
    for k, reach in enumerate(REACHES):
        f = REDUCED if reach > REDUCED * REACHES[-1] / 2 else 1
        small = (size[0] // f, size[1] // f)
        light, weight = (
            cv2.GaussianBlur(cv2.resize(v, small, interpolation=cv2.INTER_AREA), (0, 0), reach / f)
            for v in (log * share, share)
        )
        value = cv2.resize(light / np.maximum(weight, 1e-6), size, interpolation=cv2.INTER_LINEAR)
        near = cv2.resize(weight, size, interpolation=cv2.INTER_LINEAR) > LEAST_KNOWN
        out = np.where(near, value, out) if k else value
    return np.asarray(out, np.float32)


def _joined(pieces: U8, seed: U8) -> U8:
    """The seed (1) with the pieces that touch it."""
    both = np.maximum(pieces, seed)
    _, labels = cv2.connectedComponents(both, connectivity=8)
    wanted = np.unique(labels[seed > 0])
    return np.asarray(np.isin(labels, wanted[wanted > 0]), np.uint8)


def in_detail(ground: U8, picture: F32, starless: Callable[[Piece, Piece], bool]) -> F32:
    """Share of sky (0 to 1) of ground (1; half size) with the gaps and the twigs that the picture (same
    size, any unit) shows against the sky; ``starless`` says of a large piece, beside the sky, that it lacks
    a sky's stars.

    Only ground that is dark against the sky changes.
    """
    known = np.asarray(cv2.erode(1 - ground, _disc(4)), np.uint8)
    if not known.any() or not ground.any():
        return np.asarray(1 - ground, np.float32)
    floor = max(float(np.percentile(picture, 90)) * 0.02, 1e-6)
    log = np.log(np.maximum(cv2.GaussianBlur(picture.astype(np.float32), (0, 0), SOFT), floor))
    off = np.asarray(log - sky_level(np.asarray(log, np.float32), known), np.float32)
    scatter = 1.4826 * float(np.median(np.abs(off[known > 0])))
    dark = max(DARK, DARK_SIGMAS * scatter)
    like = (off > -max(FAINTER, FAINTER_SIGMAS * scatter)) & (off < max(BRIGHTER, BRIGHTER_SIGMAS * scatter))
    edge = (cv2.dilate(1 - ground, _disc(EDGE_PX)) > 0) & _is_dark(ground, like, off)
    out = ground.copy()
    out[(_joined((like & edge).astype(np.uint8), known) > 0) & edge] = 0
    out = _with_gaps(out, like, off, dark, starless)
    leaves = np.asarray((off < -dark) & (out == 0), np.uint8)
    crowns = np.asarray(cv2.morphologyEx(leaves, cv2.MORPH_CLOSE, _disc(LEAF_PX)), np.uint8)
    out = np.maximum(out, leaves & _joined(crowns, out))
    return _coverage(out, np.asarray(np.exp(np.minimum(off, 0)), np.float32), _is_dark(out, like, off))


def _coverage(ground: U8, light: F32, dark: Piece) -> F32:
    """Share of sky of each place: 0 or 1, and near the border, where dark ground meets the sky, what the
    light (of the sky's) there says."""
    share = np.asarray(1 - ground, np.float32)
    reach = (2 * GROUND_PX + 1, 2 * GROUND_PX + 1)
    deep = np.asarray((ground > 0) & (light < DARKEST), np.float32)
    weight = cv2.blur(deep, reach)
    below = cv2.blur(light * deep, reach) / np.maximum(weight, 1e-6)
    seen = np.clip((light - below) / np.maximum(1 - below, 1e-3), 0, 1)
    seen = np.where(seen < NO_SKY, 0, np.where(seen > ALL_SKY, 1, seen))
    border = cv2.dilate(ground, _disc(BORDER_PX)) > 0
    framed = cv2.dilate(1 - ground, _disc(FRAMED_PX)) > 0
    light_ground = np.asarray((seen > 0.5) & (ground > 0), np.uint8)
    wide = cv2.morphologyEx(light_ground, cv2.MORPH_OPEN, _disc(SLIT_PX))  # no slit, and not taken for a gap
    fair = border & framed & (weight > LEAST_KNOWN) & dark & (cv2.dilate(wide, _disc(1)) == 0)
    return np.asarray(np.where(fair, seen, share), np.float32)


def _is_dark(ground: U8, like: Piece, off: F32) -> Piece:
    """Where the ground round about, but for what is as light as the sky, is dark against it in the mean."""
    reach = (2 * GROUND_PX + 1, 2 * GROUND_PX + 1)
    other = ((ground > 0) & ~like).astype(np.float32)
    weight = cv2.blur(other, reach)
    enough = weight > LEAST_DARK * cv2.blur(ground.astype(np.float32), reach)  # not so on bright water
    return np.asarray(enough & (cv2.blur(np.clip(off, -2, 1) * other, reach) < -DARK_MEAN * weight))


def _with_gaps(
    ground: U8, like: Piece, off: F32, dark: float, starless: Callable[[Piece, Piece], bool]
) -> U8:
    """Ground without the places as light as the sky that dark ground frames on all sides."""
    out, sky = ground.copy(), ground == 0
    count, labels, stats, _ = cv2.connectedComponentsWithStats(
        (like & (ground > 0)).astype(np.uint8), connectivity=4
    )
    for k in range(1, count):
        x, y, wide, high, area = stats[k]
        if area < LEAST_GAP:
            continue
        m = RING_PX + 1
        part = np.s_[max(y - m, 0) : y + high + m, max(x - m, 0) : x + wide + m]
        here = (labels[part] == k).astype(np.uint8)
        ring = off[part][(cv2.dilate(here, _disc(RING_PX)) > 0) & (here == 0)]
        framed = ring.size > 0 and (np.median(ring) < -dark or np.percentile(ring, 30) < -2 * dark)
        if area > MANY_PX:  # water shines as far below a dark bank: its other side is not dark
            framed &= bool((ring < -FAINTER).mean() > ALL_ROUND) and not starless(labels == k, sky)
        if framed:
            out[part][here > 0] = 0
    return out
