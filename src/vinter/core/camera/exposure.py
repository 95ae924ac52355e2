"""Shutter, ISO and frames for one lens under one sky, with the reasons and the other schools beside them."""

from dataclasses import dataclass, field, replace

import numpy as np

from vinter.core.camera import photons
from vinter.core.camera.phones import Lens
from vinter.core.camera.trailing import (
    DriftMap,
    drift,
    drift_map,
    npf_full,
    npf_simple,
    pole_seen,
    rule_divisor,
)
from vinter.core.errors import BadInput

WANTED_SNR = 10.0  # of the band in one pixel of the finished picture: smooth to the eye after a strong edit
FEWEST, LONGEST_MINUTES = (
    4,
    60.0,
)  # frames that a clipping needs; a burst longer than this is another night's work
PAYS = 0.02  # a further minute that lowers the noise by less than this no longer pays
MOST_FRAMES = 2000
GAP_SECONDS = 1.0
HUMP_LIMIT = 0.12  # linear level of the sky above which stars and glow lose their headroom
NOISE_SLACK = 0.03  # an ISO this close to the best noise is as good
BAND_MAG = 21.0
SHUTTERS = (0.5, 1, 2, 3, 4, 5, 6, 8, 10, 13, 15, 20, 25, 30, 40, 60)


@dataclass(frozen=True)
class Use:
    """What a picture is for: its name, how many px a star may drift in the worst corner, and the px of its
    longer side as it is seen, by which the noise of several pixels of the frame is averaged."""

    name: str
    tolerance_px: float
    output_px: int = 2560

    @property
    def label(self) -> str:
        """Name and tolerance, to choose by."""
        return f"{self.name} ({self.tolerance_px:g} px of trail)"


USES = {
    "post": Use("Phone-sized post", 8.0, 1350),
    "screen": Use("Large screen", 4.0, 2560),
    "print": Use("Print", 2.0, 5000),
}


@dataclass(frozen=True)
class Opinion:
    """What a school would set and how it compares: ``agrees`` when it lands within our slack."""

    name: str
    value: float
    agrees: bool
    words: str


@dataclass(frozen=True, kw_only=True)
class Shutter:
    """Limits in s, drift in px/s and the shutter chosen."""

    rule_500: float
    npf_simple: float
    npf_full: float
    drift_px_s: float
    worst_px_s: float
    worst_place: str
    tolerance_px: float
    chosen: float
    trail_px: float
    schools: list[Opinion] = field(default_factory=list)


@dataclass(frozen=True, kw_only=True)
class IsoChoice:
    """ISO chosen, level of the sky (0 to 1, linear and sRGB-encoded), noise in e, faintest clipped star."""

    chosen: int
    sky_level_linear: float
    sky_level_encoded: float
    sky_electrons: float
    read_noise: float
    clips_at: float
    schools: list[Opinion] = field(default_factory=list)


@dataclass(frozen=True, kw_only=True)
class Frames:
    """How many frames, how long, how large and what they gain. ``snr_output`` is that of the band in one
    pixel of the finished picture, ``wanted`` how many frames would bring it to what is wanted,
    ``pays_minutes`` after how many minutes a further one lowers the noise by under 2 %."""

    count: int
    minutes: float
    storage_mb: float
    noise_gain: float
    snr_single: float
    snr_stack: float
    next_minute: float
    snr_output: float = 0.0
    wanted: int = 0
    pays_minutes: float = 0.0


@dataclass(frozen=True, kw_only=True)
class OwnSettings:
    """What the photographer sets against the advice; None where the advice holds."""

    iso: int | None = None
    shutter: float | None = None
    frames: int | None = None

    def check(self, lens: Lens) -> None:
        """BadInput with the lens's range for what it cannot do."""
        if self.iso is not None and not lens.iso_min <= self.iso <= lens.iso_top:
            raise BadInput(f"ISO {self.iso}: this lens takes {lens.iso_min} to {lens.iso_top}")
        if self.shutter is not None and not 0 < self.shutter <= lens.shutter_max:
            raise BadInput(f"shutter {self.shutter:g} s: this lens takes up to {lens.shutter_max:g} s")
        if self.frames is not None and not 1 <= self.frames <= MOST_FRAMES:
            raise BadInput(f"frames {self.frames}: 1 to {MOST_FRAMES} are planned")


@dataclass(frozen=True)
class Exposure:
    """A complete choice of settings with its reasons as sentences."""

    shutter: Shutter
    iso: IsoChoice
    frames: Frames
    reasons: list[str]


