"""One model for a whole burst: the sky turns about one pole, seen through one lens.

Unknown are the focal length, one radial term, the pole's direction in the camera and each frame's
angle; the fit starts from the homographies and needs neither time nor place. A second fit also
frees the zenith's direction, for the air lifts stars near the horizon by a fraction of a pixel a
minute; it is kept when it explains the stars better.
"""

from dataclasses import dataclass, replace
from itertools import pairwise

import numpy as np
import numpy.typing as npt

from vinter.core.frames.stars import Stars
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
from vinter.core.stack.registration.star_matching import Alignment, trimmed_rms, weights

Array = npt.NDArray[np.float64]
FIRST_HEIGHT = 0.35  # rad, height of the zenith above the picture with which a search begins
MOST_PAIRS = 160  # pairs of stars of a frame, spread over the picture
CELLS = 8
BETTER = 0.985  # share of the residual that freeing the zenith must leave to be kept
BUMP_PX = 1.5  # px: after a smaller step the camera is taken to have stood still
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


def _spread(xy: Array, size: tuple[int, int], most: int) -> npt.NDArray[np.intp]:
    """Indices of at most ``most`` points, the first of each cell of a grid in turn."""
    cell = np.minimum((xy / (np.array(size) / CELLS)).astype(int), CELLS - 1)
    key = cell[:, 0] * CELLS + cell[:, 1]
    order = np.argsort(key, kind="stable")
    first = np.r_[0, np.flatnonzero(np.diff(key[order])) + 1]
    rank = np.arange(len(order)) - np.repeat(first, np.diff(np.r_[first, len(order)]))
    return order[np.argsort(rank, kind="stable")][:most]


@dataclass(frozen=True)
class Groups:
    """Which frames the camera stood still for: numbers from 0, the reference's, and the camera's rotation (3,
    3) from each group to the reference's; ``rate`` is the sky's turn a second (axis times angle), None when
    it could not be told."""

    number: list[int]
    moved: list[Array]
    rate: Array | None = None


def find_bumps(
    alignments: list[Alignment],
    times: Array,
    clocked: bool,
    reference: int,
    size: tuple[int, int],
    focal: float,
) -> Groups:
    """Where the tripod was bumped: steps between frames that the sky's even turn does not explain.

    ``times`` in s when ``clocked``, else counts. Bumps under 1.5 px are not told from noise; frames that are
    not used belong to the group of the last used one before them.
    """
    n, centre = len(alignments), ((size[0] - 1) / 2, (size[1] - 1) / 2)
    used = [i for i, a in enumerate(alignments) if a.used]
    alone = Groups([0] * n, [np.eye(3)])
    if len(used) < 4:
        return alone
    to_reference = {i: as_rotation(alignments[i].homography, focal, centre) for i in used}
    steps = [(i, j, to_reference[j].T @ to_reference[i]) for i, j in pairwise(used)]
    spans = np.array([times[j] - times[i] for i, j, _ in steps])
    if (spans <= 0).any():
        return alone
    vectors = np.array([vector_of(s) for _, _, s in steps])
    rate = np.median(vectors / spans[:, None], axis=0)
    off = (vectors - rate * spans[:, None]) * focal
    if not clocked:  # a pause of unknown length is no bump
        along = rate / max(float(np.linalg.norm(rate)), 1e-12)
        off -= np.outer(off @ along, along)
    size_px = np.linalg.norm(off, axis=1)
    usual = float(np.median(size_px))
    bumped = size_px > max(BUMP_PX, 8 * usual)
    if not bumped.any() or bumped.sum() > len(steps) / 3:
        return Groups(alone.number, alone.moved, rate)
    number, at, moved, camera = [0] * n, 0, [np.eye(3)], np.eye(3)
    order = dict(zip([j for _, j, _ in steps], range(len(steps)), strict=True))
    for i in range(n):
        if i in order and bumped[order[i]]:
            # what is left of the step when the sky's turn is taken out of it: the camera
            camera = steps[order[i]][2] @ small_turn(rate * spans[order[i]]).T @ camera
            at += 1
            moved.append(camera)
        number[i] = at
    base = moved[number[reference]]
    order_of = {number[reference]: 0}
    for g in range(len(moved)):
        order_of.setdefault(g, len(order_of))
    out = [np.eye(3)] * len(moved)
    for g, place in order_of.items():
        out[place] = base @ moved[g].T
    return Groups([order_of[g] for g in number], out, rate)


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


