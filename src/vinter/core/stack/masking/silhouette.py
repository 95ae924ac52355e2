"""Dark ground against the sky in detail: gaps between branches are sky, twigs and leaves are ground.

The sky's light is smooth; carried over the ground it says of every place near it how much darker it is than
the sky behind would be.
"""

from collections.abc import Callable

import cv2
import numpy as np
import numpy.typing as npt

from vinter.core.stack.masking.basics import disc, log_light

F32 = npt.NDArray[np.float32]
U8 = npt.NDArray[np.uint8]
Piece = npt.NDArray[np.bool_]
WORKING_PX = 1000  # px across a plane in which lengths are given; a larger one has them in proportion
REACHES = (90.0, 30.0, 10.0)  # working px over which the sky's light is carried, the nearest last
REDUCED = 4  # times smaller at which what is carried far is worked out
LEAST_KNOWN = 0.05  # share of a reach that must be sky
SOFT = 0.7  # px, standard deviation: less of it hides twigs, more shows noise
DARK, DARK_SIGMAS = 0.35, 5.0  # natural log, and the sky's scatter, under the sky's light: ground
FAINTER, FAINTER_SIGMAS = 0.22, 3.0  # the same within which a place is as light as the sky, below
BRIGHTER, BRIGHTER_SIGMAS = 0.5, 6.0  # and above: stars
OFF_GROUND_PX = 4  # working px from the ground that sky must be to be sure
EDGE_PX = 6  # working px by which the sky may reach into the ground's edge
LEAF_PX = 7  # working px between leaves over which they are one crown
FRAMED_PX = 25  # working px of ground from its border in which sky may shine through
LEAST_GAP = 4  # px of a gap between leaves
MANY_PX = 400  # px of a gap from which its stars are asked for
ALONE_PX = 60  # working px from the sky beyond which no smaller gap is taken for one: windows, lamps
BORDER_PX = 2  # working px of sky beside ground that may be partly ground
GROUND_PX = 12  # working px over which the ground's own light is looked at
DARKEST = 0.4  # of the sky's light, over which ground is not dark
LEAST_DARK = 0.2  # share of the ground round about that must not be as light as the sky
DARK_MEAN = 0.55  # natural log under the sky's light in the mean, from which ground is dark
NO_SKY, ALL_SKY = 0.12, 0.9  # shares of sky that are none and all
ALL_ROUND = 0.7  # share of a large gap's frame that must be darker than the sky
BESIDE_PX = 60  # working px about a lump in which the sky's stars are counted
UNSEEN_PX = 3.5  # working px from its border within which a star in a gap may be overlooked
SLIT_PX = 3  # working px, half the width of what shines through a wall
RING_PX = 3  # px around a gap in which its frame is looked at
LAMP_SHARE = 0.12  # of that frame brighter than the sky, from which a place is the edge of a lamp, no gap


def scale_of(plane: npt.NDArray[np.generic]) -> float:
    """Pixels of a plane that are one working pixel."""
    return max(float(plane.shape[1]) / WORKING_PX, 1.0)


def _within(places: U8, px: float) -> Piece:
    """What lies within so many px of some places (1)."""
    away = cv2.distanceTransform(np.asarray(places == 0, np.uint8), cv2.DIST_L2, 3)
    return np.asarray(away <= px)


