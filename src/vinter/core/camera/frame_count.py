"""How many frames: by the signal to noise that the finished picture asks for, within the time there is."""

from dataclasses import dataclass

import numpy as np

from vinter.core.camera import photons
from vinter.core.camera.phones import LIGHT_SIGMA, Lens
from vinter.core.camera.shutter import USES
from vinter.core.errors import BadInput

# signal to noise of the band in one pixel of the result: smooth to the eye after a strong edit
WANTED_SNR = 10.0


FEWEST, LONGEST_MINUTES = (
    4,
    60.0,
)  # frames that a clipping needs; a burst longer than this is another night's work


PAYS = 0.02  # share of the noise: a further minute that gains less no longer pays


MOST_FRAMES = 2000
# relative error of a signal to noise: half of the light's, because noise grows with light too
SNR_SIGMA = 0.15


GAP_SECONDS = 1.0


BAND_MAG = 21.0


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
    wanted_range: tuple[int, int] = (0, 0)  # ``wanted``, were the light a deviation more or less


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

    def needed(share: float) -> int:
        """Frames for the signal to noise that is wanted, with a share more or less of all light."""
        dim = -2.5 * np.log10(share)
        one = photons.snr(
            lens,
            photons.sky_rate(lens, band_mag + dim),
            photons.sky_rate(lens, mag + dim),
            seconds,
            iso,
        )
        return int(np.ceil((WANTED_SNR / (one * averaged)) ** 2))

    wanted = needed(1.0)
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
        wanted_range=(needed(1 + LIGHT_SIGMA), needed(1 - LIGHT_SIGMA)),
    )


LONGEST_NIGHT = 10.0  # h, for which nobody stands beside one picture
DARKER = "a darker site"  # what helps where towns leave a target little contrast


def frames_reason(frames: Frames, seconds: float, darker: str = DARKER) -> str:
    """What the frames give and, where an hour of them is not enough, what helps more: ``darker`` says how the
    sky would be darker."""
    text = (
        f"{frames.count} frames take {frames.minutes:.0f} min and {frames.storage_mb / 1000:.1f} GB; the "
        "band then stands "
        f"{_with_error(frames.snr_output)} times above the noise of one "
        f"pixel of the finished picture. One minute "
        "more would gain "
        f"{100 * frames.next_minute:.0f} %; after {frames.pays_minutes:.0f} minutes a further one gains "
        "under "
        f"{100 * PAYS:.0f} %."
    )
    hours = burst_minutes(frames.wanted, seconds) / 60
    if frames.wanted > frames.count and frames.snr_output < 0.95 * WANTED_SNR:
        if hours > LONGEST_NIGHT:
            text += f" For {WANTED_SNR:.0f} times no night is long enough"
        else:
            length = f"{hours:.1f} h" if hours >= 1 else f"{60 * hours:.0f} min"
            text += f" For {WANTED_SNR:.0f} times, {frames.wanted} frames ({length}) would be needed"
        longer = "" if hours > LONGEST_NIGHT else ", more than an hour of frames"
        helps = f"{longer}: {darker}, a faster lens or a tracker helps more."
        text += helps if hours * 60 > LONGEST_MINUTES else "."
    return text


def _with_error(snr: float) -> str:
    """A signal-to-noise ratio with its error, to the error's first figure."""
    error = SNR_SIGMA * snr
    digits = 0 if error >= 0.95 else 1 if error >= 0.095 else 2
    return f"{snr:.{digits}f} ± {error:.{digits}f}"
