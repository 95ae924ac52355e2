"""Modes for what shines by itself: Moon, planets through an eyepiece, a station's pass."""

from datetime import datetime
from functools import partial

import numpy as np

from vinter.core.camera import photons
from vinter.core.camera.accessories import Eyepiece
from vinter.core.camera.frame_count import GAP_SECONDS
from vinter.core.camera.iso import iso_stops
from vinter.core.camera.phones import Lens
from vinter.core.camera.projection import Pose
from vinter.core.constants import ARCSEC_PER_RADIAN, SIDEREAL_ARCSEC
from vinter.core.errors import BadInput
from vinter.core.planning.modes.basis import (
    Basis,
    CardStep,
    ModePlan,
    Option,
    mode,
    sky_fitting_iso,
    spoken_shutter,
    worst_trail,
)
from vinter.core.planning.shot import declination
from vinter.core.sky.brightness import phase_dimming, ray_airmass
from vinter.core.sky.ephemeris import horizontal, year_body, year_ephemeris, year_of
from vinter.core.sky.target_track import track
from vinter.core.sky.targets import MOON, target

SUNLIT = 11.0  # f-number at which the full Moon needs 1/ISO s
MOON_KM = 1737.4
PLANETS = {
    "venus": (1.9, 6051.8),
    "mars": (4.1, 3396.2),
    "jupiter": (5.4, 71492.0),
    "saturn": (7.0, 60268.0),
}  # mean V mag/arcsec^2 of the lit disc, radius at the equator in km
PLANET_LEVEL = 0.45  # share of full scale that a planet's disc is exposed to
SEEING_S = 1 / 30  # s within which the air holds a detail still often enough for a share of the frames
MOST_DRIFT_PX = 1.0  # px that a disc may drift in a frame
DIM = 0.15  # share of full scale under which a disc is called dim
ARM_MM = 150.0  # mm from the balance point to the counterweight
LOW_PLANET = 30.0  # degrees
FRAMES = Option("frames", "Frames", 30, 1, 500)


def moon_factor(phase: float) -> float:
    """How much dimmer the lit part of the Moon is than at full, by phase angle in degrees (surface
    brightness, 0 to 1)."""
    a = abs(phase)
    lit = max((1 + np.cos(np.radians(a))) / 2, 0.01)
    return float(min(10 ** (-0.4 * float(phase_dimming(phase))) / lit, 1.0))


def disc(b: Basis, body: str, radius_km: float) -> float:
    """Apparent diameter in arcsec of a body at the planned minute, seen from the site."""
    year, t = year_of(b.unix), np.array([b.unix])
    _, _, distance = horizontal(year_body(year, body)(t), year_ephemeris(year).gast(t), b.site)
    return float(2 * np.arcsin(radius_km / distance[0]) * ARCSEC_PER_RADIAN)


def dimmed_by_air(b: Basis) -> float:
    """Share of the light of the target that the air lets through."""
    return float(10 ** (-0.4 * b.site.extinction * float(ray_airmass(b.at.altitude))))


GAP_IS_ENOUGH = "a gap of some seconds is enough: stay on it"


@mode("moon", "The Moon", FRAMES, place=100, target="moon", on_cloud=GAP_IS_ENOUGH)
def moon(b: Basis, o: dict[str, float]) -> ModePlan:
    """The Moon: sunlit rock, by phase and height."""
    now = track(b.site, year_of(b.unix), np.array([b.unix]), MOON)
    iso = b.own.iso or b.lens.iso_min
    dim = moon_factor(float(now.phase[0])) * dimmed_by_air(b)
    t = b.lens.aperture**2 / SUNLIT**2 / iso / dim
    set_to = b.settled(round(min(t, b.lens.shutter_max), 5), iso, int(o["frames"]))
    wide = disc(b, "moon", MOON_KM)
    size = wide / ARCSEC_PER_RADIAN * b.lens.focal_px
    clips = set_to.shutter * set_to.iso / (t * iso)
    over = [f"That is {clips:.1f} times the light it needs: its bright parts clip."] if clips > 2 else []
    return ModePlan(
        shutter=set_to.shutter,
        iso=set_to.iso,
        frames=set_to.frames,
        interval=1.0,
        figures=[
            ("Shutter", f"{spoken_shutter(set_to.shutter)} at ISO {set_to.iso}, ± half a stop"),
            ("Lit", f"{100 * float(now.illuminated[0]):.0f} %"),
            ("Height", f"{b.at.altitude:.0f}° at azimuth {b.at.azimuth:.0f}°"),
            ("Disc that night", f"{wide / 60:.1f}′, {size:.0f} px across"),
        ],
        steps=[CardStep("Focus on its edge", "then lock")],
        reasons=[
            *set_to.words,
            *over,
            f"Full Moon is sunlit rock: f/{SUNLIT:g}, 1/ISO s. This phase and height need {1 / dim:.1f} "
            "times as much; the automatic exposure looks at the black around and makes a white disc.",
        ],
        trail=worst_trail(b, set_to.shutter),
        pose=Pose(round(b.at.azimuth, 1), round(b.at.altitude, 1)),
    )


