"""One model for a whole burst: the sky turns about one pole, seen through one lens.

Unknown are the focal length, one radial term, the pole's direction in the camera and each frame's
angle; the fit starts from the homographies and needs neither time nor place. A second fit also
frees the zenith's direction, for the air lifts stars near the horizon by a fraction of a pixel a
minute; it is kept when it explains the stars better.
"""

from dataclasses import dataclass, replace
from functools import cached_property

import numpy as np
import numpy.typing as npt

from vinter.core.frames.stars import Stars
from vinter.core.stack.registration.bumps import Groups
from vinter.core.stack.registration.geometry import (
    as_rotation,
    lifted,
    lowered,
    pixels,
    rays,
    small_turn,
    turn,
    vector_of,
)
from vinter.core.stack.registration.star_matching import USUAL, Alignment, trimmed_rms
from vinter.core.stack.registration.star_pairs import matched_places

Array = npt.NDArray[np.float64]
FIRST_HEIGHT = 0.35  # rad, height of the zenith above the picture with which a search begins
# Share of the residual that freeing the zenith may leave at most to be kept, and by how much the sum of
# squares must fall, in variances of a coordinate: of few stars it falls by chance
BETTER, SURER = 0.985, 25.0
MOST_FITTED, LEAST_OF_GROUP = 60, 6  # frames that a lens is fitted to at most, and of a group at least
# Natural log of the focal length, and radial term, by which a lens differs from the first guess: what holds
# both where few stars moved too little to tell
LENS_SPREAD = (0.3, 0.1)
ONE_TO_ONE_PX = 0.05  # px by which a corner may miss itself through the lens and back
SMALL_ANGLE = 1e-6  # rad
LEAST_ANGLE = 2e-4  # rad between the outermost frames: less motion does not constrain a lens


@dataclass(frozen=True, kw_only=True)
class RotationModel:
    """Lens (focal px, radial k1, centre px) and for every frame the rotation (3, 3) from it to the reference.

    ``bumps`` are, for every frame, the rotation of the camera alone from that frame to the reference: what
    moved the ground.
    """

    focal: float
    k1: float
    centre: tuple[float, float]
    rotations: list[Array]
    rms: float
    zenith: Array | None = None
    bumps: list[Array] | None = None

    def _through(self, xy: Array, rotation: Array, here: Array | None, there: Array | None) -> Array:
        v = rays(xy, self.focal, self.k1, self.centre)
        if here is None or there is None:
            return pixels(v @ rotation.T, self.focal, self.k1, self.centre)
        return pixels(lifted(lowered(v, here) @ rotation.T, there), self.focal, self.k1, self.centre)

    def _zenith_of(self, i: int) -> Array | None:
        return (
            self.zenith
            if self.zenith is None or self.bumps is None
            else np.asarray(self.bumps[i].T @ self.zenith)
        )

    def to_frame(self, i: int, xy: Array) -> Array:
        """Pixels of frame i that show the reference's pixels (n, 2)."""
        return self._through(xy, self.rotations[i].T, self.zenith, self._zenith_of(i))

    def to_reference(self, i: int, xy: Array) -> Array:
        """Reference pixels that show frame i's pixels (n, 2)."""
        return self._through(xy, self.rotations[i], self._zenith_of(i), self.zenith)

    def of(self, which: list[int]) -> "RotationModel":
        """The model of some of the frames."""
        return replace(
            self,
            rotations=[self.rotations[i] for i in which],
            bumps=None if self.bumps is None else [self.bumps[i] for i in which],
        )


def _first_guess(
    alignments: list[Alignment], cameras: list[Array], focal: float, centre: tuple[float, float]
) -> tuple[Array, Array]:
    """Pole and angles of the homographies taken as rotations of a pinhole of a focal length, the camera's own
    taken out."""
    vectors = np.array(
        [
            vector_of(as_rotation(a.homography, focal, centre) @ c.T)
            for a, c in zip(alignments, cameras, strict=True)
        ]
    )
    axis = np.linalg.svd(vectors)[2][0]
    return axis, vectors @ axis


def sane(model: RotationModel, focal: float) -> RotationModel | None:
    """A model whose lens can be: its focal length (px) near the first guess, its distortion under 1, and the
    picture not folded over in its corners; or None."""
    if not (0.3 < model.focal / focal < 3 and abs(model.k1) < 1):
        return None
    corners = np.array([[0.0, 0.0], [2 * model.centre[0], 2 * model.centre[1]]])
    back = pixels(rays(corners, model.focal, model.k1, model.centre), model.focal, model.k1, model.centre)
    return model if np.abs(back - corners).max() < ONE_TO_ONE_PX else None


