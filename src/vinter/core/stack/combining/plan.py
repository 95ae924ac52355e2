"""What a tile is made from: sources, ground, masks, and the grid of tiles."""

from dataclasses import dataclass, field
from pathlib import Path

import numpy as np
import numpy.typing as npt

from vinter.core.stack.combining.methods import Method
from vinter.core.stack.photometry.normalization import Normalization
from vinter.core.stack.registration.motion_model import RotationModel

Array = npt.NDArray[np.float64]

BUDGET_BYTES = 60_000_000  # bytes of samples that a worker holds for one tile
SIDES = 64, 768  # px, the shortest and the longest side of a tile


@dataclass(frozen=True)
class Source:
    """One frame for the second pass: its spill file, Bayer pattern, homography to the reference, how bright
    it counts, what brings it to the reference's light, and its own usable sky (.npy) when its camera stood
    otherwise."""

    spill: Path
    pattern: npt.NDArray[np.int64] | None
    homography: Array
    fade: float = 1.0
    normalization: Normalization = field(default_factory=Normalization)
    usable: Path | None = None


@dataclass(frozen=True)
class Foreground:
    """What the ground is made of: frames laid on the reference's ground by their homographies (none: no
    ground); with ``shares`` (.npy, (n, height / 2, width / 2), summing to 1) each gives that share of a
    place, else their clipped mean does."""

    sources: list[Source]
    shares: Path | None = None


@dataclass(frozen=True, kw_only=True)
class Plan:
    """Everything a tile needs; sky and ground masks are .npy files of the frame's size."""

    sources: list[Source]
    size: tuple[int, int]
    model: RotationModel | None
    mask: Path
    usable: Path
    method: Method
    kappa: float
    noise: Array | None
    foreground: Foreground
    reference: int


@dataclass(frozen=True)
class Tile:
    """Origin and size of a tile in reference pixels."""

    x: int
    y: int
    width: int
    height: int


@dataclass(frozen=True)
class Done:
    """A finished tile: the noise seen in it (or nan), and the private memory it took, MB."""

    tile: Tile
    single_noise: float
    stack_noise: float
    peak_mb: float


def tile_grid(size: tuple[int, int], frames: int) -> list[Tile]:
    """Tiles that cover a frame, small enough that all samples of one fit the budget."""
    side = int(np.sqrt(BUDGET_BYTES / (max(frames, 1) * 3 * 2 + 60)))
    side = int(np.clip(side // 16 * 16, *SIDES))
    columns, rows = -(-size[0] // side), -(-size[1] // side)
    w, h = -(-size[0] // columns), -(-size[1] // rows)
    return [
        Tile(x, y, min(w, size[0] - x), min(h, size[1] - y))
        for y in range(0, size[1], h)
        for x in range(0, size[0], w)
    ]
