"""Where a stack points: its stars matched to the catalogue, from a known time, place and rough pose."""

from dataclasses import dataclass, replace

import cv2
import numpy as np
import numpy.typing as npt
from scipy.optimize import least_squares
from scipy.spatial import cKDTree
from scipy.spatial.transform import Rotation

from vinter.core.camera.projection import (
    FISH_EYE,
    RECTILINEAR,
    View,
    fish_pixels,
    fish_rays,
    in_front,
    laid_out,
    laid_out_rays,
    project,
    radial_pixels,
    radial_rays,
)
from vinter.core.constants import ARCSEC_PER_RADIAN
from vinter.core.sky.catalogue import stars_to, to_horizon
from vinter.core.sky.refraction import lifted, lowered
from vinter.core.sky.site import Site
from vinter.core.sky.targets import CLOUDS, CORE, constellations
from vinter.core.versions import Data

Array = npt.NDArray[np.float64]
FAINTEST = 6.0
MOST_STARS = 400
VOTE_PX = 24.0  # px, cell of the vote for the first shift
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
LEAST_COARSE = 120  # stars of a narrow field that are matched at first, however faint
SURE_MATCHES, SURE_PX = 40, 1.5  # of a field that is taken for the true one
# turns and rises (degrees) of the pose that are tried, the planned one first
TRIES = (
    (0.0, 0.0),
    (-25.0, 0.0),
    (25.0, 0.0),
    (-45.0, 0.0),
    (45.0, 0.0),
    (-70.0, 0.0),
    (70.0, 0.0),
    (-95.0, 0.0),
    (95.0, 0.0),
    (0.0, 18.0),
    (0.0, -14.0),
)
FINE_FAINTEST, FINE_REACH, FINE_STARS = 7.5, 2.5, 3000  # of the last fit: V, px, stars of the picture at most
LENS_STARS = 60  # stars from which the radial term is fitted too
SCATTER_PX = 0.3  # px of a matched star beyond which it counts less
LEAST_DEPTH = 0.1  # depth of a unit ray in front of the lens
FISH_DEPTH = -0.2  # the same of a fish-eye, which looks a little behind itself
MOST_SHIFT = 0.35  # share of the frame's width that the rough pose may be off


@dataclass(frozen=True, kw_only=True)
class Solution:
    """A solved field. ``rotation`` takes ICRS unit vectors, as the air shows them, to the camera (right,
    down, forward); ``zenith`` is the ICRS direction overhead, empty where none is known; focal length in px
    and radial term as the lens's; ``rms_px`` over the matched stars; centre in ICRS degrees; what is in the
    frame. A joined picture has a ``layout`` of its own, one of a fish-eye lens another; an optical axis that
    is not in the centre of the picture is the ``axis`` (px)."""

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
    zenith: tuple[float, ...] = ()
    layout: str = RECTILINEAR
    axis: tuple[float, ...] = ()

    @property
    def focal_error(self) -> float:
        """Standard error of the focal length in px: by the scatter of the matched stars, their count and how
        far from the axis they stand (0.29 of the diagonal, evenly spread), twice that because the radial term
        is fitted too."""
        reach = 0.29 * float(np.hypot(self.width, self.height))
        return 2 * self.focal_px * self.rms_px / (reach * float(np.sqrt(max(self.matched, 1))))

    @property
    def middle(self) -> tuple[float, float]:
        """Pixel of the optical axis: the picture's centre unless it was cut."""
        return (self.axis[0], self.axis[1]) if self.axis else _centre(self.width, self.height)

    def rays(self, xy: Array) -> Array:
        """Unit rays of the camera of pixels (n, 2)."""
        xy = np.asarray(xy, float)
        if self.layout == FISH_EYE:
            return fish_rays(xy, self.focal_px, self.k1, self.middle)
        if self.layout != RECTILINEAR:
            return laid_out_rays(xy, self.focal_px, self.layout, self.middle)
        return radial_rays(xy, self.focal_px, self.k1, self.middle)

    def camera_pixels(self, rays: Array) -> tuple[Array, Array, npt.NDArray[np.bool_]]:
        """Pixel places of rays (n, 3) of the camera, and which lie in front of it."""
        if self.layout == FISH_EYE:
            x, y = fish_pixels(rays, self.focal_px, self.k1, self.middle).T
            return x, y, rays[:, 2] > FISH_DEPTH
        if self.layout != RECTILINEAR:
            x, y = laid_out(rays, self.focal_px, self.layout, self.middle).T
            return x, y, np.hypot(rays[:, 0], rays[:, 2]) > LEAST_DEPTH
        x, y, front = _project(rays, self.focal_px, self.k1, self.width, self.height)
        if self.axis:
            left, top = np.array(self.axis) - _centre(self.width, self.height)
            x, y = x + left, y + top
        return x, y, front

    def pixels(self, radec: Array) -> tuple[Array, Array, npt.NDArray[np.bool_]]:
        """Pixel places of ICRS positions (n, 2) in degrees, and which lie in front of the lens."""
        ra, dec = np.radians(radec).T
        return self.places(
            np.stack([np.cos(dec) * np.cos(ra), np.cos(dec) * np.sin(ra), np.sin(dec)], axis=-1)
        )

    def places(self, vectors: Array) -> tuple[Array, Array, npt.NDArray[np.bool_]]:
        """Pixel places of ICRS unit vectors (n, 3), and which lie in front of the lens."""
        seen = lifted(vectors, np.array(self.zenith)) if self.zenith else vectors
        return self.camera_pixels(seen @ np.array(self.rotation).T)

    def directions(self, xy: Array) -> Array:
        """ICRS unit vectors (n, 3) of pixels (n, 2): the inverse of ``places`` above the horizon."""
        seen = self.rays(xy) @ np.array(self.rotation)
        return lowered(seen, np.array(self.zenith)) if self.zenith else np.asarray(seen)

    def altitudes(self, xy: Array) -> Array:
        """Altitudes (n,) in degrees at which pixels (n, 2) are seen, air and all; needs the zenith."""
        up = self.rays(xy) @ np.array(self.rotation) @ np.array(self.zenith)
        return np.asarray(np.degrees(np.arcsin(np.clip(up, -1, 1))))