def fit_rotation(
    stars: list[Stars],
    alignments: list[Alignment],
    reference: int,
    size: tuple[int, int],
    focal: float,
    groups: Groups | None = None,
) -> RotationModel | None:
    """Fit the model to the matched stars of the aligned frames; None when motion or stars do not suffice.

    focal is a first guess in px (30 % off is fine). Frames that are not used get the identity. With
    ``groups`` the camera may have been moved between them.
    """
    used = [i for i, a in enumerate(alignments) if a.used and i != reference]
    if len(used) < 2:
        return None
    groups = groups or Groups([0] * len(alignments), [np.eye(3)])
    centre = ((size[0] - 1) / 2, (size[1] - 1) / 2)
    axis, angles = _first_guess(
        [alignments[i] for i in used], [groups.moved[groups.number[i]] for i in used], focal, centre
    )
    if np.ptp(np.r_[angles, 0.0]) < LEAST_ANGLE:
        return None
    fitted = _some_of(used, groups)
    here, there, which, weight = matched_places(stars, alignments, fitted, reference, size)
    guess = dict(zip(used, angles, strict=True))
    start = _Start(
        here=here,
        there=there,
        which=which,
        weight=weight,
        axis=axis,
        angles=np.array([guess[i] for i in fitted]),
        focal=focal,
        centre=centre,
        group=np.array([groups.number[i] for i in fitted]),
        moved=[vector_of(m) for m in groups.moved],
    )
    plain, found = _fit(start, False)
    refracted, lifted_found = _fit(start, True, found)
    better = min(BETTER, float(np.sqrt(max(1 - SURER / (2 * len(here)), 0.0))))
    best, found = (refracted, lifted_found) if refracted.rms < better * plain.rms else (plain, found)
    rotations = [np.eye(3) for _ in alignments]
    cameras = dict(enumerate(groups.moved))
    for place, i in enumerate(fitted):
        rotations[i] = best.rotations[place]
        if best.bumps:
            cameras[groups.number[i]] = best.bumps[place]
    pole = start.unpacked(found)[1]
    for i in sorted(set(used) - set(fitted)):
        pairs = matched_places(stars, alignments, [i], reference, size)
        camera = cameras[groups.number[i]]
        rotations[i] = turn(pole, _angle(best, pole, camera, pairs, float(guess[i]))) @ camera
    bumps = [cameras[g] for g in groups.number]
    return sane(replace(best, rotations=rotations, bumps=bumps if len(groups.moved) > 1 else None), focal)