def air_words(b: Basis, key: str) -> str:
    """How steady the air is at the planet's height, and when it stands higher within half a day."""
    if b.at.altitude >= LOW_PLANET:
        return "It stands high enough for steady air."
    t = b.unix + np.arange(0, 12 * 3600 + 1, 300.0)
    heights = track(b.site, year_of(b.unix), t, target(key)).alt
    best = int(np.argmax(heights))
    low = f"Below {LOW_PLANET:.0f}° the air boils"
    if best == 0:
        return f"{low}, and it is sinking: an earlier hour or another night shows more."
    when = datetime.fromtimestamp(float(t[best]), b.site.zone)
    return f"{low}: it stands highest at {when:%H:%M}, {heights[best]:.0f}° up."


def planet_iso(lens: Lens, rate: float, seconds: float) -> int:
    """The highest whole stop at which a disc of so many e/s a px stays under its level in a shutter (s): each
    stop lowers read noise, and beyond that level it clips."""
    fitting = [iso for iso in iso_stops(lens) if rate * seconds <= PLANET_LEVEL * lens.full_scale(iso)]
    return fitting[-1] if fitting else lens.iso_min


def planet(b: Basis, o: dict[str, float], key: str = "jupiter") -> ModePlan:
    """A bright planet through a telescope's eyepiece."""
    scope = Eyepiece(
        aperture=o["aperture"],
        focal=o["focal"],
        eyepiece=o["eyepiece"],
        holder=o["holder"],
        barrel=o["adapter"],
    )
    focal, number = scope.effective(b.lens)
    mag, radius = PLANETS[key]
    size = disc(b, target(key).body, radius)
    rate = photons.sky_rate(b.lens, mag) * (b.lens.aperture / number) ** 2 * dimmed_by_air(b)
    scale = ARCSEC_PER_RADIAN * b.lens.pitch * 1e-3 / focal  # arcsec a px
    drift = SIDEREAL_ARCSEC * np.cos(np.radians(declination(b.site, b.at.altitude, b.at.azimuth))) / scale
    held = {"the seeing": SEEING_S, "the drift of a mount that does not follow": MOST_DRIFT_PX / drift}
    limit = min(held, key=lambda name: held[name])
    longest = min(held[limit], b.lens.shutter_max)
    # as long as the air and the drift allow, and no more ISO than brings the disc up
    iso = b.own.iso or planet_iso(b.lens, rate, longest)
    t = min(PLANET_LEVEL * b.lens.full_scale(iso) / rate, longest)
    set_to = b.settled(round(t, 4), iso, int(o["frames"]))
    level = rate * set_to.shutter / b.lens.full_scale(set_to.iso)
    dim = f" It stays dim: no ISO here brings it up within {spoken_shutter(longest)}." if level < DIM else ""
    weight = f"{scope.counterweight(o['mass'], ARM_MM):.0f} g"
    return ModePlan(
        shutter=set_to.shutter,
        iso=set_to.iso,
        frames=set_to.frames,
        interval=1.0,
        figures=[
            ("Magnification", f"{scope.magnification:.0f} ×"),
            ("Together", f"{focal:.0f} mm, f/{number:.0f}"),
            ("Field", f"{scope.true_field:.2f}°"),
            ("Disc that night", f"{size:.1f}″, {size / scale:.0f} px across"),
            ("Height", f"{b.at.altitude:.0f}° at azimuth {b.at.azimuth:.0f}°"),
            ("Shutter", f"{spoken_shutter(set_to.shutter)} at ISO {set_to.iso}, ± one stop"),
            ("Disc's level", f"{100 * min(level, 1):.0f} % of full scale"),
            ("Drift in a frame", f"{drift * set_to.shutter:.1f} px if the mount does not follow"),
            (f"Counterweight on {ARM_MM:.0f} mm", weight),
        ],
        steps=[
            CardStep("Centre the bright disc", "until it is round"),
            CardStep(f"Counterweight on {ARM_MM:.0f} mm", weight),
        ],
        reasons=[
            *set_to.words,
            f"The telescope magnifies {scope.magnification:.0f} times; phone lens and eyepiece work as "
            f"{focal:.0f} mm at f/{number:.0f}. Many short frames, the sharpest kept, beat one.",
            f"Shutter {spoken_shutter(set_to.shutter)}: no longer than {limit} allows "
            f"({spoken_shutter(longest)}); ISO {set_to.iso} then brings the disc to "
            f"{100 * min(level, 1):.0f} % of full scale.{dim}",
            air_words(b, key),
        ],
        cautions=[
            *scope.problems(o["width"], o["outside"]),
            "Never point telescope or phone near the Sun. A heavy adapter tips a telescope: balance it "
            "before you let go.",
        ],
        trail="the telescope's mount decides",
        pose=Pose(round(b.at.azimuth, 1), round(b.at.altitude, 1)),
    )


