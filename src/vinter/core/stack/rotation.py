"""One model for a whole burst: the sky turns about one pole, seen through one lens.

Unknown are the focal length, one radial term, the pole's direction in the camera and each frame's
angle; the fit starts from the homographies and needs neither time nor place. A second fit also
frees the zenith's direction, for the air lifts stars near the horizon by a fraction of a pixel a
minute; it is kept when it explains the stars better.
"""

from dataclasses import dataclass, replace

import numpy as np
import numpy.typing as npt

from vinter.core.frames.stars import Stars
from vinter.core.stack.register import Alignment

Array = npt.NDArray[np.float64]
MOST_PAIRS = 160  # of a frame, spread over the picture
CELLS = 8
REFRACTION = 1.02 / 60  # degrees, strength of R = 1.02' / tan(h + 10.3 / (h + 5.11))
BETTER = 0.985  # share of the residual that freeing the zenith must leave to be kept
LEAST_ANGLE = 2e-4  # radians between the outermost frames: less motion does not constrain a lens


@dataclass(frozen=True)
class RotationModel:
    """Lens (focal px, radial k1, centre px) and for every frame the rotation (3, 3) from it to the reference."""

    focal: float
    k1: float
    centre: tuple[float, float]
    rotations: list[Array]
    rms: float
    zenith: Array | None = None

    def _through(self, xy: Array, rotation: Array) -> Array:
        v = rays(xy, self.focal, self.k1, self.centre)
        if self.zenith is None:
            return pixels(v @ rotation.T, self.focal, self.k1, self.centre)
        turned = lowered(v, self.zenith) @ rotation.T
        return pixels(lifted(turned, self.zenith), self.focal, self.k1, self.centre)

    def to_frame(self, i: int, xy: Array) -> Array:
        """Pixels of frame i that show the reference's pixels (n, 2)."""
        return self._through(xy, self.rotations[i].T)

    def to_reference(self, i: int, xy: Array) -> Array:
        """Reference pixels that show frame i's pixels (n, 2)."""
        return self._through(xy, self.rotations[i])


def rays(xy: Array, focal: float, k1: float, centre: tuple[float, float]) -> Array:
    """Unit rays of distorted pixels, Newton on r (1 + k1 r^2)."""
    d = (xy - np.array(centre)) / focal
    rd = np.hypot(d[:, 0], d[:, 1])
    r = rd.copy()
    for _ in range(4):
        r -= (r * (1 + k1 * r * r) - rd) / (1 + 3 * k1 * r * r)
    scale = np.where(rd > 1e-12, r / np.maximum(rd, 1e-12), 1.0)
    v = np.c_[d * scale[:, None], np.ones(len(d))]
    return np.asarray(v / np.linalg.norm(v, axis=1, keepdims=True))


def pixels(v: Array, focal: float, k1: float, centre: tuple[float, float]) -> Array:
    """Distorted pixels of rays."""
    u = v[:, :2] / v[:, 2:]
    return np.asarray(np.array(centre) + focal * u * (1 + k1 * (u * u).sum(axis=1))[:, None])


def _moved_up(v: Array, zenith: Array, lift: Array) -> Array:
    """Rays moved towards the zenith by angles in radians."""
    up = zenith - v * (v @ zenith)[:, None]
    up /= np.maximum(np.linalg.norm(up, axis=1, keepdims=True), 1e-9)
    return np.asarray(v * np.cos(lift)[:, None] + up * np.sin(lift)[:, None])


def _refraction(sin_altitude: Array) -> Array:
    h = np.maximum(np.degrees(np.arcsin(np.clip(sin_altitude, -1, 1))), -1.0)
    return np.asarray(np.radians(np.maximum(REFRACTION / np.tan(np.radians(h + 10.3 / (h + 5.11))), 0)))


def lifted(v: Array, zenith: Array) -> Array:
    """Rays as the air shows them."""
    return _moved_up(v, zenith, _refraction(v @ zenith))


def lowered(v: Array, zenith: Array) -> Array:
    """Rays without the air; the inverse of ``lifted`` to 0.1 arcsec above 1 degree."""
    true = v
    for _ in range(5):
        true = _moved_up(v, zenith, -_refraction(true @ zenith))
    return true


def turn(axis: Array, angle: float) -> Array:
    """Rotation (3, 3) by an angle about a unit axis."""
    k = np.array([[0, -axis[2], axis[1]], [axis[2], 0, -axis[0]], [-axis[1], axis[0], 0]])
    return np.asarray(np.eye(3) + np.sin(angle) * k + (1 - np.cos(angle)) * k @ k)


