"""Where a fish-eye picture points, from its stars alone: the blind search with angles from the axis as
distances from the centre.

A lens of that kind shows 180 degrees across the short side of its picture (a circle) up to the diagonal. Its
law is focal (a + k a^3); the centre of the circle is seldom the centre of the picture.
"""

from collections.abc import Iterator
from itertools import product

import numpy as np
import numpy.typing as npt
from scipy.optimize import least_squares
from scipy.spatial import cKDTree
from scipy.spatial.transform import Rotation

from vinter.core.camera.projection import FISH_EYE, fish_pixels, fish_rays
from vinter.core.constants import ARCSEC_PER_RADIAN
from vinter.core.sky.catalogue import stars_to
from vinter.core.sky.refraction import lifted, lowered
from vinter.core.stack.blind_solve import JUDGES, poses_of, sure
from vinter.core.stack.plate_solve import FISH_DEPTH, LEAST_MATCHES, Solution, with_names

Array = npt.NDArray[np.float64]
FAINTEST = 5.5  # V of the stars that a fish-eye picture is fitted to
FIRST_FAINTEST = 4.5  # and at first, while pose and lens are rough
# bend of a law, and where it shows 90 degrees, in focal lengths: equal angles (a), equal areas (2 sin a / 2),
# stereographic (2 tan a / 2)
LAWS = ((0.0, 1.571), (-0.042, 1.414), (0.083, 2.0))
ACROSS = 180.0  # degrees that the circle or the diagonal shows
GOOD = 2.5  # px from the catalogue's star to which one of the picture counts as matched
STEP = 0.012  # relative step from one focal length that is tried to the next
BESIDE = 0.05  # relative margin of the focal lengths that are tried
REACHES = (0.016, 0.010, 0.006, 0.004, 0.004)  # of the diagonal, of the rounds of matching
SCATTER_PX = 0.5  # px of a matched star beyond which it counts less
BRIGHTEST = 40  # stars that make triangles: over a whole sky few of the brightest stand near each other
EDGES = (1.0, 99.0)  # per cent of the stars between which their circle is taken to reach
# of a circle of stars: its height over its width, its size and how far it is aside, in the picture's short
# side; and the stars beyond it against as many as its corners would hold
ROUND, LARGE, ASIDE, EMPTY = 0.85, 0.7, 0.12, 0.2
FEWEST = 16  # stars without which it is not tried


def _lenses(size: tuple[int, int]) -> Iterator[tuple[float, float]]:
    """Focal lengths (px) and bends to try: of a circle that the short side holds, to one that the corners
    touch."""
    for bend, edge in LAWS:
        least, most = min(size) / 2 / edge, float(np.hypot(*size)) / 2 / edge
        for value in np.arange(np.log(least * (1 - BESIDE)), np.log(most * (1 + BESIDE)), STEP):
            yield float(np.exp(value)), bend


def fills_a_circle(star_xy: Array, size: tuple[int, int]) -> bool:
    """Whether stars (n, 2) stand in a circle about the centre of their picture and none in its corners, as
    under a fish-eye lens that shows the whole sky."""
    if len(star_xy) < FEWEST:
        return False
    low, high = np.percentile(star_xy, EDGES, axis=0)
    (wide, tall), centre, short = high - low, (low + high) / 2, min(size)
    off = np.abs(centre - (np.array(size) - 1) / 2).max()
    if not (ROUND < wide / tall < 1 / ROUND and max(wide, tall) > LARGE * short and off < ASIDE * short):
        return False
    beyond = np.hypot(*(star_xy - centre).T) > 0.53 * max(wide, tall)
    x, y = np.meshgrid(np.arange(0, size[0], 8), np.arange(0, size[1], 8))
    corners = float((np.hypot(x - centre[0], y - centre[1]) > 0.53 * max(wide, tall)).mean())
    return bool(beyond.mean() < EMPTY * corners)


def solve_fish_eye(star_xy: Array, size: tuple[int, int]) -> Solution | None:
    """Solve a fish-eye picture of ``size`` (width, height) from its stars alone, brightest first (n, 2) px.

    None when no pose is believed, as for a mirrored picture.
    """
    found = np.asarray(star_xy, float)
    if len(found) < FEWEST:
        return None
    for (focal, bend), centre in product(_lenses(size), _centres(found, size)):
        rays = fish_rays(found[:JUDGES], focal, bend, centre)
        for turn in poses_of(rays, ACROSS, BRIGHTEST):
            solution = _fitted(found, turn, (focal, bend, *centre), size, None)
            if solution and sure(solution, found, FAINTEST):
                return solution
    return None


