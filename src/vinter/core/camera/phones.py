"""Phones and their lenses, as the sums need them. The shipped phones are made up."""

import math
from dataclasses import dataclass, field, replace
from itertools import pairwise

import numpy as np

from vinter.core.constants import FULL_FRAME_DIAGONAL_MM
from vinter.core.errors import BadInput

F35_SLACK = 0.1  # relative difference by which rounded figures of makers may disagree
READ_NOISE = ((50, 3.2), (400, 2.0), (1600, 1.5), (6400, 1.3))  # ISO, electrons per output pixel
SHORT_LENS = 10.0  # s; a longest shutter under this is a limit one feels
LOWEST_ISO = 50  # ISO at which a curve that names ISO 0 begins
NOISE_STOP = 2**0.5  # ratio of ISOs (half a stop): a measured read noise replaces nearer points of the curve
LIGHT_SIGMA = 0.3  # relative error of every count of electrons: efficiency and losses of the lens are assumed
FULL_WELL_PER_UM2 = 6000 / 1.2**2  # electrons at base ISO per square micrometre of output pixel


@dataclass(frozen=True, kw_only=True)
class Lens:
    """One lens with its sensor, in the pixels of the RAW file it writes.

    focal in mm (true), f35 in mm (equivalent by the diagonal), pitch in um of an output pixel,
    distortion as the relative shift of the corner (-0.015 is 1.5 % barrel), shutter limit in s.
    """

    name: str
    focal: float
    f35: float
    aperture: float
    pitch: float
    width: int
    height: int
    iso_min: int = 50
    iso_max: int = 3200
    shutter_max: float = 30.0
    base_iso: int = 50
    distortion: float = 0.0
    quantum_efficiency: float = 0.55
    bits: int = 12
    read_noise: tuple[tuple[int, float], ...] = READ_NOISE
    dark_current: float = 0.05  # electrons per second per output pixel on a cool night
    raw_megabytes: float = 14.0
    infinity_ticks: int = 0  # ticks back from the end mark of the focus slider
    infinity_known: bool = False  # whether somebody found it there
    binning: int = 1  # sensor pixels along the side of an output pixel
    manual: bool = True  # whether ISO, shutter and focus can be set by hand
    iso_manual: int = 0  # highest ISO the manual controls reach; 0 for all of them
    iso_digital: int = 0  # from here on the phone only multiplies numbers; 0 when not known
    well: float = 0.0  # electrons an output pixel holds at base ISO; 0 for the usual of its size
    raw_kinds: tuple[str, ...] = ("sensor",)
    measured: str = ""  # what of this was measured, and when
    # a surface in its RAW files, mag: r^2, r^4 (r = 1 in the corner), the corner's error; 0: not known
    fall_off: tuple[float, float, float] = (0.0, 0.0, 0.0)

    def __post_init__(self) -> None:
        for label, value, low, high in (
            ("focal length", self.focal, 0.5, 100),
            ("equivalent focal length", self.f35, 5, 1000),
            ("aperture", self.aperture, 0.5, 32),
            ("pixel pitch", self.pitch, 0.3, 20),
            ("width", self.width, 16, 30000),
            ("height", self.height, 16, 30000),
            ("lowest ISO", self.iso_min, 1, 1e6),
            ("highest ISO", self.iso_max, self.iso_min, 1e7),
            ("longest shutter", self.shutter_max, 0.001, 3600),
        ):
            if not low <= value <= high:
                raise BadInput(f"{label} {value:g} is not within {low:g} to {high:g}")

    @property
    def infinity_found(self) -> bool:
        """Whether the ticks say something: the end mark itself only when somebody found infinity there."""
        return self.infinity_known or self.infinity_ticks > 0 or "infinity" in self.measured

    @property
    def infinity_words(self) -> str:
        """Where infinity lies on the slider, as far as it is known."""
        if not self.infinity_found:
            return "not known yet: find it"
        return f"{self.infinity_ticks} ticks back" if self.infinity_ticks else "the end mark"

    @property
    def corner_mag(self) -> float:
        """By how many mag the corners of its RAW files are darker; 0 where that is not known."""
        return sum(self.fall_off[:2])

    @property
    def quirks(self) -> list[str]:
        """What is peculiar about the lens, each as a sentence."""
        out = []
        if not self.manual:
            out.append("No manual control: only the phone's own long mode, which hides its frames.")
        if self.iso_top < self.iso_max:
            out.append(
                f"By hand the ISO ends at {self.iso_top}; what the phone offers beyond is its own mode."
            )
        if self.iso_digital:
            out.append(
                f"From ISO {self.iso_digital} on it only multiplies numbers: no more light, less headroom."
            )
        if self.binning > 1:
            out.append(
                f"{self.binning} × {self.binning} pixels of the sensor make one of the file; full "
                f"resolution may "
                "come merged."
            )
        if "sensor" not in self.raw_kinds:
            out.append("Its RAW files are merged by the phone: they bear less editing than sensor data.")
        if not self.infinity_found:
            out.append(
                "Infinity is not known yet: find it once, on a distant ridge by day or a star at night."
            )
        elif self.infinity_ticks:
            out.append(f"The focus slider's end mark is not infinity: {self.infinity_ticks} ticks back is.")
        if not self.f35_fits:
            out.append(
                f"Its figures disagree: {self.focal:g} mm and {self.pitch:g} µm are "
                f"{self.f35_expected:.0f} mm in "
                f"35 mm terms, not {self.f35:g}."
            )
        if self.fall_off[2]:
            out.append(
                f"Its corners are {abs(self.corner_mag):.2f} ± {self.fall_off[2]:.2f} mag "
                f"{'darker' if self.corner_mag > 0 else 'brighter'} than its centre."
            )
        if self.shutter_max < SHORT_LENS:
            out.append(f"Its longest shutter is {self.shutter_max:g} s: more frames instead of longer ones.")
        return out

    @property
    def f35_expected(self) -> float:
        """Equivalent focal length in mm that focal length, pitch and pixels give."""
        diagonal = self.pitch / 1000 * float(np.hypot(self.width, self.height))
        return self.focal * FULL_FRAME_DIAGONAL_MM / diagonal

    @property
    def f35_fits(self) -> bool:
        """Whether the equivalent focal length agrees with the other figures within a tenth."""
        return abs(self.f35 / self.f35_expected - 1) < F35_SLACK

    @property
    def iso_top(self) -> int:
        """Highest ISO that can be set by hand."""
        return min(self.iso_max, self.iso_manual or self.iso_max)

    @property
    def focal_px(self) -> float:
        """Focal length in output pixels."""
        return self.focal * 1000 / self.pitch

    @property
    def full_well(self) -> float:
        """Electrons an output pixel holds at base ISO."""
        return self.well or FULL_WELL_PER_UM2 * self.pitch**2

    def full_scale(self, iso: float) -> float:
        """Electrons that reach the white level at an ISO."""
        return self.full_well * self.base_iso / max(iso, self.base_iso)

    def noise_at(self, iso: float) -> float:
        """Read noise in electrons per output pixel at an ISO: a curve through the known points, even in the
        logarithm of the ISO, flat beyond its ends."""
        points = sorted((max(point, LOWEST_ISO), noise) for point, noise in self.read_noise)
        iso = max(iso, 1)
        if iso <= points[0][0]:
            return float(points[0][1])
        for (low, quiet), (high, loud) in pairwise(points):
            if iso <= high:
                return float(quiet + (loud - quiet) * math.log(iso / low) / math.log(high / low))
        return float(points[-1][1])

    def with_read_noise(self, iso: int, electrons: float) -> "Lens":
        """The lens with the read noise measured at an ISO as a point of its curve, in place of what stood
        within half a stop."""
        far = {
            point: noise
            for point, noise in self.read_noise
            if not iso / NOISE_STOP < max(point, LOWEST_ISO) < iso * NOISE_STOP
        }
        return replace(self, read_noise=tuple(sorted({**far, iso: round(electrons, 2)}.items())))

    def with_white_at(self, iso: float, electrons: float) -> "Lens":
        """The lens with the well that follows from the electrons that reach white at an ISO; inverse of
        ``full_scale``."""
        return replace(self, well=round(electrons * max(iso, self.base_iso) / self.base_iso, 1))


