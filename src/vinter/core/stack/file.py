"""A stack as it is stored: a 32-bit float linear RGB TIFF that carries its colours and its field, and the
share of sky beside it. Whoever writes or reads one does it here."""

import json
from collections.abc import Callable
from dataclasses import asdict, dataclass, field, replace
from pathlib import Path
from typing import Any

import cv2
import numpy as np
import numpy.typing as npt
import tifffile

from vinter.core.errors import BadInput
from vinter.core.formats.exif import Taken, taken_from
from vinter.core.formats.whole import whole, write_image
from vinter.core.frames.frame import Colour
from vinter.core.stack.photometry.sky_light import under_moon
from vinter.core.stack.plate_solve import Solution, field_from
from vinter.core.versions import Data

F32 = npt.NDArray[np.float32]
U8 = npt.NDArray[np.uint8]
MASK_END, LEFT_OUT_END = ".mask.png", ".left-out.png"
BURST, JOINED = "stack", "joined"


@dataclass(frozen=True, kw_only=True)
class About:
    """What a stack's file says of itself: burst or joined, colours, frames in it, focal length (px, None
    where it is not known), the midpoint of the exposure that its stars stand as they did in (Unix s), whether
    it is a night sky, whether its frames' numbers are proportional to light, the solved field, what was
    measured once it was solved (as in its report), and how its reference frame was taken."""

    kind: str = BURST
    colour: Colour = field(default_factory=Colour)
    frames: int = 0
    focal_px: float | None = None
    unix: float | None = None
    night: bool = True
    linear: bool = True
    solved: Solution | None = None
    measured: dict[str, Any] = field(default_factory=dict)
    taken: Taken = field(default_factory=Taken)

    @property
    def moonlit(self) -> bool:
        """Whether the Moon lit the sky, by its measured brightness."""
        return under_moon(self.measured.get("sky"))

    def text(self) -> str:
        """As the TIFF's description holds it."""
        return json.dumps(
            {
                "vinter": self.kind,
                **asdict(self.colour),
                "frames": self.frames,
                "focal_px": self.focal_px,
                "unix": self.unix,
                "night": self.night,
                "linear": self.linear,
                "field": asdict(self.solved) if self.solved else None,
                "measured": self.measured,
                "taken": self.taken.data(),
            }
        )


def about_from(text: str) -> About:
    """What a description says; neutral colours and no field where it says nothing of them."""
    try:
        data = json.loads(text)
    except ValueError:
        return About()
    if not isinstance(data, dict):
        return About()
    try:
        solved = field_from(data["field"]) if data.get("field") else None
    except (KeyError, TypeError, ValueError):
        solved = None
    measured = data.get("measured")
    return About(
        kind=str(data.get("vinter", BURST)),
        colour=colour_from(data),
        frames=int(data.get("frames") or 0),
        focal_px=data.get("focal_px"),
        unix=data.get("unix"),
        night=data.get("night") is not False,
        linear=data.get("linear") is not False,
        solved=solved,
        measured=measured if isinstance(measured, dict) else {},
        taken=taken_from(data.get("taken")),
    )


def colour_from(data: Data) -> Colour:
    """Colours from stored data; neutral where they hold none."""
    try:
        n = [float(v) for v in data["neutral"]]
        matrix = tuple(tuple(float(v) for v in row) for row in data["matrix"])
        return Colour((n[0], n[1], n[2]), matrix, float(data.get("kelvin", Colour.kelvin)))
    except (ValueError, KeyError, TypeError, IndexError):
        return Colour()


def mask_of(picture: Path) -> Path:
    """Where the share of sky of a stack lies (255 = sky)."""
    return picture.with_suffix(MASK_END)


def left_out_of(picture: Path) -> Path:
    """Where the map of samples lies that were left out of a stack."""
    return picture.with_suffix(LEFT_OUT_END)


def write_stack(out: Path, rgb: F32, mask: U8 | None, about: About) -> None:
    """A stack into its files, each there whole or not at all; without a mask all of it is sky."""
    with whole(out) as draft:
        tifffile.imwrite(draft, rgb, photometric="rgb", description=about.text(), compression=None)
    write_image(mask_of(out), np.full(rgb.shape[:2], 255, np.uint8) if mask is None else mask)


def replace_picture(path: Path, rgb: F32, mask: U8 | None = None) -> None:
    """Other light into a stack's file, and another mask where one is given; what it says of itself stays."""
    if mask is not None:
        write_image(mask_of(path), mask)
    about = read_about(path)
    with whole(path) as draft:
        tifffile.imwrite(draft, rgb, photometric="rgb", description=about.text(), compression=None)


def keep_solved(path: Path, solved: Solution | None, measured: Data | None = None) -> None:
    """Write a solved field, and what was measured by it, into a stack's file, so that they go where it
    goes."""
    restate(path, lambda about: replace(about, solved=solved, measured=measured or about.measured))


def restate(path: Path, change: Callable[[About], About]) -> None:
    """Change what a stack's file says of itself."""
    with tifffile.TiffFile(path, mode="r+b") as file:
        tag = file.pages[0].tags["ImageDescription"]
        tag.overwrite(change(about_from(str(tag.value))).text())


def read_about(path: Path) -> About:
    """What a stack's file says of itself; of a file that is none, nothing."""
    try:
        with tifffile.TiffFile(path) as file:
            return about_from(getattr(file.pages[0], "description", "") or "")
    except (OSError, ValueError, TypeError, AttributeError, tifffile.TiffFileError):
        return About()


def is_stack(path: Path) -> bool:
    """Whether a file is a picture that was stacked here."""
    try:
        with tifffile.TiffFile(path) as file:
            return '"vinter"' in (getattr(file.pages[0], "description", "") or "")
    except (OSError, ValueError, TypeError, IndexError, tifffile.TiffFileError):
        return False


def read_stack(path: Path) -> tuple[F32, U8 | None, Colour]:
    """A stack's picture (h, w, 3), its mask (h, w; None when none lies beside it), and its colours (neutral
    when it has none). BadInput when it is no TIFF of a colour picture."""
    try:
        with tifffile.TiffFile(path) as file:
            rgb = file.asarray()
            about = about_from(getattr(file.pages[0], "description", "") or "")
    except (OSError, ValueError, tifffile.TiffFileError) as error:
        raise BadInput(f"{path}: not a TIFF that can be read ({error})") from error
    if rgb.ndim != 3 or rgb.shape[2] < 3:
        raise BadInput(f"{path.name}: a picture of shape {rgb.shape} is not RGB")
    if np.issubdtype(rgb.dtype, np.integer):
        rgb = rgb[..., :3].astype(np.float32) / np.iinfo(rgb.dtype).max
    mask = cv2.imread(str(mask_of(path)), cv2.IMREAD_GRAYSCALE) if mask_of(path).is_file() else None
    return (
        np.ascontiguousarray(rgb[..., :3], np.float32),
        None if mask is None else np.asarray(mask, np.uint8),
        about.colour,
    )


def read_field(path: Path) -> Solution | None:
    """The solved field that a stack's file carries; None when it has none."""
    return read_about(path).solved


def share_of_sky(rgb: F32, mask: U8 | None) -> F32:
    """A mask as shares from 0 to 1; all sky without one."""
    if mask is None:
        return np.ones(rgb.shape[:2], np.float32)
    return np.asarray(mask.astype(np.float32) / np.float32(255), np.float32)
