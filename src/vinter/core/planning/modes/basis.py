"""What a mode starts from and what it gives."""

from collections.abc import Callable
from dataclasses import dataclass, field
from datetime import datetime
from enum import StrEnum
from typing import Required, TypedDict, Unpack

import numpy as np

from vinter.core.camera.exposure import Exposure, OwnSettings
from vinter.core.camera.frame_count import BAND_MAG
from vinter.core.camera.phones import Lens
from vinter.core.camera.photons import sky_rate
from vinter.core.camera.projection import Pose
from vinter.core.planning.light import DARK, fills_at
from vinter.core.sky.nights import Moment
from vinter.core.sky.satellites import Pass
from vinter.core.sky.site import Site
from vinter.core.sky.targets import CORE, Target
from vinter.core.versions import Data, Schema
from vinter.core.words import spoken_seconds

DELAY_SECONDS = 3.0  # s until the phone has stopped shaking


@dataclass(frozen=True, kw_only=True)
class Basis:
    """What every mode starts from: site, minute, lens, how it is held and points, the target then, the usual
    exposure, and what the photographer sets against the advice.

    ``band_mag`` is the target's own light as it reaches the camera, V mag/arcsec^2.
    """

    site: Site
    unix: float
    lens: Lens
    portrait: bool
    pose: Pose
    at: Moment
    exposure: Exposure
    use: str = "screen"
    passing: Pass | None = None
    own: OwnSettings = field(default_factory=OwnSettings)
    band_mag: float = BAND_MAG
    target: Target = CORE
    dark_until: float | None = None  # Unix time when the dawn begins; None when it does not within a day

    def settled(self, shutter: float, iso: int, frames: int) -> "Settled":
        """A mode's own advice, overruled by what the photographer sets; words where they differ."""
        own, words = self.own, []
        if own.shutter is not None and abs(own.shutter / shutter - 1) > 0.01:
            words.append(
                f"Your shutter of {spoken_shutter(own.shutter)}; {spoken_shutter(shutter)} is the advice."
            )
        if own.iso is not None and own.iso != iso:
            words.append(f"Your ISO {own.iso}; {iso} is the advice.")
        if own.frames is not None and own.frames != frames:
            words.append(f"Your {own.frames} frames; {frames} would be the advice.")
        return Settled(own.shutter or shutter, own.iso or iso, own.frames or frames, words)


@dataclass(frozen=True)
class Settled:
    """Shutter in s, ISO and count of frames as they will be set, and where that departs from the advice."""

    shutter: float
    iso: int
    frames: int
    words: list[str]


def spoken_shutter(seconds: float) -> str:
    """A shutter as a phone shows it."""
    return spoken_seconds(seconds)


class Shows(StrEnum):
    """Which of the usual exposure's figures hold for a mode: those of a stack, those of one frame, or none
    because the mode has its own."""

    STACK = "stack"
    FRAME = "frame"
    OWN = "own"


class StepKind(StrEnum):
    """What a step of the card is about, for whoever acts on it: the timer sounds the lamp."""

    SET = "set"
    LAMP = "lamp"
    CAUTION = "caution"


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

    ``interval`` is from the start of one frame to the next in s, ``trail`` what its stars trail, in words;
    ``pose`` and ``start`` (Unix seconds) where the mode points and begins elsewhere than the plan; ``delay``
    the s between release and shutter, ``more_seconds`` what follows the frames, ``sweep`` the degrees of
    azimuth that the lens is turned through, to both sides of the target.
    """

    shutter: float
    iso: int
    frames: int
    interval: float
    figures: list[tuple[str, str]]
    steps: list[CardStep] = field(default_factory=list)
    reasons: list[str] = field(default_factory=list)
    cautions: list[str] = field(default_factory=list)
    trail: str = ""
    pose: Pose | None = None
    start: float | None = None
    delay: float = DELAY_SECONDS
    more_seconds: float = 0.0
    sweep: float = 0.0

    @property
    def minutes(self) -> float:
        """How long it takes."""
        return (self.frames * self.interval + self.more_seconds) / 60


@dataclass(frozen=True)
class Option:
    """One number a mode asks for, with its bounds."""

    key: str
    label: str
    default: float
    low: float
    high: float


Plan = Callable[[Basis, dict[str, float]], ModePlan]


class Traits(TypedDict, total=False):
    """What a mode may say of itself, as in ``Mode``."""

    place: Required[int]
    shows: Shows
    target: str
    needs_pass: bool
    sequence: bool
    upright: bool
    needs_ground: bool
    on_cloud: str
    gear: tuple[str, ...]


@dataclass(frozen=True, kw_only=True)
class Mode:
    """A mode: its place in the list to choose from, its name, its options and the function that plans it.

    ``shows`` says which figures of the usual exposure hold for it, ``target`` is the key of what it always
    points at (empty: what the night is planned for), ``needs_pass`` that it wants the pass of a station,
    ``sequence`` that its frames become one film or one line, so that nothing may change between them;
    ``upright``
    that the phone is always held upright; ``needs_ground`` that its subject stands on the ground, which must
    be in the frame; ``on_cloud`` what to do instead when cloud comes;
    ``gear`` names what it needs beyond phone and tripod, by the keys of the pack list.
    """

    key: str
    name: str
    place: int
    options: tuple[Option, ...]
    plan: Plan
    shows: Shows = Shows.OWN
    target: str = ""
    needs_pass: bool = False
    sequence: bool = False
    upright: bool = False
    needs_ground: bool = False
    on_cloud: str = "shoot trails through the gaps, or the ground with the lamp"
    gear: tuple[str, ...] = ()

    @property
    def of_a_frame(self) -> bool:
        """Whether shutter and ISO of the usual exposure hold."""
        return self.shows != Shows.OWN

    @property
    def of_a_stack(self) -> bool:
        """Whether the usual exposure's count of frames holds too."""
        return self.shows == Shows.STACK


