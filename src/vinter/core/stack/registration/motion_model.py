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
from vinter.core.stack.registration.star_matching import Alignment, trimmed_rms
from vinter.core.stack.registration.star_pairs import matched_places

Array = npt.NDArray[np.float64]
FIRST_HEIGHT = 0.35  # rad, height of the zenith above the picture with which a search begins
BETTER = 0.985  # share of the residual that freeing the zenith must leave to be kept
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
    """A model whose lens can be: its focal length (px) near the first guess, its distortion under 1; or
    None."""
    return model if 0.3 < model.focal / focal < 3 and abs(model.k1) < 1 else None


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
    here, there, which, weight = matched_places(stars, alignments, used, reference, size)
    start = _Start(
        here=here,
        there=there,
        which=which,
        weight=weight,
        axis=axis,
        angles=angles,
        focal=focal,
        centre=centre,
        group=np.array([groups.number[i] for i in used]),
        moved=[vector_of(m) for m in groups.moved],
    )
    plain, found = _fit(start, False)
    refracted, _ = _fit(start, True, found)
    best = refracted if refracted.rms < BETTER * plain.rms else plain
    rotations = [np.eye(3) for _ in alignments]
    cameras = dict(enumerate(groups.moved))
    for place, i in enumerate(used):
        rotations[i] = best.rotations[place]
        if best.bumps:
            cameras[groups.number[i]] = best.bumps[place]
    bumps = [cameras[g] for g in groups.number]
    return sane(replace(best, rotations=rotations, bumps=bumps if len(groups.moved) > 1 else None), focal)


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


def _fit(start: _Start, free_zenith: bool, near: Array | None = None) -> tuple[RotationModel, Array]:
    """Least squares over pairs of places, from parameters that are ``near`` when there are any: log focal,
    k1, pole (2), zenith (2), angles, cameras of the groups (3 each). The model and its parameters."""
    from scipy.optimize import least_squares  # slow to load, and pool processes never fit

    here, there, which, centre, frames = start.here, start.there, start.which, start.centre, len(start.angles)
    weight = start.weight[:, None]
    side = np.linalg.svd(start.axis[None])[2][1:]
    more = len(start.moved) - 1
    others = [start.group == g for g in range(1, more + 1) if (start.group == g).any()]
    means = np.array([g / g.sum() for g in others]).reshape(
        len(others), frames
    )  # of the angles of the other groups' frames

    def unpack(p: Array) -> tuple[float, Array, Array | None, Array, list[Array]]:
        pole = start.axis + p[2] * side[0] + p[3] * side[1]
        height, roll = p[4], p[5]
        zenith = np.array([np.sin(roll) * np.cos(height), -np.cos(roll) * np.cos(height), np.sin(height)])
        cameras = [np.eye(3), *(small_turn(v) for v in p[6 + frames :].reshape(more, 3))]
        return (
            start.focal * np.exp(p[0]),
            pole / np.linalg.norm(pole),
            zenith if free_zenith else None,
            p[6 : 6 + frames],
            cameras,
        )

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
        prior = [] if free_zenith else [p[4], p[5]]
        # a group's own turn about the pole and its frames' angles say the same: the first guess of the angles
        # decides
        held = 0.05 * f * (means @ (turns - start.angles))
        return np.concatenate([((pixels(moved, f, p[1], centre) - there) * weight).ravel(), prior, held])

    def slopes(p: Array) -> Array:
        """Derivatives by differences; a frame's angle moves only its own stars, so that one difference serves
        all angles."""
        now, small = residual(p), 1e-7
        out = np.zeros((len(now), len(p)))
        for k in [*range(6), *range(6 + frames, len(p))]:
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
