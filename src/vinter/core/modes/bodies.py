"""Modes for what shines by itself: Moon, planets through an eyepiece, a station's pass."""

from functools import partial

import numpy as np

from vinter.core.camera import photons
from vinter.core.camera.accessories import Eyepiece
from vinter.core.camera.exposure import GAP_SECONDS
from vinter.core.constants import ARCSEC_PER_RADIAN
from vinter.core.errors import BadInput
from vinter.core.modes.basis import Basis, CardStep, ModePlan, Option, mode, sky_fitting_iso
from vinter.core.sky.brightness import phase_dimming
from vinter.core.sky.ephemeris import year_of
from vinter.core.sky.target_track import track
from vinter.core.sky.targets import MOON

SUNLIT = 11.0  # f-number at which full Moon needs 1/ISO s
PLANETS = {
    "venus": (1.9, 16.0),
    "mars": (4.1, 9.0),
    "jupiter": (5.4, 42.0),
    "saturn": (7.0, 18.0),
}  # V mag/arcsec^2, arcsec across
PLANET_LEVEL = 0.45  # of full scale
FRAMES = Option("frames", "Frames", 30, 1, 500)


def moon_factor(phase: float) -> float:
    """How much dimmer the lit part of the Moon is than at full, by phase angle in degrees (surface
    brightness, 0 to 1)."""
    a = abs(phase)
    lit = max((1 + np.cos(np.radians(a))) / 2, 0.01)
    return float(min(10 ** (-0.4 * float(phase_dimming(phase))) / lit, 1.0))


@mode("moon", "The Moon", FRAMES, place=100)
def moon(b: Basis, o: dict[str, float]) -> ModePlan:
    """The Moon: sunlit rock, by phase and height."""
    now = track(b.site, year_of(b.unix), np.array([b.unix]), MOON)
    if now.alt[0] < 2:
        raise BadInput("the Moon is below the horizon at that minute")
    iso = b.lens.iso_min
    dim = moon_factor(float(now.phase[0])) * 10 ** (
        -0.4 * b.site.extinction * float(1 / np.sin(np.radians(max(now.alt[0], 5.0))))
    )
    t = b.lens.aperture**2 / SUNLIT**2 / iso / dim
    size = 0.52 / 57.3 * b.lens.focal_px
    return ModePlan(
        shutter=round(t, 5),
        iso=iso,
        frames=int(o["frames"]),
        interval=1.0,
        figures=[
            ("Shutter", f"1/{1 / t:.0f} s at ISO {iso}"),
            ("Lit", f"{100 * float(now.illuminated[0]):.0f} %"),
            ("Height", f"{float(now.alt[0]):.0f}°"),
            ("Width of the disc", f"{size:.0f} px"),
        ],
        steps=[CardStep("Shutter, ISO", f"1/{1 / t:.0f} s, {iso}")],
        reasons=[
            f"Full Moon is sunlit rock: f/{SUNLIT:g}, 1/ISO s. This phase and height need {1 / dim:.1f} "
            "times as much; "
            "the automatic exposure looks at the black around and makes a white disc."
        ],
    )


def planet(b: Basis, o: dict[str, float], key: str = "jupiter") -> ModePlan:
    """A bright planet through a telescope's eyepiece."""
    scope = Eyepiece(aperture=o["aperture"], focal=o["focal"], eyepiece=o["eyepiece"])
    focal, number = scope.effective(b.lens)
    mag, size = PLANETS[key]
    px = size / (ARCSEC_PER_RADIAN * b.lens.pitch * 1e-3 / focal)
    rate = photons.sky_rate(b.lens, mag) * (b.lens.aperture / number) ** 2
    iso = 100 if b.lens.iso_min <= 100 else b.lens.iso_min
    t = PLANET_LEVEL * b.lens.full_scale(iso) / rate
    return ModePlan(
        shutter=round(min(t, b.lens.shutter_max), 4),
        iso=iso,
        frames=int(o["frames"]),
        interval=1.0,
        figures=[
            ("Magnification", f"{scope.magnification:.0f} ×"),
            ("Together", f"{focal:.0f} mm, f/{number:.0f}"),
            ("Field", f"{scope.true_field:.2f}°"),
            ("Disc", f"{px:.0f} px"),
            ("Shutter", f"1/{1 / t:.0f} s at ISO {iso}" if t < 0.5 else f"{t:.1f} s"),
            ("Counterweight on 150 mm", f"{scope.counterweight(o['mass'], 150):.0f} g"),
        ],
        steps=[
            CardStep("Centre the bright disc", "until it is round"),
            CardStep("Counterweight on 150 mm", f"{scope.counterweight(o['mass'], 150):.0f} g"),
        ],
        reasons=[
            f"The telescope magnifies {scope.magnification:.0f} times; phone lens and eyepiece work as "
            f"{focal:.0f} mm at f/{number:.0f}. "
            "Many short frames, the sharpest kept, beat one."
        ],
        cautions=[
            "Never point telescope or phone near the Sun. A heavy adapter tips a telescope: balance it "
            "before you let go."
        ],
    )


for _i, _key in enumerate(PLANETS):
    mode(
        f"planet-{_key}",
        f"{_key.capitalize()} through an eyepiece",
        Option("aperture", "Telescope aperture, mm", 114, 20, 1000),
        Option("focal", "Its focal length, mm", 900, 100, 6000),
        Option("eyepiece", "Eyepiece, mm", 10, 2, 60),
        Option("mass", "Phone, g", 200, 50, 1000),
        FRAMES,
        place=110 + _i,
    )(partial(planet, key=_key))


@mode("station", "Space-station pass", place=200, needs_pass=True)
def station(b: Basis, o: dict[str, float]) -> ModePlan:
    """A space station's pass in one exposure, opened as it appears."""
    found = b.passing
    if found is None:
        raise BadInput(
            "no visible pass of a station in this night; import fresh orbital elements or choose another "
            "night"
        )
    lasts = found.end - found.start
    t = float(min(lasts, b.lens.shutter_max))
    iso = sky_fitting_iso(b, t, 0.12)
    n = int(np.ceil(lasts / (t + GAP_SECONDS)))
    px = found.speed / 57.3 * b.lens.focal_px
    return ModePlan(
        shutter=t,
        iso=iso,
        frames=n,
        interval=t + GAP_SECONDS,
        figures=[
            ("Highest", f"{found.altitude:.0f}° at azimuth {found.azimuth:.0f}°"),
            ("Lasts", f"{lasts:.0f} s"),
            ("Fastest", f"{found.speed:.2f}°/s, {px:.0f} px/s"),
            ("Times good to", f"± {found.error_seconds:.0f} s"),
        ],
        steps=[CardStep("Open as it appears, close after", f"{t:.0f} s")],
        reasons=[
            f"{found.name}: up and lit for {lasts:.0f} s"
            + (", then it fades into the Earth's shadow." if found.enters_shadow else "."),
            f"{n} frame{'s' if n > 1 else ''} of {t:.0f} s; the elements are {found.age:.1f} days old, so "
            "the times may be off by "
            f"{found.error_seconds:.0f} s: open early.",
        ],
    )
