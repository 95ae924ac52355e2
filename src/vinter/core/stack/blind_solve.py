"""Where a picture points when nothing is known of it: patterns of its brightest stars against patterns of the
catalogue's, for every focal length that a camera may have.

Three stars are known by the three angles between them. The catalogue's bright stars make some hundred
thousand such triangles of a few sizes; a picture's make a few hundred for each focal length that is tried. A
match gives a pose, and the pose is believed when the picture's other stars stand where the catalogue has
some.
"""

from collections.abc import Iterator
from dataclasses import dataclass
from functools import lru_cache
from itertools import chain, combinations

import numpy as np
import numpy.typing as npt
from scipy.spatial import cKDTree
from scipy.special import bdtrc

from vinter.core.camera.projection import radial_rays
from vinter.core.sky.catalogue import stars_to
from vinter.core.stack.plate_solve import FINE_FAINTEST, FINE_REACH, FINE_STARS, Solution, solve_turned
from vinter.core.stack.star_map import agreed, star_map

Array = npt.NDArray[np.float64]
Ints = npt.NDArray[np.intp]


@dataclass(frozen=True)
class Band:
    """Triangles of one size: sides between two angles (degrees) of stars to a V magnitude, for frames up to a
    diagonal (degrees); ``beside`` is the V of the stars by which a pose is believed."""

    shortest: float
    longest: float
    faintest: float
    widest: float
    beside: float


BANDS = (Band(2.0, 11.0, 5.6, 34.0, 6.3), Band(7.0, 34.0, 4.1, 200.0, 5.6))
BRIGHTEST = 18  # stars of a picture that make triangles
JUDGES = 60  # stars of a picture that a pose is judged by
STEP = 0.016  # relative step from one focal length that is tried to the next
NARROWEST, WIDEST = 10.0, 125.0  # degrees across the diagonal of the frames that are tried
KNOWN = 0.07  # relative error that the focal length of a named lens may have
SIDE_ERROR, SIDE_FLOOR = 0.010, 0.03  # of a side, and degrees, by which sides may differ
NEAR = 0.006  # share of the diagonal within which a star of the catalogue matches one of the picture
LEAST_JUDGED = 9  # stars that must agree
SURE = 1e-7  # chance of an accidental match under which a pose is fitted
MOST_FITTED = 3  # poses of a focal length that are fitted
SURE_MATCHES, SURE_RMS = 14, 1.4  # of the fitted field: stars, px


@lru_cache(maxsize=len(BANDS))
def _triangles(band: Band) -> tuple[cKDTree, Ints, Array]:
    """A tree of the sides (degrees, longest first) of the catalogue's triangles, and their stars, each
    opposite to its side."""
    vectors, _, _ = stars_to(band.faintest)
    cosines = np.clip(vectors @ vectors.T, -1, 1)
    near = (cosines < np.cos(np.radians(band.shortest))) & (cosines > np.cos(np.radians(band.longest)))
    rows = []
    for i in range(len(vectors)):
        others = np.flatnonzero(near[i])
        others = others[others > i]
        j, k = np.nonzero(np.triu(near[np.ix_(others, others)], 1))
        rows.append(np.c_[np.full(len(j), i), others[j], others[k]])
    corners = np.concatenate(rows)
    sides, order = _sides(vectors[corners])
    return cKDTree(sides), np.take_along_axis(corners, order, axis=1), vectors


def _sides(corners: Array) -> tuple[Array, Ints]:
    """Sides (n, 3) in degrees, longest first, of triangles of unit vectors (n, 3, 3), and the corners
    opposite."""
    a, b, c = corners[:, 0], corners[:, 1], corners[:, 2]
    cosines = np.stack([(b * c).sum(1), (c * a).sum(1), (a * b).sum(1)], axis=1)
    sides = np.degrees(np.arccos(np.clip(cosines, -1, 1)))
    order = np.argsort(-sides, axis=1)
    return np.take_along_axis(sides, order, axis=1), order


def _focal_lengths(size: tuple[int, int], known: float | None) -> Iterator[float]:
    """Focal lengths (px) to try: about the one that is named, then all from the usual ones outwards."""
    diagonal = float(np.hypot(*size))

    def of_angle(degrees: float) -> float:
        return diagonal / 2 / float(np.tan(np.radians(degrees / 2)))

    if known:
        near = np.arange(-KNOWN, KNOWN + STEP / 2, STEP)
        yield from (known * (1 + float(v)) for v in near[np.argsort(np.abs(near))])
    usual = of_angle(75.0)
    least, most = of_angle(WIDEST), of_angle(NARROWEST)
    steps = np.arange(np.log(least), np.log(most), STEP)
    for value in np.exp(steps[np.argsort(np.abs(steps - np.log(usual)), kind="stable")]):
        yield float(value)


