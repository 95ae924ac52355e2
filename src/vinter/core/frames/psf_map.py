"""Star shapes over the frame: what is wrong when stars are not round, told by where and which way they are
long."""

from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

Array = npt.NDArray[np.float64]
COLUMNS, ROWS = 4, 3
LEAST_STARS = 3  # stars in a cell that is measured
ROUND_BELOW = 1.25  # elongation that the noise and the corners of a good frame give
SAME_WAY = 0.85  # coherence of directions above which all stars point one way
UNEVEN = 1.3  # ratio of the wider side's width to the other's
LEAST_CELLS = 5


@dataclass(frozen=True)
class Cell:
    """A part of the frame: column, row, stars, median FWHM (px), elongation of the mean shape, its direction
    (degrees from the row's direction towards the column's)."""

    column: int
    row: int
    stars: int
    fwhm: float
    elongation: float
    angle: float


def cells(
    x: Array, y: Array, fwhm: Array, elongation: Array, angle: Array, size: tuple[int, int]
) -> list[Cell]:
    """Mean shapes over a grid of 4 x 3 cells of a frame of ``size`` px; cells with fewer than three stars are
    left out."""
    column = np.clip((x / size[0] * COLUMNS).astype(int), 0, COLUMNS - 1)
    row = np.clip((y / size[1] * ROWS).astype(int), 0, ROWS - 1)
    out = []
    for r in range(ROWS):
        for c in range(COLUMNS):
            here = (column == c) & (row == r) & np.isfinite(fwhm)
            if here.sum() < LEAST_STARS:
                continue
            twice = 2 * np.radians(angle[here])
            along, across = (float(np.median((elongation[here] - 1) * f(twice))) for f in (np.cos, np.sin))
            out.append(
                Cell(
                    c,
                    r,
                    int(here.sum()),
                    round(float(np.median(fwhm[here])), 2),
                    round(1 + float(np.hypot(along, across)), 3),
                    round(float(np.degrees(np.arctan2(across, along)) / 2), 1),
                )
            )
    return out


def diagnosis(grid: list[Cell]) -> str:
    """One sentence on what the shapes say; with what would tell the causes apart where they look alike."""
    if len(grid) < LEAST_CELLS:
        return "too few stars over the frame to tell trailing from shake, tilt or focus"
    long, fwhm = np.array([c.elongation - 1 for c in grid]), np.array([c.fwhm for c in grid])
    twice = 2 * np.radians([c.angle for c in grid])
    vectors = long[:, None] * np.c_[np.cos(twice), np.sin(twice)]
    coherence = float(np.hypot(*vectors.sum(axis=0)) / max(long.sum(), 1e-9))
    if float(np.median(long)) + 1 > ROUND_BELOW:
        if coherence > SAME_WAY and float(long.std() / long.mean()) < 0.35:
            return (
                "long the same way everywhere: shake, or trailing far from the pole (trails look alike "
                "in the next frame, shake not)"
            )
        if coherence > 0.4:
            return (
                "long along a direction that turns over the frame: the sky trailed about its pole, so a "
                "shorter shutter"
            )
        return "long in different ways: the lens, or focus off; not the shutter"
    place = np.array([[c.column - (COLUMNS - 1) / 2, c.row - (ROWS - 1) / 2] for c in grid])
    for axis, names in ((0, ("left", "right")), (1, ("top", "bottom"))):
        low, high = fwhm[place[:, axis] < 0], fwhm[place[:, axis] > 0]
        if len(low) < 2 or len(high) < 2:
            continue
        ratio = float(np.median(high) / np.median(low))
        if max(ratio, 1 / ratio) > UNEVEN:
            wide = names[1] if ratio > 1 else names[0]
            return f"round, but wider at the {wide}: the lens or sensor is tilted, or dew begins there"
    return "round everywhere"
