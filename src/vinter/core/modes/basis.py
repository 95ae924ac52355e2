"""What a mode starts from and what it gives."""

from collections.abc import Callable
from dataclasses import dataclass, field
from enum import StrEnum
from typing import Any

from vinter.core.camera.exposure import Exposure
from vinter.core.camera.phones import Lens
from vinter.core.camera.photons import sky_rate
from vinter.core.camera.projection import Pose
from vinter.core.sky.nights import Moment
from vinter.core.sky.satellites import Pass
from vinter.core.sky.site import Site
from vinter.core.versions import Schema


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
    passing: Pass | None = None


class StepKind(StrEnum):
    """What a step of the card is about, for whoever acts on it: the timer sounds the lamp."""

    SET = "set"
    LAMP = "lamp"


@dataclass(frozen=True)
class CardStep:
    """A line of the card: what to set or do, to what; ``seconds`` where it lasts (the lamp's time)."""

    label: str
    value: str
    kind: StepKind = StepKind.SET
    seconds: float = 0.0


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
    steps: list[CardStep] = field(default_factory=list)
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


Plan = Callable[[Basis, dict[str, float]], ModePlan]


@dataclass(frozen=True, kw_only=True)
class Mode:
    """A mode: its place in the list to choose from, its name, its options and the function that plans it.

    ``of_the_band`` says that the reasons of the usual exposure hold for it, ``needs_pass`` that it wants the
    pass of a station.
    """

    key: str
    name: str
    place: int
    options: tuple[Option, ...]
    plan: Plan
    of_the_band: bool = False
    needs_pass: bool = False


REGISTERED: dict[str, Mode] = {}


def mode(
    key: str, name: str, *options: Option, place: int, of_the_band: bool = False, needs_pass: bool = False
) -> Callable[[Plan], Plan]:
    """Register a planning function as a mode: the one thing to write for a new kind of picture."""

    def registered(plan: Plan) -> Plan:
        REGISTERED[key] = Mode(
            key=key,
            name=name,
            place=place,
            options=options,
            plan=plan,
            of_the_band=of_the_band,
            needs_pass=needs_pass,
        )
        return plan

    return registered


def _steps_with_kinds(plan: dict[str, Any]) -> dict[str, Any]:
    """Version 1 stored steps as pairs of words; only the lamp's seconds stood in them."""
    steps = []
    for label, value in plan.get("steps", []):
        lamp = label.startswith("Lamp on")
        seconds = float(value.split()[0]) if lamp else 0.0
        kind = StepKind.LAMP if lamp else StepKind.SET
        steps.append({"label": label, "value": value, "kind": str(kind), "seconds": seconds})
    return {**plan, "steps": steps}


MODE_PLAN = Schema("mode plan", (_steps_with_kinds,))


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
