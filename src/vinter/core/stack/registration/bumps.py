"""Where the tripod was bumped, and how the camera stood before and after."""

from dataclasses import dataclass
from itertools import pairwise

import numpy as np
import numpy.typing as npt

from vinter.core.stack.registration.geometry import (
    as_rotation,
    small_turn,
    vector_of,
)
from vinter.core.stack.registration.star_matching import Alignment

Array = npt.NDArray[np.float64]

BUMP_PX = 1.5  # px: after a smaller step the camera is taken to have stood still


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