for _i, _key in enumerate(PLANETS):
    mode(
        f"planet-{_key}",
        f"{_key.capitalize()} through an eyepiece",
        Option("aperture", "Telescope aperture, mm", 114, 20, 1000),
        Option("focal", "Its focal length, mm", 900, 100, 6000),
        Option("eyepiece", "Eyepiece, mm", 10, 2, 60),
        Option("outside", "Eyepiece outside, mm", 32, 10, 80),
        Option("adapter", "Adapter grips eyepieces to, mm", 45, 10, 100),
        Option("holder", "Adapter takes phones to, mm wide", 90, 30, 200),
        Option("width", "Phone with case, mm wide", 76, 40, 120),
        Option("mass", "Phone, g", 200, 50, 1000),
        FRAMES,
        place=110 + _i,
        target=_key,
        gear=("telescope", "adapter", "counterweight"),
        on_cloud=GAP_IS_ENOUGH,
    )(partial(planet, key=_key))


@mode(
    "station",
    "Space-station pass",
    place=200,
    needs_pass=True,
    on_cloud="this pass is lost: the next ones are listed with the night",
)
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
    set_to = b.settled(round(t), iso, int(np.ceil(lasts / (t + GAP_SECONDS))))
    px = found.speed / 57.3 * b.lens.focal_px
    opens = datetime.fromtimestamp(found.start, b.site.zone)
    n = set_to.frames
    return ModePlan(
        shutter=set_to.shutter,
        iso=set_to.iso,
        frames=n,
        interval=set_to.shutter + GAP_SECONDS,
        figures=[
            ("Appears", f"{opens:%H:%M:%S}"),
            ("Highest", f"{found.altitude:.0f}° at azimuth {found.azimuth:.0f}°"),
            ("Lasts", f"{lasts:.0f} s"),
            ("Fastest", f"{found.speed:.2f}°/s, {px:.0f} px/s"),
            ("Times good to", f"± {found.error_seconds:.0f} s"),
        ],
        steps=[CardStep(f"Open as it appears, {opens:%H:%M:%S}", f"{set_to.shutter:g} s")],
        reasons=[
            *set_to.words,
            f"{found.name}: up and lit for {lasts:.0f} s"
            + (", then it fades into the Earth's shadow." if found.enters_shadow else "."),
            f"{n} frame{'s' if n > 1 else ''} of {set_to.shutter:g} s; the elements are {found.age:.1f} days "
            f"old, so the times may be off by {found.error_seconds:.0f} s: open early.",
        ],
        trail="the station draws its line; " + worst_trail(b, set_to.shutter),
        start=found.start,
    )
