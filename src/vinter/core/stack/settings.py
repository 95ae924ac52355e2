"""How to stack: what the user may choose, checked."""

from dataclasses import dataclass
from pathlib import Path

from vinter.core.errors import BadInput
from vinter.core.stack.combining.methods import KAPPA, Method

EVEN, LEAVE = "auto", "off"
CORNERS = (EVEN, LEAVE)  # what becomes of corners that the stars show to be darker
LAMPS = ("out", "only", "all")
GROUNDS = ("auto", "none", "own", "focus")


@dataclass(frozen=True, kw_only=True)
class Settings:
    """How to stack.

    ground: auto (the mean of the frames in which the camera did not move), none, own (the mean of
    ``ground_frames``), focus (the sharpest of ``ground_frames`` at each place), or the name of the frame that
    gives it. lamp: of frames whose ground a lamp lit, out leaves their ground out, only takes it from them
    alone, all lets every frame count. mask: a sky mask (255 = sky) of the reference's size, in place of the
    one found; ``mask_straight`` says that it was drawn over a picture already straightened, as is
    ground_choice: a picture of that size that names, by its level, the ground frame of a focus pair (1 the
    first) each place is taken from; 0 leaves it to their sharpness. match: auto
    brings every frame to the reference's brightness and background, off leaves them. lens: auto applies the
    lens warp the files carry, off leaves the picture as shot. Trails: gaps close or open; tail: by which
    share the oldest frame is darker.
    """

    method: Method = Method.CLIP
    kappa: float = KAPPA
    ground: str = "auto"
    reference: str = "auto"
    workers: int = 2
    darks: tuple[Path, ...] = ()
    flats: tuple[Path, ...] = ()
    bias: tuple[Path, ...] = ()
    mask: Path | None = None
    mask_straight: bool = False
    lamp: str = "out"
    gaps: str = "close"
    tail: float = 0.0
    match: str = "auto"
    lens: str = "auto"
    ground_frames: tuple[Path, ...] = ()
    ground_choice: Path | None = None

    def __post_init__(self) -> None:
        for name, words in (
            ("gaps", ("close", "open")),
            ("match", ("auto", "off")),
            ("lens", ("auto", "off")),
        ):
            if getattr(self, name) not in words:
                raise BadInput(f"{name} {getattr(self, name)!r} is neither {words[0]} nor {words[1]}")
        if self.lamp not in LAMPS:
            raise BadInput(f"lamp {self.lamp!r} is not one of {', '.join(LAMPS)}")
        if not 0 <= self.tail <= 1:
            raise BadInput(f"tail {self.tail:g} is not a share from 0 to 1")
        if self.method not in set(Method):
            raise BadInput(f"method {self.method!r} is not one of {', '.join(Method)}")
        object.__setattr__(self, "method", Method(self.method))
        if not 1.5 <= self.kappa <= 20:
            raise BadInput(f"kappa {self.kappa:g} is not within 1.5 to 20")
        if self.ground in ("own", "focus") and len(self.ground_frames) < (2 if self.ground == "focus" else 1):
            many = "two or more, focused near and far" if self.ground == "focus" else "one or more"
            raise BadInput(f"the ground needs frames of its own: {many}")
