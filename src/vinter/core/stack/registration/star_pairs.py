"""Pairs of matched stars, spread over the picture, with how much each tells."""

import numpy as np
import numpy.typing as npt

from vinter.core.frames.stars import Stars
from vinter.core.stack.registration.star_matching import Alignment, weights

Array = npt.NDArray[np.float64]

MOST_PAIRS = 160  # pairs of stars of a frame, spread over the picture
CELLS = 8


def _spread(xy: Array, size: tuple[int, int], most: int) -> npt.NDArray[np.intp]:
    """Indices of at most ``most`` points, the first of each cell of a grid in turn."""
    cell = np.minimum((xy / (np.array(size) / CELLS)).astype(int), CELLS - 1)
    key = cell[:, 0] * CELLS + cell[:, 1]
    order = np.argsort(key, kind="stable")
    first = np.r_[0, np.flatnonzero(np.diff(key[order])) + 1]
    rank = np.arange(len(order)) - np.repeat(first, np.diff(np.r_[first, len(order)]))
    return order[np.argsort(rank, kind="stable")][:most]


def matched_places(
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