def field_from(stored: Data) -> Solution:
    """A field as it is kept as JSON, of any version."""
    return Solution(**{**stored, **{name: tuple(stored.get(name) or ()) for name in ("zenith", "axis")}})


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
    if not len(found) or not len(wanted):
        return np.empty((0, 2), np.int64)
    away, there = cKDTree(wanted).query(found, distance_upper_bound=reach)
    rows = np.flatnonzero(np.isfinite(away))
    back = cKDTree(found).query(wanted[there[rows]])[1]
    return np.asarray(np.stack([rows, there[rows]], axis=1)[back == rows])


def _turn(rays: Array, vectors: Array) -> Array:
    """The rotation that takes vectors to rays best (least squares)."""
    u, _, vt = np.linalg.svd(rays.T @ vectors)
    return np.asarray(u @ np.diag([1.0, 1.0, float(np.sign(np.linalg.det(u @ vt)))]) @ vt)


def with_names(solution: Solution) -> Solution:
    """The solution with the names of what lies in the frame."""

    def seen(radec: tuple[float, float], margin: float) -> tuple[float, float] | None:
        x, y, front = solution.pixels(np.array([radec]))
        m = margin * solution.width
        ok = bool(front[0]) and m <= x[0] <= solution.width - m and m <= y[0] <= solution.height - m
        return (float(x[0]), float(y[0])) if ok else None

    names = [c.name for c in constellations().values() if c.radec and seen(c.radec, 0.02)]
    targets = [(t.name, *at) for t in (CORE, *CLOUDS) if t.radec and (at := seen(t.radec, 0.0))]
    return replace(solution, constellations=sorted(names), targets=targets)


def _refined(
    found: Array, stars: Array, turn: Array, focal: float, k1: float, size: tuple[int, int]
) -> tuple[Array, float, float, Array]:
    """Pose, focal length and, with enough stars, the radial term by robust least squares over all stars
    within reach; also the distances (px) of the matched ones."""
    middle, tree = _centre(*size), cKDTree(found[:FINE_STARS])
    distances = np.empty(0)
    for reach in (2 * FINE_REACH, FINE_REACH, FINE_REACH):
        x, y, front = _project(stars @ turn.T, focal, k1, *size)
        inside = np.flatnonzero(front & (x > 0) & (x < size[0]) & (y > 0) & (y < size[1]))
        away, which = tree.query(np.c_[x, y][inside], distance_upper_bound=reach)
        ok = np.isfinite(away)
        if ok.sum() < LEAST_MATCHES:
            break
        wanted, rays = found[which[ok]], stars[inside[ok]] @ turn.T
        lens = ok.sum() >= LENS_STARS

        def off(
            p: Array, rays: Array = rays, wanted: Array = wanted, f: float = focal, k: float = k1
        ) -> Array:
            turned = rays @ Rotation.from_rotvec(p[:3] * 1e-3).as_matrix().T
            return np.asarray(
                (
                    radial_pixels(turned, f * (1 + p[3] * 1e-3), k + p[4] * 1e-2 if len(p) > 4 else k, middle)
                    - wanted
                ).ravel()
            )

        best = least_squares(off, np.zeros(5 if lens else 4), loss="soft_l1", f_scale=SCATTER_PX).x
        turn = Rotation.from_rotvec(best[:3] * 1e-3).as_matrix() @ turn
        focal *= 1 + float(best[3]) * 1e-3
        k1 += float(best[4]) * 1e-2 if lens else 0.0
        distances = np.hypot(
            *off(np.zeros(4), stars[inside[ok]] @ turn.T, wanted, focal, k1).reshape(-1, 2).T
        )
    return turn, focal, k1, distances


