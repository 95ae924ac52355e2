"""How to stack: what the user may choose, and the files it is chosen with."""

from dataclasses import dataclass
from pathlib import Path

from vinter.core.errors import BadInput
from vinter.core.stack.options import Options

GROUNDS = ("auto", "none", "own", "focus")


@dataclass(frozen=True, kw_only=True)
class Settings(Options):
    """The options of a stack, and what they are applied to.

    ground: auto (the mean of the frames in which the camera did not move), none, own (the mean of
    ``ground_frames``), focus (the sharpest of ``ground_frames`` at each place), or the name of the frame that
    gives it. mask: a sky mask (255 = sky) of the reference's size, in place of the
    one found; ``mask_straight`` says that it was drawn over a picture already straightened, as is
    ground_choice: a picture of that size that names, by its level, the ground frame of a focus pair (1 the
    first) each place is taken from; 0 leaves it to their sharpness.
    """

    ground: str = "auto"
    reference: str = "auto"
    workers: int = 2
    darks: tuple[Path, ...] = ()
    flats: tuple[Path, ...] = ()
    bias: tuple[Path, ...] = ()
    mask: Path | None = None
    mask_straight: bool = False
    ground_frames: tuple[Path, ...] = ()
    ground_choice: Path | None = None

    def __post_init__(self) -> None:
        super().__post_init__()
        if self.ground in ("own", "focus") and len(self.ground_frames) < (2 if self.ground == "focus" else 1):
            many = "two or more, focused near and far" if self.ground == "focus" else "one or more"
            raise BadInput(f"the ground needs frames of its own: {many}")
