"""Shutter, ISO and frames for one lens under one sky, with the reasons and the other schools beside them."""

from dataclasses import dataclass, field, replace

import numpy as np

from vinter.core.camera import photons
from vinter.core.camera.frame_count import (
    BAND_MAG,
    DARKER,
    GAP_SECONDS,
    MOST_FRAMES,
    Frames,
    choose_frames,
    frames_reason,
)
from vinter.core.camera.iso import HUMP_LIMIT, IsoChoice, choose_iso
from vinter.core.camera.phones import Lens
from vinter.core.camera.shutter import USES, Shutter, choose_shutter
from vinter.core.camera.trailing import DriftMap, drift_map, pole_seen
from vinter.core.errors import BadInput
from vinter.core.versions import Schema

ASKED = (15.0, 30.0)  # s, shutters that people weigh against each other
FRAMING_SECONDS, FRAMING_LEVEL = (2.0, 4.0), 0.2
BRIGHTEST_SKY, DARKEST_SKY = 10.0, 22.5  # mag/arcsec^2 for which exposures are computed


@dataclass(frozen=True, kw_only=True)
class Length:
    """What a shutter in s trails in the worst place (px) and gains: signal to noise of the band in a pixel of
    one frame, and in the same total time against that of the shutter chosen."""

    seconds: float
    trail_px: float
    within: bool
    possible: bool
    snr_frame: float
    snr_same_time: float


OWN = Schema("own settings of a shot")


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
    """A complete choice of settings with its reasons as sentences: of a frame, and of the stack."""

    shutter: Shutter
    iso: IsoChoice
    frames: Frames
    reasons: list[str]
    stack_reasons: list[str] = field(default_factory=list)
    lengths: list[Length] = field(default_factory=list)


def lengths(
    lens: Lens, shutter: Shutter, mag: float, iso: int, band_mag: float, seconds: tuple[float, ...] = ASKED
) -> list[Length]:
    """The shutter chosen beside those that people ask about, in s: what each trails and gains.

    A longer frame gains only what read noise and the pauses between frames cost; ``possible`` says whether
    the lens goes there.
    """
    band, sky = photons.sky_rate(lens, band_mag), photons.sky_rate(lens, mag)

    def a_second(t: float) -> float:
        return photons.snr(lens, band, sky, t, iso) / float(np.sqrt(t + GAP_SECONDS))

    return [
        Length(
            seconds=t,
            trail_px=t * shutter.worst_px_s,
            within=t * shutter.judged_px_s <= shutter.tolerance_px * 1.001,
            possible=t <= lens.shutter_max,
            snr_frame=photons.snr(lens, band, sky, t, iso),
            snr_same_time=a_second(t) / a_second(shutter.chosen),
        )
        for t in sorted({shutter.chosen, *seconds})
    ]


def framing_shot(lens: Lens, mag: float) -> tuple[float, int]:
    """Shutter in s and ISO of a frame that only shows the composition: the highest ISO, and between 2 and 4 s
    until the sky reaches a fifth of full scale. Its stars and its noise are no guide."""
    iso = lens.iso_top
    seconds = FRAMING_LEVEL * lens.full_scale(iso) / photons.sky_rate(lens, mag)
    return float(np.clip(round(seconds), *FRAMING_SECONDS)), iso