def solve(star_xy: Array, view: View, site: Site, unix: float) -> Solution | None:
    """Solve a picture from its stars, brightest first (n, 2) px; ``view`` is the rough pose and lens.

    The pose may be off by a third of the frame's width, its roll by some degrees. The air's bending of low
    stars is part of the fit. None when fewer than a dozen stars match.
    """
    vectors, v, _ = stars_to(FINE_FAINTEST)
    matrix = to_horizon(site, unix)
    zenith = matrix[2]
    near = np.flatnonzero(vectors @ zenith > 0.02)
    seen = lifted(vectors[near], zenith)
    x, y, front = project(view, seen @ matrix.T)
    w, h = view.width, view.height
    around = front & (x > -0.4 * w) & (x < 1.4 * w) & (y > -0.4 * h) & (y < 1.4 * h)
    near, seen, at = near[around], seen[around], np.stack([x, y], axis=1)[around]
    coarse = v[near] <= FAINTEST
    if len(star_xy) < LEAST_MATCHES or coarse.sum() < LEAST_MATCHES:
        return None
    at = _roughly(star_xy[:MOST_STARS], at[coarse], np.argsort(v[near][coarse])[:100], w, h)
    return _fitted(star_xy, seen, at, seen[coarse], (view.focal_px, view.k1), (w, h), zenith)


def solve_turned(
    star_xy: Array, turn: Array, lens: tuple[float, float], size: tuple[int, int], zenith: Array | None = None
) -> Solution | None:
    """Solve a picture whose pose is known to a degree or two: ``turn`` takes ICRS vectors to the camera
    (right, down, forward), ``lens`` is focal length (px) and radial term, ``size`` width and height (px).
    Without a ``zenith`` (ICRS) the air's bending is left out. None when fewer than a dozen stars match."""
    vectors, v, _ = stars_to(FINE_FAINTEST)
    near = np.arange(len(vectors)) if zenith is None else np.flatnonzero(vectors @ zenith > 0.02)
    seen = vectors[near] if zenith is None else lifted(vectors[near], zenith)
    x, y, front = _project(seen @ turn.T, *lens, *size)
    around = front & (x > -0.1 * size[0]) & (x < 1.1 * size[0]) & (y > -0.1 * size[1]) & (y < 1.1 * size[1])
    near, seen, at = near[around], seen[around], np.stack([x, y], axis=1)[around]
    coarse = (v[near] <= FAINTEST) | (np.arange(len(near)) < LEAST_COARSE)  # the catalogue is in order of V
    if len(star_xy) < LEAST_MATCHES or coarse.sum() < LEAST_MATCHES:
        return None
    return _fitted(star_xy, seen, at[coarse], seen[coarse], lens, size, zenith)


def _fitted(
    star_xy: Array,
    seen: Array,
    at: Array,
    bright: Array,
    lens: tuple[float, float],
    size: tuple[int, int],
    zenith: Array | None,
) -> Solution | None:
    """The field from rough places (px) ``at`` of the ``bright`` ones among the stars ``seen`` near it."""
    (focal, k1), middle, found = lens, np.array(_centre(*size)), star_xy[:MOST_STARS]
    turn = np.eye(3)
    for reach in REACHES:
        pairs = _matches(found, at, reach)
        if len(pairs) < LEAST_MATCHES:
            return None
        turn = _turn(radial_rays(found[pairs[:, 0]], focal, k1, _centre(*size)), bright[pairs[:, 1]])
        wanted = np.stack(_project(bright @ turn.T, focal, k1, *size)[:2], axis=1)[pairs[:, 1]] - middle
        shown = found[pairs[:, 0]] - middle
        focal *= float(np.clip((shown * wanted).sum() / (wanted * wanted).sum(), 0.97, 1.03))
        at = np.stack(_project(bright @ turn.T, focal, k1, *size)[:2], axis=1)
    turn, focal, k1, distances = _refined(star_xy, seen, turn, focal, k1, size)
    if len(distances) < LEAST_MATCHES:
        return None
    forward = turn[2:3] if zenith is None else lowered(turn[2:3], zenith)
    centre = (
        float(np.degrees(np.arctan2(forward[0, 1], forward[0, 0])) % 360),
        float(np.degrees(np.arcsin(forward[0, 2]))),
    )
    return with_names(
        Solution(
            rotation=turn.tolist(),
            focal_px=focal,
            k1=k1,
            width=size[0],
            height=size[1],
            matched=len(distances),
            rms_px=float(np.sqrt(np.mean(distances**2))),
            centre=centre,
            scale_arcsec=ARCSEC_PER_RADIAN / focal,
            constellations=[],
            targets=[],
            zenith=() if zenith is None else tuple(zenith.tolist()),
        )
    )


def solve_around(star_xy: Array, view: View, site: Site, unix: float) -> Solution | None:
    """As ``solve``; when the rough pose does not do, poses beside it to 95 degrees, above and below are
    tried as well: for the fields of a panorama, and for phones that were pointed otherwise than planned."""
    for turn, rise in TRIES:
        pose = replace(
            view.pose,
            azimuth=(view.pose.azimuth + turn) % 360,
            altitude=float(np.clip(view.pose.altitude + rise, -20, 90)),
        )
        found = solve(star_xy, replace(view, pose=pose), site, unix)
        if found and found.matched >= SURE_MATCHES and found.rms_px < SURE_PX:
            return found
    return None
