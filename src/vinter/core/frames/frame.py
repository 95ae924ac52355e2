"""A frame in memory: its pixels, levels and colours, turned upright."""

from dataclasses import dataclass
from pathlib import Path

import numpy as np
import numpy.typing as npt

from vinter.core.errors import BadInput
from vinter.core.frames.lenswarp import UPRIGHT, LensWarp
from vinter.core.frames.metadata import Metadata
from vinter.core.frames.opcodes import CorrectionNote

LINEAR_KINDS = ("bayer", "linear")  # kinds of frames whose numbers are proportional to light
# patterns with greens on a diagonal, one red, one blue
BAYER = {(0, 1, 1, 2), (2, 1, 1, 0), (1, 0, 2, 1), (1, 2, 0, 1)}


@dataclass(frozen=True)
class Colour:
    """How camera colour becomes a picture: its white (3,), the matrix from balanced camera RGB to linear
    sRGB, and the temperature (K) of the light that white was taken in."""

    neutral: tuple[float, float, float] = (1.0, 1.0, 1.0)
    matrix: tuple[tuple[float, ...], ...] = ((1, 0, 0), (0, 1, 0), (0, 0, 1))
    kelvin: float = 5200.0

    @property
    def finished(self) -> bool:
        """Whether the colours are a picture's already, and no camera's."""
        same = np.allclose(self.neutral, 1, atol=1e-3) and np.allclose(self.matrix, np.eye(3), atol=1e-3)
        return bool(same)


@dataclass(frozen=True, kw_only=True)
class Frame:
    """An upright frame: a Bayer mosaic (height, width) with its 2 x 2 pattern, or RGB (height, width, 3).

    Data are uint16; black (2, 2) by mosaic place (or a constant) and white in the same numbers. Pattern
    codes: 0 red, 1 green, 2 blue. ``linear`` is False for gamma-encoded pictures. ``shading`` is the gain
    (height, width) the file itself asks for, ``warp`` its lens warp; ``notes`` say what else of its
    corrections was met.
    """

    path: Path
    kind: str
    data: npt.NDArray[np.uint16]
    pattern: npt.NDArray[np.int64] | None
    black: npt.NDArray[np.float64]
    white: float
    colour: Colour
    meta: Metadata
    linear: bool = True
    shading: npt.NDArray[np.float32] | None = None
    notes: tuple[CorrectionNote, ...] = ()
    warp: LensWarp | None = None

    def __post_init__(self) -> None:
        if self.pattern is not None and tuple(map(int, self.pattern.ravel())) not in BAYER:
            raise BadInput(f"{self.path.name}: its colour filter is not a Bayer pattern")
        if not np.isfinite(self.white) or self.white <= float(np.max(self.black)):
            raise BadInput(f"{self.path.name}: its white level ({self.white:g}) is not above its black")

    @property
    def size(self) -> tuple[int, int]:
        """Width and height."""
        return self.data.shape[1], self.data.shape[0]


def upright(data: npt.NDArray[np.uint16], orientation: int) -> npt.NDArray[np.uint16]:
    """Data turned (and mirrored) as its EXIF orientation asks."""
    turns, mirrored = UPRIGHT.get(orientation, (0, False))
    if mirrored:
        data = data[:, ::-1]
    return np.ascontiguousarray(np.rot90(data, turns))
