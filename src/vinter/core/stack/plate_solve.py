"""Where a stack points: its stars matched to the catalogue, from a known time, place and rough pose."""

from dataclasses import dataclass

import cv2
import numpy as np
import numpy.typing as npt

from vinter.core.camera.projection import View, east_north_up, in_front, project, radial_pixels, radial_rays
from vinter.core.constants import ARCSEC_PER_RADIAN
from vinter.core.sky.catalogue import star_table, to_horizon
from vinter.core.sky.refraction import refraction
from vinter.core.sky.site import Site
from vinter.core.sky.targets import CLOUDS, CORE, constellations

Array = npt.NDArray[np.float64]
FAINTEST = 6.0
MOST_STARS = 400
VOTE_PX = 24.0  # cell of the vote for the first shift
ROLLS = (
    0.0,
    -1.0,
    1.0,
    -2.0,
    2.0,
    -3.5,
    3.5,
    -5.0,
    5.0,
)  # degrees that the phone may be tilted against its plan
REACHES = (30.0, 30.0, 20.0, 12.0, 12.0, 8.0, 5.0, 5.0, 3.0, 3.0)  # px, of the rounds of matching
LEAST_MATCHES = 12
LEAST_DEPTH = 0.1  # of a unit ray, in front of the lens
MOST_SHIFT = 0.35  # of the frame's width that the rough pose may be off


@dataclass(frozen=True, kw_only=True)
class Solution:
    """A solved field. ``rotation`` takes ICRS unit vectors to the camera (right, down, forward); focal length
    in px and radial term as the lens's; ``rms_px`` over the matched stars; centre in ICRS degrees; what is in
    the frame."""

    rotation: list[list[float]]
    focal_px: float
    k1: float
    width: int
    height: int
    matched: int
    rms_px: float
    centre: tuple[float, float]
    scale_arcsec: float
    constellations: list[str]
    targets: list[tuple[str, float, float]]

    def pixels(self, radec: Array) -> tuple[Array, Array, npt.NDArray[np.bool_]]:
        """Pixel places of ICRS positions (n, 2) in degrees, and which lie in front of the lens."""
        ra, dec = np.radians(radec).T
        vectors = np.stack([np.cos(dec) * np.cos(ra), np.cos(dec) * np.sin(ra), np.sin(dec)], axis=-1)
        return _project(vectors @ np.array(self.rotation).T, self.focal_px, self.k1, self.width, self.height)


def _centre(width: int, height: int) -> tuple[float, float]:
    return (width - 1) / 2, (height - 1) / 2


def _project(
    rays: Array, focal: float, k1: float, width: int, height: int
) -> tuple[Array, Array, npt.NDArray[np.bool_]]:
    front = in_front(rays, k1, LEAST_DEPTH)
    safe = np.where(rays[:, 2:] > LEAST_DEPTH, rays, [0.0, 0.0, 1.0])
    x, y = radial_pixels(safe, focal, k1, _centre(width, height)).T
    return x, y, front


def _voted_shift(found: Array, wanted: Array, width: int) -> tuple[Array, float]:
    """The shift from catalogue to picture on which most pairs agree, and the votes for it."""
    d = (found[:, None, :] - wanted[None, :, :]).reshape(-1, 2)
    d = d[np.abs(d).max(axis=1) < MOST_SHIFT * width]
    if not len(d):
        return np.zeros(2), 0.0
    cells = np.round(d / VOTE_PX).astype(int)
    low = cells.min(axis=0)
    votes = np.zeros(tuple(cells.max(axis=0) - low + 1), np.float32)
    np.add.at(votes, tuple((cells - low).T), 1)
    votes = cv2.GaussianBlur(votes, (3, 3), 0)
    best = np.array(np.unravel_index(int(np.argmax(votes)), votes.shape)) + low
    near = np.abs(cells - best).max(axis=1) <= 1
    return np.asarray(np.median(d[near], axis=0)), float(votes.max())


def _roughly(found: Array, wanted: Array, brightest: npt.NDArray[np.int64], width: int, height: int) -> Array:
    """Catalogue places turned and shifted so that most bright stars agree."""
    middle = np.array([(width - 1) / 2, (height - 1) / 2])
    most, out = -1.0, wanted
    for roll in ROLLS:
        c, s = np.cos(np.radians(roll)), np.sin(np.radians(roll))
        turned = (wanted - middle) @ np.array([[c, s], [-s, c]]) + middle
        shift, votes = _voted_shift(found[:100], turned[brightest], width)
        if votes > most:
            most, out = votes, turned + shift
    return np.asarray(out)