def _own_words(
    own: OwnSettings, advised: tuple[float, int, int], shutter: Shutter, iso: IsoChoice
) -> tuple[list[str], list[str]]:
    """What differs from the advice, both said: of a frame, and of the stack."""
    out, of_stack = [], []
    if own.shutter is not None and own.shutter != advised[0]:
        out.append(
            f"Your {own.shutter:g} s trail {own.shutter * shutter.judged_px_s:.1f} px in the worst place "
            f"that counts; {advised[0]:g} s "
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
        of_stack.append(f"{advised[2]} frames would be the advice.")
    return out, of_stack


def _counted(electrons: float, error: float) -> str:
    """Electrons with their error, in as many digits as mean something."""
    digits = 0 if error >= 2 else 1 if error >= 0.3 else 2
    return f"{electrons:.{digits}f} ± {error:.{digits}f}"


def _reasons(lens: Lens, shutter: Shutter, iso: IsoChoice, mag: float) -> list[str]:
    capped = (
        shutter.chosen * shutter.worst_px_s < shutter.tolerance_px * 0.7
        and shutter.chosen >= lens.shutter_max * 0.99
    )
    within = shutter.trail_px <= shutter.tolerance_px * 1.001
    inner = shutter.chosen * shutter.inner_px_s
    by_middle = shutter.by_middle > 0 and not shutter.corners and shutter.chosen == shutter.by_middle
    why = (
        f"Shutter {shutter.chosen:g} s: in the middle 80 % of the frame stars trail up to {inner:.1f} px, "
        f"within the {shutter.tolerance_px:g} px you allow; in the extreme corner ({shutter.worst_place}) "
        f"{shutter.trail_px:.1f} px. Where the corners are looked at too, as on a print: "
        f"{shutter.by_corner:g} s."
        if by_middle
        else f"Shutter {shutter.chosen:g} s: the lens allows no longer."
        if capped
        else f"Shutter {shutter.chosen:g} s: stars drift up to {shutter.worst_px_s:.2f} px/s "
        f"({shutter.worst_place}), so they "
        f"trail {shutter.trail_px:.1f} px there, {'within' if within else 'over'} the "
        f"{shutter.tolerance_px:g} px you allow."
    )
    if shutter.by_middle > 0 and shutter.corners:
        why += (
            f" That is for the extreme corner; the middle 80 % of the frame alone would bear "
            f"{shutter.by_middle:g} s."
        )
    out = [
        why,
        f"ISO {iso.chosen}: the sky ({mag:.1f} mag/arcsec²) gives "
        f"{_counted(iso.sky_electrons, iso.light_sigma * iso.sky_electrons)} electrons a pixel, the sky peak "
        f"is at {100 * iso.sky_level_encoded:.0f} % of the histogram "
        f"({100 * iso.sky_level_linear:.1f} % linear), and read noise adds "
        f"{100 * iso.read_noise_adds:.0f} % to the noise of sky and dark current. Stars brighter than "
        f"magnitude {iso.clips_at:.1f} clip.",
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
    corners: bool = True,
    darker: str = DARKER,
) -> Exposure:
    """Settings for a lens at a declination (degrees) under a sky of ``mag`` (V mag/arcsec^2).

    Without ``drifts`` the camera is taken to be level on the meridian at that declination. What the
    photographer sets (``own``, or ``count`` alone) is planned with; BadInput when the lens cannot do it.
    ``band_mag`` is the target's own light as it reaches the camera, V mag/arcsec^2. Without ``corners`` the
    shutter of an ultra-wide goes by the middle 80 % of its frame. ``darker`` says what would darken the sky
    most.
    """
    if not -90 <= declination <= 90:
        raise BadInput(f"declination {declination:g} is not within -90 to 90 degrees")
    if not BRIGHTEST_SKY <= mag <= DARKEST_SKY:
        raise BadInput(f"sky {mag:g} is not within {BRIGHTEST_SKY:g} to {DARKEST_SKY:g} mag/arcsec^2")
    own = own or OwnSettings(frames=count)
    own.check(lens)
    drifts = drifts or drift_map(lens.focal_px, lens.width, lens.height, pole_seen(declination))
    advised = choose_shutter(lens, declination, tolerance_px, drifts, corners)
    seconds = own.shutter or advised.chosen
    shutter = replace(advised, chosen=seconds, trail_px=seconds * drifts.worst)
    best = choose_iso(lens, mag, seconds, shutter.trail_px)
    iso = choose_iso(lens, mag, seconds, shutter.trail_px, own.iso)
    usual, frames = (
        choose_frames(lens, mag, seconds, iso.chosen, n, minutes_available, output_px, band_mag)
        for n in (None, own.frames)
    )
    mine, of_stack = _own_words(own, (advised.chosen, best.chosen, usual.count), shutter, iso)
    return Exposure(
        shutter,
        iso,
        frames,
        [*mine, *_reasons(lens, shutter, iso, mag)],
        [*of_stack, frames_reason(frames, shutter.chosen, darker)],
        lengths(lens, shutter, mag, iso.chosen, band_mag),
    )