def _some_of(used: list[int], groups: Groups) -> list[int]:
    """The frames that the lens and the pole are fitted to: all of a few, of many some of every group, evenly
    over its time. What a fit holds grows with the square of their number."""
    if len(used) <= MOST_FITTED:
        return used
    out = []
    for g in set(groups.number):
        mine = [i for i in used if groups.number[i] == g]
        most = max(LEAST_OF_GROUP, MOST_FITTED * len(mine) // len(used))
        out += [mine[k] for k in np.unique(np.linspace(0, len(mine) - 1, min(most, len(mine))).astype(int))]
    return sorted(out)


def _angle(
    model: RotationModel,
    pole: Array,
    camera: Array,
    pairs: tuple[Array, Array, npt.NDArray[np.intp], Array],
    angle: float,
) -> float:
    """How far the sky of a frame turned from the reference, by its own stars through a lens that is known:
    Gauss-Newton from a guess, with weights that fall beyond 0.3 px."""
    here, there, _, weight = pairs
    v = rays(here, model.focal, model.k1, model.centre)
    if model.zenith is not None:
        v = lowered(v, camera.T @ model.zenith)
    v = v @ camera.T

    def off(at: float) -> Array:
        moved = v @ turn(pole, at).T
        moved = moved if model.zenith is None else lifted(moved, model.zenith)
        return np.asarray((pixels(moved, model.focal, model.k1, model.centre) - there) * weight[:, None])

    for _ in range(10):
        now = off(angle)
        slope = (off(angle + SMALL_ANGLE) - now) / SMALL_ANGLE
        w = 1 / np.sqrt(1 + (now / 0.3) ** 2)
        step = float((w * slope * now).sum() / max(float((w * slope**2).sum()), 1e-30))
        angle -= step
        if abs(step) < SMALL_ANGLE / 100:
            break
    return angle


@dataclass(frozen=True, kw_only=True)
class _Start:
    """What a fit starts from: pairs of places, the frame each belongs to and how much it tells, the pole, the
    frames' angles and groups."""

    here: Array
    there: Array
    which: npt.NDArray[np.intp]
    weight: Array
    axis: Array
    angles: Array
    focal: float
    centre: tuple[float, float]
    group: npt.NDArray[np.intp]
    moved: list[Array]

    @cached_property
    def sides(self) -> Array:
        """Two directions square to the pole and to each other, along which it may move."""
        return np.asarray(np.linalg.svd(self.axis[None])[2][1:])

    def unpacked(self, p: Array) -> tuple[float, Array, Array, Array, list[Array]]:
        """Focal length, pole, zenith, the frames' angles and the cameras of the groups, of parameters."""
        frames = len(self.angles)
        pole = self.axis + p[2] * self.sides[0] + p[3] * self.sides[1]
        height, roll = p[4], p[5]
        zenith = np.array([np.sin(roll) * np.cos(height), -np.cos(roll) * np.cos(height), np.sin(height)])
        cameras = [np.eye(3), *(small_turn(v) for v in p[6 + frames :].reshape(-1, 3))]
        return (
            self.focal * float(np.exp(p[0])),
            pole / np.linalg.norm(pole),
            zenith,
            p[6 : 6 + frames],
            cameras,
        )


def _fit(start: _Start, free_zenith: bool, near: Array | None = None) -> tuple[RotationModel, Array]:
    """Least squares over pairs of places, from parameters that are ``near`` when there are any: log focal,
    k1, pole (2), zenith (2), angles, cameras of the groups (3 each). The model and its parameters."""
    from scipy.optimize import least_squares  # slow to load, and pool processes never fit

    here, there, which, centre, frames = start.here, start.there, start.which, start.centre, len(start.angles)
    weight = start.weight[:, None]
    more = len(start.moved) - 1
    others = [start.group == g for g in range(1, more + 1) if (start.group == g).any()]
    means = np.array([g / g.sum() for g in others]).reshape(
        len(others), frames
    )  # of the angles of the other groups' frames

    def unpack(p: Array) -> tuple[float, Array, Array | None, Array, list[Array]]:
        f, pole, zenith, turns, cameras = start.unpacked(p)
        return f, pole, zenith if free_zenith else None, turns, cameras

    def residual(p: Array) -> Array:
        f, pole, zenith, turns, cameras = unpack(p)
        v = rays(here, f, p[1], centre)
        for g, camera in enumerate(cameras):
            mine = slice(None) if more == 0 else np.flatnonzero(start.group[which] == g)
            part = v[mine] if zenith is None else lowered(v[mine], camera.T @ zenith)
            v[mine] = part if g == 0 else part @ camera.T
        c, s = np.cos(turns[which])[:, None], np.sin(turns[which])[:, None]
        moved = v * c + np.cross(pole, v) * s + pole * (v @ pole)[:, None] * (1 - c)
        moved = moved if zenith is None else lifted(moved, zenith)
        lens = USUAL * p[:2] / LENS_SPREAD
        prior = lens if free_zenith else np.r_[lens, p[4:6]]
        # a group's own turn about the pole and its frames' angles say the same: the first guess of the angles
        # decides
        held = 0.05 * f * (means @ (turns - start.angles))
        return np.concatenate([((pixels(moved, f, p[1], centre) - there) * weight).ravel(), prior, held])

    def slopes(p: Array) -> Array:
        """Derivatives by differences; a frame's angle moves only its own stars, so that one difference serves
        all angles."""
        now, small = residual(p), 1e-7
        out = np.zeros((len(now), len(p)))
        felt = 6
        if not free_zenith:  # then only its own prior feels the zenith
            felt, own = 4, 2 * len(here) + 2
            out[own, 4] = out[own + 1, 5] = 1.0
        for k in [*range(felt), *range(6 + frames, len(p))]:
            out[:, k] = (residual(p + small * (np.arange(len(p)) == k)) - now) / small
        turned = p.copy()
        turned[6 : 6 + frames] += small
        rows = np.arange(2 * len(here))
        out[rows, 6 + np.repeat(which, 2)] = ((residual(turned) - now) / small)[rows]
        out[len(now) - len(means) :, 6 : 6 + frames] = 0.05 * start.focal * np.exp(p[0]) * means
        return out

    first = np.r_[np.zeros(6), start.angles, np.concatenate([np.empty(0), *start.moved[1:]])]
    if near is not None:
        first = near.copy()
    if free_zenith:
        first[4] = FIRST_HEIGHT
    best = least_squares(
        residual, first, slopes, loss="soft_l1", f_scale=0.3, x_scale="jac", max_nfev=40, ftol=1e-6
    )
    f, pole, zenith, turns, cameras = unpack(best.x)
    rms = trimmed_rms(residual(best.x)[: 2 * len(here)].reshape(-1, 2) / weight, start.weight)
    mine = [cameras[g] for g in start.group]
    model = RotationModel(
        focal=float(f),
        k1=float(best.x[1]),
        centre=centre,
        rotations=[turn(pole, float(a)) @ c for a, c in zip(turns, mine, strict=True)],
        rms=rms,
        zenith=zenith,
        bumps=mine,
    )
    return model, np.asarray(best.x)