REGISTERED: dict[str, Mode] = {}


def mode(key: str, name: str, *options: Option, **traits: Unpack[Traits]) -> Callable[[Plan], Plan]:
    """Register a planning function as a mode, with the traits of ``Mode``: the one thing to write for a new
    kind of picture."""

    def registered(plan: Plan) -> Plan:
        REGISTERED[key] = Mode(key=key, name=name, options=options, plan=plan, **traits)
        return plan

    return registered


def _steps_with_kinds(plan: Data) -> Data:
    """Version 1 stored steps as pairs of words; only the lamp's seconds stood in them."""
    steps = []
    for label, value in plan.get("steps", []):
        lamp = label.startswith("Lamp on")
        seconds = float(value.split()[0]) if lamp else 0.0
        kind = StepKind.LAMP if lamp else StepKind.SET
        steps.append({"label": label, "value": value, "kind": str(kind), "seconds": seconds})
    return {**plan, "steps": steps}


MODE_PLAN = Schema("mode plan", (_steps_with_kinds,))


@dataclass(frozen=True)
class Sequence:
    """How many frames a sequence has, and what is to be said of the dawn."""

    frames: int
    words: list[str]
    cautions: list[str]


DAWN = Option("dawn", "Into the dawn on purpose (1: yes)", 0, 0, 1)


def before_dawn(b: Basis, frames: int, interval: float, shutter: float, iso: int, go_on: bool) -> Sequence:
    """A sequence of ``frames``, one every ``interval`` s: it ends when the Sun is 12 degrees down, unless
    it goes on on purpose or the photographer set the count; then it says when the sky fills a frame."""
    ends, dawn = b.unix + frames * interval, b.dark_until
    if dawn is None or ends <= dawn:
        return Sequence(frames, [], [])
    clock = datetime.fromtimestamp(dawn, b.site.zone)
    if not go_on and b.own.frames is None:
        fitting = max(int((dawn - b.unix) / interval), 1)
        hours = fitting * interval / 3600
        return Sequence(
            fitting,
            [
                f"It ends with the dawn: {fitting} frames of the {frames} wished, {hours:.1f} h, until the "
                f"Sun is {-DARK:.0f}° down at {clock:%H:%M}. Say “into the dawn” to go on."
            ],
            [],
        )
    t = np.arange(dawn, min(ends, dawn + 6 * 3600), 300.0)
    full = fills_at(b.site, b.target, b.lens, iso, shutter, t) if len(t) else None
    when = (
        f"; from {datetime.fromtimestamp(full, b.site.zone):%H:%M} on the sky fills the frame and it is white"
        if full
        else ""
    )
    return Sequence(
        frames, [], [f"It runs into the dawn: the Sun is {-DARK:.0f}° down at {clock:%H:%M}{when}."]
    )


def usual(b: Basis) -> tuple[float, int, int]:
    """The usual shutter in s, ISO and count of frames."""
    return b.exposure.shutter.chosen, b.exposure.iso.chosen, b.exposure.frames.count


def worst_trail(b: Basis, seconds: float) -> str:
    """What stars trail in the worst place in a number of seconds on a standing tripod."""
    return f"trails {seconds * b.exposure.shutter.worst_px_s:.1f} px at worst"


def storage(b: Basis, frames: int) -> tuple[str, str]:
    """What a number of frames takes on the card."""
    return "Storage", f"{frames * b.lens.raw_megabytes / 1000:.1f} GB"


def sky_fitting_iso(b: Basis, seconds: float, level: float) -> int:
    """The usual ISO, halved until a long shutter leaves the sky under a linear level (0 to 1); one's own as
    it
    is set."""
    if b.own.iso is not None:
        return b.own.iso
    iso, electrons = b.exposure.iso.chosen, sky_rate(b.lens, b.at.brightness) * seconds
    while iso > b.lens.iso_min and electrons / b.lens.full_scale(iso) > level:
        iso //= 2
    return max(iso, b.lens.iso_min)