def _spread(xy: Array, size: tuple[int, int], most: int) -> npt.NDArray[np.intp]:
    """Indices of at most ``most`` points, the first of each cell of a grid in turn."""
    cell = np.minimum((xy / (np.array(size) / CELLS)).astype(int), CELLS - 1)
    key = cell[:, 0] * CELLS + cell[:, 1]
    order = np.argsort(key, kind="stable")
    first = np.r_[0, np.flatnonzero(np.diff(key[order])) + 1]
    rank = np.arange(len(order)) - np.repeat(first, np.diff(np.r_[first, len(order)]))
    return order[np.argsort(rank, kind="stable")][:most]


def _first_guess(alignments: list[Alignment], focal: float, centre: tuple[float, float]) -> tuple[Array, Array]:
    """Pole and angles of the homographies taken as rotations of a pinhole of a focal length."""
    k = np.array([[focal, 0, centre[0]], [0, focal, centre[1]], [0, 0, 1]])
    vectors = []
    for a in alignments:
        u, _, vt = np.linalg.svd(np.linalg.inv(k) @ a.homography @ k)
        r = u @ vt * np.linalg.det(u @ vt)
        vectors.append(np.array([r[2, 1] - r[1, 2], r[0, 2] - r[2, 0], r[1, 0] - r[0, 1]]) / 2)
    stacked = np.array(vectors)
    axis = np.linalg.svd(stacked)[2][0]
    return axis, stacked @ axis


def fit_rotation(stars: list[Stars], alignments: list[Alignment], reference: int, size: tuple[int, int],
                 focal: float) -> RotationModel | None:
    """Fit the model to the matched stars of the aligned frames; None when motion or stars do not suffice.

    focal is a first guess in px (30 % off is fine). Frames that are not used get the identity.
    """
    used = [i for i, a in enumerate(alignments) if a.used and i != reference]
    if len(used) < 2:
        return None
    centre = ((size[0] - 1) / 2, (size[1] - 1) / 2)
    axis, angles = _first_guess([alignments[i] for i in used], focal, centre)
    if np.ptp(np.r_[angles, 0.0]) < LEAST_ANGLE:
        return None
    parts = []
    for i in used:
        pairs = alignments[i].pairs
        pairs = pairs[_spread(stars[i].xy[pairs[:, 0]], size, MOST_PAIRS)]
        parts.append((stars[i].xy[pairs[:, 0]], stars[reference].xy[pairs[:, 1]]))
    here, there = np.concatenate([p[0] for p in parts]), np.concatenate([p[1] for p in parts])
    which = np.repeat(np.arange(len(used)), [len(p[0]) for p in parts])
    fits = [_fit(here, there, which, axis, angles, focal, centre, free) for free in (False, True)]
    best = fits[1] if fits[1].rms < BETTER * fits[0].rms else fits[0]
    rotations = [np.eye(3) for _ in alignments]
    for i, rotation in zip(used, best.rotations, strict=True):
        rotations[i] = rotation
    return replace(best, rotations=rotations) if 0.3 < best.focal / focal < 3 and abs(best.k1) < 1 else None


def _fit(here: Array, there: Array, which: npt.NDArray[np.intp], axis: Array, angles: Array, focal: float,
         centre: tuple[float, float], free_zenith: bool) -> RotationModel:
    """Least squares over pairs of places; parameters: log focal, k1, pole (2), zenith (2), angles."""
    from scipy.optimize import least_squares  # slow to load, and pool processes never fit

    side = np.linalg.svd(axis[None])[2][1:]

    def unpack(p: Array) -> tuple[float, Array, Array | None, Array]:
        pole = axis + p[2] * side[0] + p[3] * side[1]
        height, roll = p[4], p[5]
        zenith = np.array([np.sin(roll) * np.cos(height), -np.cos(roll) * np.cos(height), np.sin(height)])
        return focal * np.exp(p[0]), pole / np.linalg.norm(pole), zenith if free_zenith else None, p[6:]

    def residual(p: Array) -> Array:
        f, pole, zenith, turns = unpack(p)
        v = rays(here, f, p[1], centre)
        v = v if zenith is None else lowered(v, zenith)
        c, s = np.cos(turns[which])[:, None], np.sin(turns[which])[:, None]
        moved = v * c + np.cross(pole, v) * s + pole * (v @ pole)[:, None] * (1 - c)
        moved = moved if zenith is None else lifted(moved, zenith)
        prior = [] if free_zenith else [p[4], p[5]]
        return np.concatenate([(pixels(moved, f, p[1], centre) - there).ravel(), prior])

    start = np.r_[0.0, 0.0, 0.0, 0.0, 0.35 if free_zenith else 0.0, 0.0, angles]
    best = least_squares(residual, start, loss="soft_l1", f_scale=0.3, x_scale="jac", max_nfev=40)
    f, pole, zenith, turns = unpack(best.x)
    r = residual(best.x)[:2 * len(here)].reshape(-1, 2)
    error = np.sort((r**2).sum(axis=1))[:max(int(0.98 * len(r)), 1)]
    return RotationModel(float(f), float(best.x[1]), centre, [turn(pole, float(a)) for a in turns],
                         float(np.sqrt(error.mean())), zenith)
