"""What was measured of a frame, and how it is stored."""

from dataclasses import MISSING, dataclass, field, fields
from functools import cache
from typing import Any

from vinter.core.formats.exif import Taken
from vinter.core.frames.metadata import believable, camera_name
from vinter.core.frames.psf_map import Cell
from vinter.core.versions import Data, Schema

FEW_STARS = 15  # stars below which a frame shows no sky


@dataclass(frozen=True, kw_only=True)
class Measure:
    """What a frame shows. Lengths in px, background and noise as shares of full scale.

    ``structure`` is the detail at 16 to 50 px over the level: near 0 in a flat, large over ground; ``bottom``
    and ``brightest`` the level along the lower edge and of the brightest part, ``uneven`` how far its parts
    lie apart, as shares of full scale; ``shapes`` the stars' over the frame; ``streak_lines`` the ends of
    lines of light (x0, y0, x1, y1, px); ``f35`` the 35 mm equivalent focal length and ``place`` the latitude
    and longitude and ``model`` the camera the file names; ``pictures`` how many a film holds. ``local``,
    ``time_source``, ``direction``, ``magnetic``, ``lens`` and ``aperture`` are as in ``Metadata``;
    ``light`` says that it is no night sky, and why; ``file_time`` and ``file_source`` are what the file said
    of its time before somebody knew better.
    """

    file: str
    kind: str
    width: int
    height: int
    iso: int | None
    exposure_s: float | None
    time: float | None
    stars: int
    fwhm_px: float
    elongation: float
    trail_px: float
    background: float
    noise: float
    clipped_fraction: float
    streaks: int
    raw: str
    raw_reasons: list[str]
    verdict: str = "keep"
    reasons: list[str] = field(default_factory=list)
    structure: float = 0.0
    shapes: list[Cell] = field(default_factory=list)
    shapes_say: str = ""
    bottom: float = 0.0
    brightest: float = 0.0
    uneven: float = 0.0
    streak_lines: list[tuple[float, float, float, float]] = field(default_factory=list)
    f35: float | None = None
    place: tuple[float, float] | None = None
    model: str = ""
    pictures: int = 1
    make: str = ""
    focal_mm: float | None = None
    local: float | None = None
    time_source: str = ""
    direction: float | None = None
    magnetic: bool = False
    light: str = ""
    file_time: float | None = None
    file_source: str = ""
    lens: str = ""
    aperture: float | None = None

    @property
    def taken(self) -> Taken:
        """How the frame was taken, as a picture made from it says."""
        same = {f.name: getattr(self, f.name) for f in fields(Taken) if f.name != "zoned"}
        return Taken(**same, zoned=bool(self.time_source) and self.time is not None)

    @property
    def camera(self) -> str:
        """Maker and model, the maker once."""
        return camera_name(self.make, self.model)


MEASURE = Schema("measure of a frame")


@cache
def _blank() -> dict[str, float]:
    """What a number of a measure is where it is missing."""
    numbers = [f for f in fields(Measure) if f.type in (int, float)]
    return {f.name: 0 if f.default is MISSING else f.default for f in numbers}


def stored_measure(data: Data) -> Measure:
    """A measure from data that were stored: a number that is missing there takes its default (0 where it has
    none), and a time that no photograph can be of is none."""
    data = {name: value for name, value in data.items() if name != "version"}
    blank = _blank()
    filled: dict[str, Any] = {k: blank.get(k) if v is None and k in blank else v for k, v in data.items()}
    time = filled.get("time")
    return Measure(**{**filled, "time": time if time is not None and believable(time) else None})