def _step_down(seconds: float) -> float:
    """The longest shutter on the dial that is not longer; below half a second the value itself."""
    fitting = [s for s in SHUTTERS if s <= seconds * 1.0001]
    return float(fitting[-1]) if fitting else round(seconds, 3)


def choose_shutter(lens: Lens, declination: float, tolerance_px: float, drifts: DriftMap) -> Shutter:
    """The longest dial step whose trail in the worst place of the frame stays within the tolerance (px)."""
    if tolerance_px <= 0:
        raise BadInput(f"tolerance-px {tolerance_px:g} must be above 0")
    limit = tolerance_px / drifts.worst
    chosen = _step_down(min(limit, lens.shutter_max))
    rules = {f"{d} rule": rule_divisor(lens.f35, d) for d in (300, 400, 500, 600)}
    rules["aperture and pitch, short"] = npf_simple(lens.aperture, lens.pitch, lens.focal)
    for k, word in ((1, "pinpoint"), (2, "small"), (3, "visible")):
        rules[f"aperture and pitch, full, {word}"] = npf_full(
            lens.aperture, lens.pitch, lens.focal, declination, k
        )
    rules["the phone's longest"] = lens.shutter_max
    opinions = [
        Opinion(
            name,
            seconds,
            seconds * drifts.worst <= tolerance_px * 1.05,
            f"{seconds:.1f} s trails {seconds * drifts.worst:.1f} px",
        )
        for name, seconds in rules.items()
    ]
    return Shutter(
        rule_500=rules["500 rule"],
        npf_simple=rules["aperture and pitch, short"],
        npf_full=npf_full(lens.aperture, lens.pitch, lens.focal, declination),
        drift_px_s=drift(lens.pitch, lens.focal, declination),
        worst_px_s=drifts.worst,
        worst_place=drifts.worst_place,
        tolerance_px=tolerance_px,
        chosen=chosen,
        trail_px=chosen * drifts.worst,
        schools=opinions,
    )


def iso_stops(lens: Lens) -> list[int]:
    """Whole stops of ISO from 50 up within the lens's range, with both ends of the range."""
    stops = [s for s in (50 * 2**i for i in range(12)) if lens.iso_min <= s <= lens.iso_top]
    return sorted({*stops, lens.iso_min, lens.iso_top})


def iso_for_level(lens: Lens, rate: float, seconds: float, level: float) -> float:
    """ISO at which the sky (e/s) reaches a linear level between 0 and 1."""
    return lens.full_well * lens.base_iso * level / (rate * seconds)


def _school_iso(lens: Lens, mag: float, rate: float, seconds: float) -> dict[str, float]:
    by_sky = 3200 if mag >= 21.3 else 1600 if mag >= 20.3 else 800
    wanted = {
        "never above 800": 800.0,
        "by sky: 3200 dark, 1600 rural, 800 suburban": by_sky,
        "all the phone has": lens.iso_top,
        "low ISO, lift the RAW": 100.0,
        "hump at a quarter of the histogram": iso_for_level(lens, rate, seconds, 0.05),
    }
    return {name: float(np.clip(iso, lens.iso_min, lens.iso_top)) for name, iso in wanted.items()}


def choose_iso(
    lens: Lens, mag: float, seconds: float, trail_px: float = 0.0, own: int | None = None
) -> IsoChoice:
    """The lowest ISO whose noise is within 3 % of the best while the sky stays below 12 % linear, or one's
    own."""
    rate = photons.sky_rate(lens, mag)
    electrons = rate * seconds

    def level(iso: float) -> float:
        return min(electrons / lens.full_scale(iso), 1.0)

    def excess(iso: float) -> float:
        return photons.noise(lens, electrons, seconds, iso) / best - 1

    allowed = [iso for iso in iso_stops(lens) if level(iso) <= HUMP_LIMIT] or [lens.iso_min]
    best = min(photons.noise(lens, electrons, seconds, iso) for iso in allowed)
    chosen = own or next(iso for iso in allowed if excess(iso) <= NOISE_SLACK)
    opinions = [
        Opinion(
            name,
            iso,
            excess(iso) <= NOISE_SLACK and level(iso) <= HUMP_LIMIT * 1.05,
            f"ISO {iso:.0f}: {100 * excess(iso):+.0f} % noise, hump at "
            f"{100 * photons.encoded(level(iso)):.0f} %",
        )
        for name, iso in _school_iso(lens, mag, rate, seconds).items()
    ]
    return IsoChoice(
        chosen=int(chosen),
        sky_level_linear=level(chosen),
        sky_level_encoded=photons.encoded(level(chosen)),
        sky_electrons=electrons,
        read_noise=lens.noise_at(chosen),
        clips_at=photons.star_clipping(lens, seconds, chosen, trail_px=trail_px),
        schools=opinions,
    )