def sky_level(log: F32, known: U8) -> F32:
    """The sky's light where it is known (1), carried to all other places from as near as there is some."""
    out, scale = np.zeros_like(log), scale_of(log)
    share = known.astype(np.float32)
    size = (log.shape[1], log.shape[0])
    for k, reach in enumerate(REACHES):
        f = REDUCED if reach * scale > REDUCED * REACHES[-1] / 2 else 1
        small = (size[0] // f, size[1] // f)
        light, weight = (
            cv2.GaussianBlur(cv2.resize(v, small, interpolation=cv2.INTER_AREA), (0, 0), reach * scale / f)
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


def in_detail(
    ground: U8, picture: F32, starless: Callable[[Piece, Piece], bool], doubtful: U8 | None = None
) -> F32:
    """Share of sky (0 to 1) of ground (1; half size) with the gaps and the twigs that the picture (same
    size, any unit) shows against the sky; ``starless`` says of a large piece, beside the sky, that it lacks
    a sky's stars.

    Only ground that is dark against the sky changes, and what is ``doubtful`` (1): told by how it moves,
    which twigs that sweep over the sky spoil. Of that is sky what is as light and goes over into it without
    an edge, unless it is wide enough to hold stars and holds none.
    """
    scale = scale_of(ground)
    known = np.asarray(~_within(ground, OFF_GROUND_PX * scale), np.uint8)
    if not known.any() or not ground.any():
        return np.asarray(1 - ground, np.float32)
    log = log_light(np.asarray(cv2.GaussianBlur(picture.astype(np.float32), (0, 0), SOFT), np.float32))
    off = np.asarray(log - sky_level(log, known), np.float32)
    scatter = 1.4826 * float(np.median(np.abs(off[known > 0])))
    dark = max(DARK, DARK_SIGMAS * scatter)
    like = (off > -max(FAINTER, FAINTER_SIGMAS * scatter)) & (off < max(BRIGHTER, BRIGHTER_SIGMAS * scatter))
    edge = _within(1 - ground, EDGE_PX * scale) & _is_dark(ground, like, off)
    out = ground.copy()
    out[(_joined((like & edge).astype(np.uint8), known) > 0) & edge] = 0
    if doubtful is not None and doubtful.any():
        out = _without_lumps(out, np.asarray(doubtful & like, np.uint8), starless)
    out = _with_gaps(out, like, off, dark, starless)
    leaves = np.asarray((off < -dark) & (out == 0), np.uint8)
    wide = np.asarray(_within(leaves, LEAF_PX * scale), np.uint8)
    crowns = np.asarray(~_within(1 - wide, LEAF_PX * scale), np.uint8)
    out = np.maximum(out, leaves & _joined(crowns, out))
    spread = cv2.dilate(_lights(out, off).astype(np.uint8), disc(RING_PX)) > 0  # by the lens, about a lamp
    fair = _is_dark(out, like, off) & ~spread
    return _coverage(out, np.asarray(np.exp(np.minimum(off, 0)), np.float32), fair)


def _coverage(ground: U8, light: F32, dark: Piece) -> F32:
    """Share of sky of each place: 0 or 1, and near the border, where dark ground meets the sky, what the
    light (of the sky's) there says."""
    share = np.asarray(1 - ground, np.float32)
    scale = scale_of(ground)
    reach = (2 * round(GROUND_PX * scale) + 1,) * 2
    deep = np.asarray((ground > 0) & (light < DARKEST), np.float32)
    weight = cv2.blur(deep, reach)
    below = cv2.blur(light * deep, reach) / np.maximum(weight, 1e-6)
    seen = np.clip((light - below) / np.maximum(1 - below, 1e-3), 0, 1)
    seen = np.where(seen < NO_SKY, 0, np.where(seen > ALL_SKY, 1, seen))
    border, framed = _within(ground, BORDER_PX * scale), _within(1 - ground, FRAMED_PX * scale)
    light_ground = np.asarray((seen > 0.5) & (ground > 0), np.uint8)
    wide = cv2.morphologyEx(
        light_ground, cv2.MORPH_OPEN, disc(round(SLIT_PX * scale))
    )  # no slit, and not taken for a gap
    fair = border & framed & (weight > LEAST_KNOWN) & dark & (cv2.dilate(wide, disc(1)) == 0)
    return np.asarray(np.where(fair, seen, share), np.float32)


def _is_dark(ground: U8, like: Piece, off: F32) -> Piece:
    """Where the ground round about, but for what is as light as the sky, is dark against it in the mean."""
    reach = (2 * round(GROUND_PX * scale_of(ground)) + 1,) * 2
    other = ((ground > 0) & ~like).astype(np.float32)
    weight = cv2.blur(other, reach)
    enough = weight > LEAST_DARK * cv2.blur(ground.astype(np.float32), reach)  # not so on bright water
    return np.asarray(enough & (cv2.blur(np.clip(off, -2, 1) * other, reach) < -DARK_MEAN * weight))


def _lacks_stars(piece: Piece, sky: Piece, starless: Callable[[Piece, Piece], bool]) -> bool:
    """Whether a large piece lacks the stars of the sky beside it; near the horizon there are fewer, and
    beside a branch they are overlooked."""
    scale = scale_of(piece)
    if piece.sum() <= MANY_PX * scale**2:
        return False
    beside = _within(piece.astype(np.uint8), BESIDE_PX * scale) & sky
    inner = ~_within(1 - piece.astype(np.uint8), UNSEEN_PX * scale)
    return starless(inner, beside if beside.any() else sky)


def _without_lumps(ground: U8, lumps: U8, starless: Callable[[Piece, Piece], bool]) -> U8:
    """Ground without those lumps (1) that touch the sky and do not lack its stars."""
    sky = np.asarray(1 - ground, np.uint8)
    found = np.asarray(_joined(lumps, sky) & ground, np.uint8)
    count, labels = cv2.connectedComponents(found, connectivity=4)
    out = ground.copy()
    for k in range(1, count):
        piece = labels == k
        if not _lacks_stars(piece, sky > 0, starless):
            out[piece] = 0
    return out


def _lights(ground: U8, off: F32) -> Piece:
    """Lights in the ground that do not touch the sky: lamps and windows, no stars in a gap."""
    lit = np.asarray((off > BRIGHTER) & (ground > 0), np.uint8)
    at_sky = cv2.dilate(np.asarray(1 - ground, np.uint8), disc(RING_PX)) & lit
    return np.asarray((lit > 0) & (_joined(lit, at_sky) == 0))


def _with_gaps(
    ground: U8, like: Piece, off: F32, dark: float, starless: Callable[[Piece, Piece], bool]
) -> U8:
    """Ground without the places as light as the sky that dark ground frames on all sides."""
    out, sky = ground.copy(), ground == 0
    count, labels, stats, _ = cv2.connectedComponentsWithStats(
        (like & (ground > 0)).astype(np.uint8), connectivity=4
    )
    many = MANY_PX * scale_of(ground) ** 2
    near = _within(sky.astype(np.uint8), ALONE_PX * scale_of(ground))
    for k in range(1, count):
        x, y, wide, high, area = stats[k]
        if area < LEAST_GAP:
            continue
        m = RING_PX + 1
        part = np.s_[max(y - m, 0) : y + high + m, max(x - m, 0) : x + wide + m]
        here = labels[part] == k
        around = (cv2.dilate(here.astype(np.uint8), disc(RING_PX)) > 0) & ~here
        ring = off[part][around]
        if (
            not ring.size
            or (area <= many and not near[part][here].any())
            or (ring > BRIGHTER).mean() >= LAMP_SHARE
            or np.median(off[part][here]) > FAINTER
        ):
            continue  # a lamp or a lit window
        framed = np.median(ring) < -dark or np.percentile(ring, 30) < -2 * dark
        if framed and area > many:  # below bright water it is not dark
            framed = (ring < -FAINTER).mean() > ALL_ROUND and not _lacks_stars(labels == k, sky, starless)
        if framed:
            out[part][here] = 0
    return out