def _matches(found: Array, wanted: Array, reach: float) -> npt.NDArray[np.int64]:
    """Mutual nearest neighbours (found, wanted) within a reach."""
    distance = np.hypot(*(found[:, None, :] - wanted[None, :, :]).transpose(2, 0, 1))
    a, b = distance.argmin(axis=1), distance.argmin(axis=0)
    rows = np.arange(len(found))
    good = (b[a] == rows) & (distance[rows, a] < reach)
    return np.stack([rows[good], a[good]], axis=1)


def _turn(rays: Array, vectors: Array) -> Array:
    """The rotation that takes vectors to rays best (least squares)."""
    u, _, vt = np.linalg.svd(rays.T @ vectors)
    return np.asarray(u @ np.diag([1.0, 1.0, float(np.sign(np.linalg.det(u @ vt)))]) @ vt)


def _apparent(site: Site, unix: float, vectors: Array) -> Array:
    """Directions east, north, up of ICRS vectors, with refraction."""
    enu = vectors @ to_horizon(site, unix).T
    altitude = np.degrees(np.arcsin(np.clip(enu[:, 2], -1, 1)))
    return east_north_up(altitude + refraction(altitude), np.degrees(np.arctan2(enu[:, 0], enu[:, 1])))


def _inside(solution: Solution) -> Solution:
    """The solution with the names of what lies in the frame."""

    def seen(radec: tuple[float, float], margin: float) -> tuple[float, float] | None:
        x, y, front = solution.pixels(np.array([radec]))
        m = margin * solution.width
        ok = bool(front[0]) and m <= x[0] <= solution.width - m and m <= y[0] <= solution.height - m
        return (float(x[0]), float(y[0])) if ok else None

    names = [c.name for c in constellations().values() if c.radec and seen(c.radec, 0.02)]
    targets = [(t.name, *at) for t in (CORE, *CLOUDS) if t.radec and (at := seen(t.radec, 0.0))]
    return Solution(**{**solution.__dict__, "constellations": sorted(names), "targets": targets})


def solve(star_xy: Array, view: View, site: Site, unix: float) -> Solution | None:
    """Solve a picture from its stars, brightest first (n, 2) px; ``view`` is the rough pose and lens.

    The pose may be off by a third of the frame's width, its roll by some degrees. Refraction bends the lower
    sky; it is left in the residuals. None when fewer than a dozen stars match.
    """
    vectors, v, _ = star_table()
    bright = np.flatnonzero(v <= FAINTEST)
    enu = _apparent(site, unix, vectors[bright])
    up = enu[:, 2] > 0.02
    bright, enu = bright[up], enu[up]
    x, y, front = project(view, enu)
    w, h = view.width, view.height
    near = front & (x > -0.4 * w) & (x < 1.4 * w) & (y > -0.4 * h) & (y < 1.4 * h)
    bright, enu, at = bright[near], enu[near], np.stack([x[near], y[near]], axis=1)
    found = star_xy[:MOST_STARS]
    if len(found) < LEAST_MATCHES or len(bright) < LEAST_MATCHES:
        return None
    at = _roughly(found, at, np.argsort(v[bright])[:100], w, h)
    focal, k1 = view.focal_px, view.k1
    turn, pairs = np.eye(3), np.empty((0, 2), np.int64)
    for reach in REACHES:
        pairs = _matches(found, at, reach)
        if len(pairs) < LEAST_MATCHES:
            return None
        turn = _turn(radial_rays(found[pairs[:, 0]], focal, k1, _centre(w, h)), vectors[bright[pairs[:, 1]]])
        px, py, _ = _project(vectors[bright] @ turn.T, focal, k1, w, h)
        middle = np.array([(w - 1) / 2, (h - 1) / 2])
        seen, wanted = found[pairs[:, 0]] - middle, np.stack([px, py], axis=1)[pairs[:, 1]] - middle
        focal *= float(np.clip((seen * wanted).sum() / (wanted * wanted).sum(), 0.97, 1.03))
        px, py, _ = _project(vectors[bright] @ turn.T, focal, k1, w, h)
        at = np.stack([px, py], axis=1)
    error = np.hypot(*(found[pairs[:, 0]] - at[pairs[:, 1]]).T)
    forward = turn[2]
    centre = (
        float(np.degrees(np.arctan2(forward[1], forward[0])) % 360),
        float(np.degrees(np.arcsin(forward[2]))),
    )
    return _inside(
        Solution(
            rotation=turn.tolist(),
            focal_px=focal,
            k1=k1,
            width=w,
            height=h,
            matched=len(pairs),
            rms_px=float(np.sqrt(np.mean(error**2))),
            centre=centre,
            scale_arcsec=ARCSEC_PER_RADIAN / focal,
            constellations=[],
            targets=[],
        )
    )