def burst_minutes(count: int, seconds: float) -> float:
    """Minutes that a burst takes, the phone's pause after every frame included."""
    return count * (seconds + GAP_SECONDS) / 60


def choose_frames(
    lens: Lens,
    mag: float,
    seconds: float,
    iso: int,
    count: int | None = None,
    minutes_available: float | None = None,
    output_px: int = USES["screen"].output_px,
    band_mag: float = BAND_MAG,
) -> Frames:
    """As many frames as bring the band to the signal to noise that is wanted in one pixel of a picture of
    ``output_px`` px, within an hour and the time there is; or a wanted count. BadInput for a count below
    1."""
    if count is not None and count < 1:
        raise BadInput(f"frames {count} must be at least 1")
    per_minute = 60 / (seconds + GAP_SECONDS)
    band = photons.sky_rate(lens, band_mag)
    single = photons.snr(lens, band, photons.sky_rate(lens, mag), seconds, iso)
    averaged = max(
        max(lens.width, lens.height) / output_px, 1.0
    )  # px of the frame a side, in one of the picture
    wanted = int(np.ceil((WANTED_SNR / (single * averaged)) ** 2))
    time = LONGEST_MINUTES if minutes_available is None else min(minutes_available, LONGEST_MINUTES)
    n = count or max(min(max(wanted, FEWEST), int(time * per_minute)), 1)
    return Frames(
        count=n,
        minutes=burst_minutes(n, seconds),
        storage_mb=n * lens.raw_megabytes,
        noise_gain=float(np.sqrt(n)),
        snr_single=single,
        snr_stack=single * float(np.sqrt(n)),
        next_minute=float(1 - np.sqrt(n / (n + per_minute))),
        snr_output=single * averaged * float(np.sqrt(n)),
        wanted=wanted,
        pays_minutes=float((1 - PAYS) ** 2 / (1 - (1 - PAYS) ** 2)),
    )


def _frames_reason(frames: Frames, seconds: float) -> str:
    """What the frames give, and when no count helps, what would."""
    text = (
        f"{frames.count} frames take {frames.minutes:.0f} min and {frames.storage_mb / 1000:.1f} GB; the "
        "band then stands "
        f"{frames.snr_output:.0f} times above the noise of one pixel of the finished picture. One minute "
        "more would gain "
        f"{100 * frames.next_minute:.0f} %; after {frames.pays_minutes:.0f} minutes a further one gains "
        "under "
        f"{100 * PAYS:.0f} %."
    )
    hours = burst_minutes(frames.wanted, seconds) / 60
    if frames.wanted > frames.count and frames.snr_output < 0.95 * WANTED_SNR:
        text += f" For {WANTED_SNR:.0f} times, {frames.wanted} frames ({hours:.1f} h) would be needed"
        text += (
            ": no count helps here, a darker site, a faster lens or a tracker would."
            if hours * 60 > LONGEST_MINUTES
            else "."
        )
    return text


def _own_words(
    own: OwnSettings, advised: tuple[float, int, int], shutter: Shutter, iso: IsoChoice
) -> list[str]:
    """What differs from the advice, both said."""
    out = []
    if own.shutter is not None and own.shutter != advised[0]:
        out.append(
            f"Your {own.shutter:g} s trail {shutter.trail_px:.1f} px in the worst place; {advised[0]:g} s "
            "would stay within "
            f"{shutter.tolerance_px:g} px."
        )
    if own.iso is not None and own.iso != advised[1]:
        out.append(
            f"Your ISO {own.iso} puts the sky at {100 * iso.sky_level_encoded:.0f} % of the histogram; ISO "
            f"{advised[1]} is "
            "what the noise asks for."
        )
    if own.frames is not None and own.frames != advised[2]:
        out.append(f"{advised[2]} frames would be the advice.")
    return out