def _pairs(
    stars: list[Stars], alignments: list[Alignment], used: list[int], reference: int, size: tuple[int, int]
) -> tuple[Array, Array, npt.NDArray[np.intp], Array]:
    """Places of matched stars in the frames and in the reference, which used frame each belongs to, and how
    much it tells."""
    parts = []
    for i in used:
        pairs = alignments[i].pairs
        pairs = pairs[_spread(stars[i].xy[pairs[:, 0]], size, MOST_PAIRS)]
        parts.append(
            (
                stars[i].xy[pairs[:, 0]],
                stars[reference].xy[pairs[:, 1]],
                weights(stars[i], stars[reference], pairs),
            )
        )
    which = np.repeat(np.arange(len(used)), [len(p[0]) for p in parts])
    here, there, weight = (np.concatenate([p[k] for p in parts]) for k in range(3))
    return here, there, which, weight


def _sane(model: RotationModel, focal: float) -> RotationModel | None:
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
    here, there, which, weight = _pairs(stars, alignments, used, reference, size)
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
    return _sane(replace(best, rotations=rotations, bumps=bumps if len(groups.moved) > 1 else None), focal)


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


def fit_loose(
    stars: list[Stars], alignments: list[Alignment], reference: int, size: tuple[int, int], focal: float
) -> RotationModel | None:
    """One lens, but every frame turned as its own stars ask: for a camera that slips while it shoots.

    Gauss-Newton over log focal, k1 and a small rotation a frame, with weights that fall beyond 0.3 px.
    """
    used = [i for i, a in enumerate(alignments) if a.used and i != reference]
    if len(used) < 2:
        return None
    centre = ((size[0] - 1) / 2, (size[1] - 1) / 2)
    here, there, which, told = _pairs(stars, alignments, used, reference, size)
    turns = np.array([as_rotation(alignments[i].homography, focal, centre) for i in used])
    lens = np.array([np.log(focal), 0.0])
    n = len(used)

    def residual(lens: Array, turns: Array) -> Array:
        f = float(np.exp(lens[0]))
        moved = np.einsum("nij,nj->ni", turns[which], rays(here, f, lens[1], centre))
        return np.asarray(pixels(moved, f, lens[1], centre) - there)

    for _ in range(12):
        r = residual(lens, turns)
        weight = told[:, None] ** 2 / np.sqrt(1 + (r * told[:, None] / 0.3) ** 2)
        small = 1e-5
        shared = [(residual(lens + small * e, turns) - r) / small for e in np.eye(2)]
        own = [
            (residual(lens, small_turn(np.array(small * np.eye(3)[axis])) @ turns) - r) / small
            for axis in range(3)
        ]
        matrix, right = np.zeros((2 + 3 * n, 2 + 3 * n)), np.zeros(2 + 3 * n)
        for i in range(n):
            mine = which == i
            j = np.stack([c[mine].ravel() for c in (*shared, *own)], axis=1)
            w = weight[mine].ravel()
            at = np.r_[0, 1, 2 + 3 * i + np.arange(3)]
            matrix[np.ix_(at, at)] += (j * w[:, None]).T @ j
            right[at] -= j.T @ (w * r[mine].ravel())
        matrix[np.diag_indices_from(matrix)] *= 1 + 1e-6
        try:
            step = np.linalg.solve(matrix, right)
        except np.linalg.LinAlgError:
            return None
        lens = lens + np.clip(step[:2], -0.2, 0.2)
        turns = np.array([small_turn(np.array(v, float)) for v in step[2:].reshape(n, 3)]) @ turns
        if np.abs(step).max() < 1e-8:
            break
    rotations = [np.eye(3) for _ in alignments]
    for place, i in enumerate(used):
        rotations[i] = turns[place]
    rms = trimmed_rms(residual(lens, turns), told)
    return _sane(
        RotationModel(
            focal=float(np.exp(lens[0])), k1=float(lens[1]), centre=centre, rotations=rotations, rms=rms
        ),
        focal,
    )