def solve_blind(
    star_xy: Array, size: tuple[int, int], focal_px: float | None = None, zenith: Array | None = None
) -> Solution | None:
    """Solve a picture of ``size`` (width, height) from its stars alone, brightest first (n, 2) px.

    ``focal_px`` narrows the search where a lens is named, to 7 % at first; ``zenith`` (ICRS) lets the air's
    bending into the fit. None when no pose is believed. A picture that is mirrored, as front cameras write
    it, is not solved: mirror it.
    """
    found = np.asarray(star_xy, float)
    if len(found) < LEAST_JUDGED:
        return None
    for focal in _focal_lengths(size, focal_px):
        for turn in _poses(found, size, focal):
            solution = solve_turned(found, turn, (focal, 0.0), size, zenith)
            if solution and sure(solution, found):
                return solution
    return None


def sure(solution: Solution, found: Array, faintest: float = FINE_FAINTEST) -> bool:
    """Whether more stars stand beside the catalogue's (to a V magnitude) than chance puts there, and nearer
    than chance would."""
    if solution.matched < SURE_MATCHES or solution.rms_px > SURE_RMS:
        return False
    x, y, front = solution.places(stars_to(faintest)[0])
    inside = front & (x > 0) & (x < solution.width) & (y > 0) & (y < solution.height)
    area = np.pi * FINE_REACH**2 / (solution.width * solution.height)
    chance = min(len(found[:FINE_STARS]) * area, 0.5)
    return solution.matched > by_chance(int(inside.sum()), chance)


def by_chance(count: int, chance: float) -> int:
    """How many of ``count`` agree by accident no more often than once in ten million times."""
    return int(np.argmax(bdtrc(np.arange(count + 1), count, chance) <= SURE))


def _poses(found: Array, size: tuple[int, int], focal: float) -> list[Array]:
    """Poses for one focal length that the picture's stars agree with, the best first."""
    centre = ((size[0] - 1) / 2, (size[1] - 1) / 2)
    rays = radial_rays(found[:JUDGES], focal, 0.0, centre)
    return poses_of(rays, 2 * float(np.degrees(np.arctan(np.hypot(*size) / 2 / focal))))


def poses_of(rays: Array, diagonal: float, brightest: int = BRIGHTEST) -> list[Array]:
    """Poses under which rays (n, 3; brightest star first) of a picture of some degrees across its diagonal
    agree with the catalogue, the best first; from triangles of the ``brightest`` ones."""
    band = next((b for b in BANDS if diagonal <= b.widest), BANDS[-1])
    corners = _corners(min(brightest, len(rays)))
    sides, order = _sides(rays[corners])
    fits = (sides[:, 0] < band.longest) & (sides[:, 2] > band.shortest)
    if not fits.any():
        return []
    sides, mine = sides[fits], np.take_along_axis(corners[fits], order[fits], axis=1)
    tree, theirs, vectors = _triangles(band)
    hits = tree.query_ball_point(sides, SIDE_ERROR * sides[:, 0] + SIDE_FLOOR)
    count = np.array([len(h) for h in hits])
    if not count.sum():
        return []
    which = np.repeat(np.arange(len(sides)), count)
    wanted = theirs[np.fromiter(chain.from_iterable(hits), np.intp, count.sum())]
    turns = _turns(rays[mine[which]], vectors[wanted])
    return _believed(rays, turns, band, NEAR * diagonal)


@lru_cache(maxsize=16)
def _corners(count: int) -> Ints:
    return np.array(list(combinations(range(count), 3)), np.intp)


def _turns(rays: Array, vectors: Array) -> Array:
    """Rotations (m, 3, 3) that take three vectors each (n, 3, 3) to rays; those of mirrored triangles left
    out."""

    def frame(corners: Array) -> Array:
        first = corners[:, 0] + corners[:, 1] + corners[:, 2]
        first /= np.sqrt(np.einsum("ni,ni->n", first, first))[:, None]
        across = corners[:, 0] - np.einsum("ni,ni->n", corners[:, 0], first)[:, None] * first
        across /= np.sqrt(np.einsum("ni,ni->n", across, across))[:, None]
        return np.stack([first, across, np.cross(first, across)], axis=1)

    def hand(corners: Array) -> Array:
        (ax, ay, az), (bx, by, bz), (cx, cy, cz) = corners.transpose(1, 2, 0)
        return np.asarray((ay * bz - az * by) * cx + (az * bx - ax * bz) * cy + (ax * by - ay * bx) * cz > 0)

    same = hand(rays) == hand(vectors)
    return np.asarray(np.einsum("nij,nik->njk", frame(rays[same]), frame(vectors[same])))


def _believed(rays: Array, turns: Array, band: Band, near: float) -> list[Array]:
    """Of rotations those under which enough of the picture's stars have one of the catalogue's beside them
    that it is no chance; the best first."""
    stars = stars_to(band.beside)[0]
    chance = min(len(stars) * (1 - np.cos(np.radians(near))) / 2, 0.5)
    seen = agreed(rays, turns, star_map(band.beside), near, _least(len(rays), chance))
    best = np.argsort(-seen, kind="stable")[:MOST_FITTED]
    return [turns[k] for k in best if seen[k]]


def _least(count: int, chance: float) -> int:
    """How many of ``count`` stars must agree, so that they do by accident once in ten million poses."""
    return max(by_chance(count, chance) + 1, LEAST_JUDGED)
