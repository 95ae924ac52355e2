"""What a mode starts from and what it gives."""

from collections.abc import Callable
from dataclasses import dataclass, field

from vinter.core.camera.exposure import Exposure
from vinter.core.camera.phones import Lens
from vinter.core.camera.photons import sky_rate
from vinter.core.camera.projection import Pose
from vinter.core.sky.nights import Moment
from vinter.core.sky.site import Site


@dataclass(frozen=True, kw_only=True)
class Basis:
    """What every mode starts from: site, minute, lens, how it is held and points, the target then, the usual
    exposure."""

    site: Site
    unix: float
    lens: Lens
    portrait: bool
    pose: Pose
    at: Moment
    exposure: Exposure
    use: str = "screen"


@dataclass(frozen=True, kw_only=True)
class ModePlan:
    """Settings, figures with their units, steps for the card beyond the usual ones, reasons and cautions.

    ``interval`` is from the start of one frame to the next in s.
    """

    shutter: float
    iso: int
    frames: int
    interval: float
    figures: list[tuple[str, str]]
    steps: list[tuple[str, str]] = field(default_factory=list)
    reasons: list[str] = field(default_factory=list)
    cautions: list[str] = field(default_factory=list)

    @property
    def minutes(self) -> float:
        """How long it takes."""
        return self.frames * self.interval / 60


@dataclass(frozen=True)
class Option:
    """One number a mode asks for, with its bounds."""

    key: str
    label: str
    default: float
    low: float
    high: float


@dataclass(frozen=True)
class Mode:
    """A mode: its name, options and the function that plans it."""

    key: str
    name: str
    options: tuple[Option, ...]
    plan: Callable[[Basis, dict[str, float]], ModePlan]


def usual(b: Basis) -> tuple[float, int, int]:
    """The usual shutter in s, ISO and count of frames."""
    return b.exposure.shutter.chosen, b.exposure.iso.chosen, b.exposure.frames.count


def storage(b: Basis, frames: int) -> tuple[str, str]:
    """What so many frames take on the card."""
    return "Storage", f"{frames * b.lens.raw_megabytes / 1000:.1f} GB"


def sky_fitting_iso(b: Basis, seconds: float, level: float) -> int:
    """The usual ISO, halved until a long shutter leaves the sky under a linear level (0 to 1)."""
    iso, electrons = b.exposure.iso.chosen, sky_rate(b.lens, b.at.brightness) * seconds
    while iso > b.lens.iso_min and electrons / b.lens.full_scale(iso) > level:
        iso //= 2
    return max(iso, b.lens.iso_min)