def _reasons(lens: Lens, shutter: Shutter, iso: IsoChoice, frames: Frames, mag: float) -> list[str]:
    capped = (
        shutter.chosen * shutter.worst_px_s < shutter.tolerance_px * 0.7
        and shutter.chosen >= lens.shutter_max * 0.99
    )
    within = shutter.trail_px <= shutter.tolerance_px * 1.001
    why = (
        f"Shutter {shutter.chosen:g} s: the lens allows no longer."
        if capped
        else f"Shutter {shutter.chosen:g} s: stars drift up to {shutter.worst_px_s:.2f} px/s "
        f"({shutter.worst_place}), so they "
        f"trail {shutter.trail_px:.1f} px there, {'within' if within else 'over'} the "
        f"{shutter.tolerance_px:g} px you allow."
    )
    drowned = iso.read_noise**2 / max(iso.sky_electrons, 1e-9)
    out = [
        why,
        f"ISO {iso.chosen}: the sky ({mag:.1f} mag/arcsec²) gives {iso.sky_electrons:.0f} electrons a "
        "pixel, its hump stands "
        f"at {100 * iso.sky_level_encoded:.0f} % of the histogram ({100 * iso.sky_level_linear:.1f} % "
        "linear), and read noise "
        f"adds {100 * (np.sqrt(1 + drowned) - 1):.0f} % to the noise. Stars brighter than magnitude "
        f"{iso.clips_at:.1f} clip.",
        _frames_reason(frames, shutter.chosen),
    ]
    if lens.iso_digital and iso.chosen > lens.iso_digital:
        out.append(
            f"From ISO {lens.iso_digital} on this phone only multiplies numbers; a lower one keeps the "
            "light and more headroom."
        )
    if lens.iso_top < lens.iso_max:
        out.append(
            f"The manual controls end at ISO {lens.iso_top}; what the phone offers beyond is its own mode."
        )
    if not lens.f35_fits:
        out.append(
            f"The lens's figures do not fit: {lens.focal:g} mm over {lens.width} x {lens.height} pixels of "
            f"{lens.pitch:g} µm "
            f"are {lens.f35_expected:.0f} mm in 35 mm terms, not {lens.f35:g}. Drift here follows focal "
            "length and pitch."
        )
    if not lens.manual:
        out.append("This lens has no manual control: none of these can be set; use its long automatic mode.")
    if iso.chosen == lens.iso_min and iso.sky_level_linear > HUMP_LIMIT:
        out.append(
            "Even the lowest ISO leaves the sky too bright: shorten the shutter or find a darker site."
        )
    return out


def expose(
    lens: Lens,
    declination: float,
    mag: float,
    tolerance_px: float = USES["screen"].tolerance_px,
    count: int | None = None,
    drifts: DriftMap | None = None,
    minutes_available: float | None = None,
    output_px: int = USES["screen"].output_px,
    own: OwnSettings | None = None,
    band_mag: float = BAND_MAG,
) -> Exposure:
    """Settings for a lens at a declination (degrees) under a sky of ``mag`` (V mag/arcsec^2).

    Without ``drifts`` the camera is taken to be level on the meridian at that declination. What the
    photographer sets (``own``, or ``count`` alone) is planned with; BadInput when the lens cannot do it.
    ``band_mag`` is the target's own light as it reaches the camera, V mag/arcsec^2.
    """
    if not -90 <= declination <= 90:
        raise BadInput(f"declination {declination:g} is not within -90 to 90 degrees")
    if not 10 <= mag <= 22.5:
        raise BadInput(f"sky {mag:g} is not within 10 to 22.5 mag/arcsec^2")
    own = own or OwnSettings(frames=count)
    own.check(lens)
    drifts = drifts or drift_map(lens.focal_px, lens.width, lens.height, pole_seen(declination))
    advised = choose_shutter(lens, declination, tolerance_px, drifts)
    seconds = own.shutter or advised.chosen
    shutter = replace(advised, chosen=seconds, trail_px=seconds * drifts.worst)
    best = choose_iso(lens, mag, seconds, shutter.trail_px)
    iso = choose_iso(lens, mag, seconds, shutter.trail_px, own.iso)
    usual, frames = (
        choose_frames(lens, mag, seconds, iso.chosen, n, minutes_available, output_px, band_mag)
        for n in (None, own.frames)
    )
    reasons = _reasons(lens, shutter, iso, frames, mag)
    mine = _own_words(own, (advised.chosen, best.chosen, usual.count), shutter, iso)
    return Exposure(shutter, iso, frames, [*mine, *reasons])
