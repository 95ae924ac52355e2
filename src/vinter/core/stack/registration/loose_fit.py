"""One lens for frames whose camera slips: every frame turned as its own stars ask."""

import numpy as np
import numpy.typing as npt

from vinter.core.frames.stars import Stars
from vinter.core.stack.registration.geometry import (
    as_rotation,
    pixels,
    rays,
    small_turn,
)
from vinter.core.stack.registration.motion_model import RotationModel, sane
from vinter.core.stack.registration.star_matching import Alignment, trimmed_rms
from vinter.core.stack.registration.star_pairs import matched_places

Array = npt.NDArray[np.float64]


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
    here, there, which, told = matched_places(stars, alignments, used, reference, size)
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
    return sane(
        RotationModel(
            focal=float(np.exp(lens[0])), k1=float(lens[1]), centre=centre, rotations=rotations, rms=rms
        ),
        focal,
    )