@dataclass(frozen=True)
class Phone:
    """A phone: a name and its lenses by name."""

    key: str
    name: str
    lenses: dict[str, Lens] = field(default_factory=dict)

    def lens(self, name: str) -> Lens:
        """A lens by name; BadInput when the phone has no such lens."""
        if name not in self.lenses:
            raise BadInput(f"{self.name} has no lens {name!r}; it has {', '.join(self.lenses)}")
        return self.lenses[name]


def _phone(key: str, name: str, *lenses: Lens) -> Phone:
    return Phone(key, name, {lens.name: lens for lens in lenses})


SHIPPED = {
    p.key: p
    for p in (
        _phone(
            "marlet-7",
            "Marlet 7",
            Lens(
                name="main",
                focal=5.6,
                f35=24,
                aperture=1.8,
                pitch=2.0,
                width=4032,
                height=3024,
                iso_min=50,
                iso_max=6400,
                binning=2,
                shutter_max=30,
                distortion=-0.012,
                infinity_ticks=4,
                infinity_known=True,
            ),
            Lens(
                name="ultra-wide",
                focal=2.2,
                f35=13.6,
                aperture=2.2,
                pitch=1.4,
                width=4032,
                height=3024,
                iso_min=50,
                iso_max=3200,
                shutter_max=30,
                distortion=-0.02,
                infinity_ticks=0,
                infinity_known=True,
            ),
            Lens(
                name="tele",
                focal=9.0,
                f35=77,
                aperture=2.4,
                pitch=1.0,
                width=4032,
                height=3024,
                iso_min=50,
                iso_max=1600,
                shutter_max=15,
                distortion=0.003,
                infinity_ticks=7,
                infinity_known=True,
            ),
        ),
        _phone(
            "marlet-4",
            "Marlet 4",
            Lens(
                name="main",
                focal=4.25,
                f35=26.3,
                aperture=1.8,
                pitch=1.4,
                width=4032,
                height=3024,
                iso_min=32,
                iso_max=2000,
                shutter_max=10,
                bits=10,
                distortion=-0.015,
                dark_current=0.15,
                read_noise=((32, 4.1), (400, 2.9), (1600, 2.4)),
                infinity_ticks=2,
                infinity_known=True,
            ),
        ),
        _phone(
            "generic-large",
            "Large main sensor (typical)",
            Lens(
                name="main",
                focal=6.9,
                f35=24,
                aperture=1.8,
                pitch=2.4,
                width=4080,
                height=3060,
                iso_min=50,
                iso_max=6400,
                shutter_max=30,
                distortion=-0.015,
                binning=2,
                iso_digital=3200,
            ),
            Lens(
                name="ultra-wide",
                focal=2.2,
                f35=13,
                aperture=2.2,
                pitch=1.4,
                width=4032,
                height=3024,
                iso_min=50,
                iso_max=3200,
                shutter_max=30,
                distortion=-0.02,
            ),
        ),
        _phone(
            "generic-small",
            "Small older sensor (typical)",
            Lens(
                name="main",
                focal=4.0,
                f35=27,
                aperture=2.0,
                pitch=1.2,
                width=4032,
                height=3024,
                iso_min=50,
                iso_max=1600,
                shutter_max=8,
                bits=10,
                distortion=-0.01,
                dark_current=0.15,
                read_noise=((50, 4.5), (400, 3.2)),
                iso_digital=800,
            ),
        ),
    )
}


def phone(key: str) -> Phone:
    """A shipped phone by key."""
    if key not in SHIPPED:
        raise BadInput(f"phone {key!r} is not known; shipped are {', '.join(SHIPPED)}")
    return SHIPPED[key]