def _centres(found: Array, size: tuple[int, int]) -> list[tuple[float, float]]:
    """Where the axis may be: in the centre of the picture, or of the circle that its stars fill."""
    low, high = np.percentile(found, EDGES, axis=0)
    x, y = (low + high) / 2
    return [((size[0] - 1) / 2, (size[1] - 1) / 2), (float(x), float(y))]


def refitted(star_xy: Array, field: Solution, zenith: Array) -> Solution | None:
    """A field of a fish-eye picture fitted again with the air's bending below a ``zenith`` (ICRS); None where
    the stars do not stand so."""
    lens = (field.focal_px, field.k1, *field.middle)
    size = (field.width, field.height)
    again = _fitted(np.asarray(star_xy, float), np.array(field.rotation), lens, size, zenith)
    return again if again is not None and again.matched >= 0.8 * field.matched else None


def _off(p: Array, rays: Array, wanted: Array, lens: tuple[float, float, float, float]) -> Array:
    """How far (px, x and y of each) rays stand from where they are wanted, with pose and lens changed by
    ``p``: turn and focal length in thousandths, bend in thousandths, centre in px."""
    turned = rays @ Rotation.from_rotvec(p[:3] * 1e-3).as_matrix().T
    centre = (lens[2] + p[5], lens[3] + p[6])
    return np.asarray(
        (fish_pixels(turned, lens[0] * (1 + p[3] * 1e-3), lens[1] + p[4] * 1e-3, centre) - wanted).ravel()
    )


def _fitted(
    found: Array,
    turn: Array,
    lens: tuple[float, float, float, float],
    size: tuple[int, int],
    zenith: Array | None,
) -> Solution | None:
    """The field from a rough pose and a rough ``lens`` (focal length, bend, centre): all of them by robust
    least squares over the stars within reach, nearer and fainter ones round by round."""
    tree, diagonal = cKDTree(found), float(np.hypot(*size))
    distances = np.empty(0)
    for i, reach in enumerate(REACHES):
        stars = stars_to(FIRST_FAINTEST if i < 2 else FAINTEST)[0]
        if zenith is not None:
            stars = stars[stars @ zenith > 0.02]
        seen = stars if zenith is None else lifted(stars, zenith)
        rays = seen @ turn.T
        at = fish_pixels(rays, lens[0], lens[1], lens[2:])
        inside = np.flatnonzero(
            (rays[:, 2] > FISH_DEPTH) & (at > 0).all(axis=1) & (at < np.array(size)).all(axis=1)
        )
        away, which = tree.query(at[inside], distance_upper_bound=reach * diagonal)
        ok = np.isfinite(away)
        if ok.sum() < LEAST_MATCHES:
            return None
        wanted, mine = found[which[ok]], rays[inside[ok]]

        best = least_squares(
            _off, np.zeros(7), loss="soft_l1", f_scale=SCATTER_PX, args=(mine, wanted, lens)
        ).x
        distances = np.hypot(*_off(best, mine, wanted, lens).reshape(-1, 2).T)
        turn = Rotation.from_rotvec(best[:3] * 1e-3).as_matrix() @ turn
        lens = (
            lens[0] * (1 + float(best[3]) * 1e-3),
            lens[1] + float(best[4]) * 1e-3,
            lens[2] + float(best[5]),
            lens[3] + float(best[6]),
        )
    good = distances < GOOD
    if good.sum() < LEAST_MATCHES:
        return None
    forward = turn[2:3] if zenith is None else lowered(turn[2:3], zenith)
    centre = (
        float(np.degrees(np.arctan2(forward[0, 1], forward[0, 0])) % 360),
        float(np.degrees(np.arcsin(np.clip(forward[0, 2], -1, 1)))),
    )
    return with_names(
        Solution(
            rotation=turn.tolist(),
            focal_px=lens[0],
            k1=lens[1],
            width=size[0],
            height=size[1],
            matched=int(good.sum()),
            rms_px=float(np.sqrt(np.mean(distances[good] ** 2))),
            centre=centre,
            scale_arcsec=ARCSEC_PER_RADIAN / lens[0],
            constellations=[],
            targets=[],
            zenith=() if zenith is None else tuple(zenith.tolist()),
            layout=FISH_EYE,
            axis=(lens[2], lens[3]),
        )
    )
