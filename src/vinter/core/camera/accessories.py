"""Accessories that change the sums: clip-on lens, tracker, eyepiece adapter, clamp, power bank."""

from dataclasses import dataclass, replace

import numpy as np

from vinter.core.camera.phones import Lens
from vinter.core.camera.trailing import ARCSEC_PER_UM_MM
from vinter.core.constants import SIDEREAL_ARCSEC
from vinter.core.errors import BadInput

POWER_ERROR = 0.3  # relative error of the power that a phone takes
CELL_WH_WARM = 15.0  # Wh, charge of a usual phone's battery when warm
COLD_LOSS = 0.012  # share of the charge lost per degree below 20 deg C
IDLE_W, SHOOTING_W, SCREEN_W = 0.6, 2.6, 0.7
BANK_EFFICIENCY = 0.65  # share of a power bank's rated watt hours that arrives


def _within(label: str, value: float, low: float, high: float) -> None:
    if not low <= value <= high:
        raise BadInput(f"{label} {value:g} is not within {low:g} to {high:g}")


def with_clip_on(lens: Lens, factor: float) -> Lens:
    """The lens with a clip-on of a factor (0.6 makes it wider): focal lengths times it, the f-number stays.

    Corners suffer in ways no figure here knows: shoot one frame of a wall first.
    """
    _within("clip-on factor", factor, 0.2, 15)
    return replace(
        lens, name=f"{lens.name} with {factor:g}x clip-on", focal=lens.focal * factor, f35=lens.f35 * factor
    )


@dataclass(frozen=True)
class Tracker:
    """A star tracker: payload it carries (g), error of its polar alignment (arcmin), periodic error (arcsec,
    peak to peak)."""

    payload: float = 1000.0
    alignment: float = 20.0
    periodic: float = 40.0

    def longest(self, lens: Lens, tolerance_px: float) -> float:
        """Longest shutter in s at which a star drifts by no more than a tolerance (px), from alignment and
        periodic error."""
        _within("alignment error", self.alignment, 0.1, 600)
        per_px = ARCSEC_PER_UM_MM * lens.pitch / lens.focal
        # the worst star drifts by the sidereal rate times the misalignment in radians
        rate = SIDEREAL_ARCSEC * np.radians(self.alignment / 60)
        room = max(tolerance_px * per_px - self.periodic, 0.25 * tolerance_px * per_px)
        return float(room / rate)

    def trail_px(self, lens: Lens, seconds: float) -> float:
        """What the worst star drifts in a number of seconds, px: by the alignment, and the periodic error."""
        rate = SIDEREAL_ARCSEC * np.radians(self.alignment / 60)
        return float((rate * seconds + self.periodic) / (ARCSEC_PER_UM_MM * lens.pitch / lens.focal))

    def carries(self, grams: float) -> bool:
        """Whether it carries phone, clamp and head."""
        return grams <= self.payload


@dataclass(frozen=True, kw_only=True)
class Eyepiece:
    """A telescope with an eyepiece and a phone behind it: lengths in mm, field of the eyepiece in degrees,
    masses in g.

    ``holder`` is the widest phone the adapter takes, ``barrel`` the widest eyepiece; ``arm`` the distance of
    phone and adapter from the balance point.
    """

    aperture: float
    focal: float
    eyepiece: float
    field: float = 50.0
    holder: float = 90.0
    barrel: float = 45.0
    adapter_mass: float = 180.0
    arm: float = 250.0

    def __post_init__(self) -> None:
        for label, value, low, high in (
            ("telescope aperture", self.aperture, 20, 1000),
            ("telescope focal length", self.focal, 100, 6000),
            ("eyepiece focal length", self.eyepiece, 2, 60),
        ):
            _within(label, value, low, high)

    def problems(self, phone_width: float, eyepiece_outside: float) -> list[str]:
        """What does not fit: a phone wider than the holder, an eyepiece thicker than the barrel, in mm."""
        out = []
        if phone_width > self.holder:
            out.append(
                f"The adapter takes phones to {self.holder:g} mm; yours is {phone_width:g} mm wide with its "
                "case."
            )
        if eyepiece_outside > self.barrel:
            out.append(
                f"The adapter grips eyepieces to {self.barrel:g} mm; this one is {eyepiece_outside:g} mm "
                "outside."
            )
        return out

    @property
    def magnification(self) -> float:
        """Angular magnification."""
        return self.focal / self.eyepiece

    @property
    def exit_pupil(self) -> float:
        """Diameter of the light that leaves the eyepiece, mm."""
        return self.aperture / self.magnification

    @property
    def true_field(self) -> float:
        """Degrees of sky in the bright disc."""
        return self.field / self.magnification

    def effective(self, lens: Lens) -> tuple[float, float]:
        """Focal length (mm) and f-number of phone lens and telescope together; the narrower of both pupils
        decides."""
        focal = lens.focal * self.magnification
        opening = min(self.exit_pupil, lens.focal / lens.aperture) * self.magnification
        return focal, focal / opening

    def counterweight(self, phone_mass: float, arm: float) -> float:
        """Grams of counterweight on an arm (mm) the other way that balance phone and adapter."""
        _within("arm", arm, 10, 2000)
        return (phone_mass + self.adapter_mass) * self.arm / arm


@dataclass(frozen=True)
class Clamp:
    """A clamp: jaws' width in mm, and the bands (from, to, mm from the phone's end) that its jaws cover."""

    narrowest: float
    widest: float
    jaw: tuple[float, float] = (60.0, 85.0)

    def problems(self, width: float, buttons: tuple[tuple[float, float], ...] = ()) -> list[str]:
        """What is wrong with holding a phone of a width (mm, with its case) with side buttons at bands in
        mm."""
        out = []
        if not self.narrowest <= width <= self.widest:
            out.append(
                f"The clamp opens {self.narrowest:g} to {self.widest:g} mm, the phone is {width:g} mm wide "
                "with its case."
            )
        if any(low < self.jaw[1] and high > self.jaw[0] for low, high in buttons):
            out.append("The jaws would press a side button: move the phone along or turn it round.")
        return out


@dataclass(frozen=True)
class Charge:
    """Share of the battery a session takes (may exceed 1), and the hours until it is empty."""

    used: float
    hours_left: float

    @property
    def range(self) -> tuple[float, float]:
        """Least and most share: phones differ by ``POWER_ERROR``."""
        return self.used * (1 - POWER_ERROR), self.used * (1 + POWER_ERROR)


def charge(
    minutes: float,
    temperature: float = 10.0,
    screen: bool = False,
    bank_wh: float = 0.0,
    capacity_wh: float = CELL_WH_WARM,
) -> Charge:
    """Charge for ``minutes`` of shooting at a temperature in deg C; usual figures of phones, good to
    ``POWER_ERROR``."""
    _within("temperature", temperature, -40, 50)
    usable = capacity_wh * max(1 - COLD_LOSS * max(20 - temperature, 0), 0.3) + bank_wh * BANK_EFFICIENCY
    power = IDLE_W + SHOOTING_W + (SCREEN_W if screen else 0)
    return Charge(power * minutes / 60 / usable, usable / power)
