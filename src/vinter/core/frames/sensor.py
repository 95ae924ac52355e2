"""A sensor measured from the user's own files: darks give read noise, hot pixels and amp glow; pairs of flats
give gain."""

from collections.abc import Sequence
from dataclasses import dataclass
from itertools import pairwise

import cv2
import numpy as np
import numpy.typing as npt

from vinter.core.errors import BadInput
from vinter.core.frames.frame import Frame

Array = npt.NDArray[np.float64]
ROBUST = 1.4826
HOT_SIGMA = 8.0
BLOCKS = 24  # blocks along each side, for amp glow
FLAT_RANGE = (0.05, 0.85)  # shares of the range from black to white in which a flat is of use
LEAST_FLATS = 2


def _mosaic(frame: Frame) -> Array:
    if frame.pattern is None:
        raise BadInput(
            f"{frame.path.name}: not a Bayer RAW file; a finished picture says nothing about the sensor"
        )
    black = np.tile(frame.black, (frame.data.shape[0] // 2 + 1, frame.data.shape[1] // 2 + 1))[
        : frame.data.shape[0], : frame.data.shape[1]
    ]
    return np.asarray(frame.data - black, float)


def _alike(frames: Sequence[Frame], what: str) -> None:
    first = frames[0]
    for f in frames[1:]:
        if f.data.shape != first.data.shape or f.meta.iso != first.meta.iso:
            raise BadInput(
                f"{f.path.name}: {what} must be of one size and one ISO; {first.path.name} differs"
            )


@dataclass(frozen=True, kw_only=True)
class DarkReport:
    """Read noise in DN (and electrons when the gain is known), share of hot pixels, amp glow in DN at the
    brightest edge."""

    frames: int
    iso: int | None
    seconds: float | None
    read_noise_dn: float
    read_noise_e: float | None
    dark_level_dn: float
    hot_share: float
    amp_glow_dn: float
    amp_glow_place: str


def _robust(values: Array) -> float:
    return float(ROBUST * np.median(np.abs(values - np.median(values))))


def _rms(values: Array) -> float:
    """Standard deviation without the far tails (hot pixels), corrected for the cut."""
    spread = _robust(values)
    kept = values[np.abs(values - np.median(values)) < 4 * max(spread, 0.5)]
    return float(kept.std())


def _blocks(values: Array) -> Array:
    """Values collected by blocks (BLOCKS, BLOCKS, n); what does not fill a block is left out."""
    rows, columns = (n // BLOCKS * BLOCKS for n in values.shape)
    parts = values[:rows, :columns].reshape(BLOCKS, rows // BLOCKS, BLOCKS, columns // BLOCKS)
    return np.asarray(parts.swapaxes(1, 2).reshape(BLOCKS, BLOCKS, -1))


def _block_rms(values: Array) -> float:
    """``_rms`` of the middling block."""
    return float(np.median([_rms(block) for block in _blocks(values).reshape(BLOCKS**2, -1)]))


PLACES = (
    ("top left", "top", "top right"),
    ("left", "middle", "right"),
    ("bottom left", "bottom", "bottom right"),
)


def measure_darks(frames: Sequence[Frame], gain: float | None = None) -> DarkReport:
    """Read noise, hot pixels and amp glow from two darks or more of one ISO and exposure; ``gain`` in
    electrons a DN.

    Read noise from differences of successive darks, so that what is fixed drops out, in the middling part of
    the frame, so that the noise of amp glow does; it includes the noise of the dark current, and one twelfth
    of a DN squared of rounding is taken out.
    """
    if len(frames) < 2:
        raise BadInput("two darks at least are needed, of the same ISO and exposure")
    _alike(frames, "darks")
    data = [_mosaic(f) for f in frames]
    noise = float(np.mean([_block_rms(b - a) / np.sqrt(2) for a, b in pairwise(data)]))
    noise = float(np.sqrt(max(noise**2 - 1 / 12, 1e-6)))
    mean = np.mean(data, axis=0)
    middle = float(np.median(mean))
    around = cv2.medianBlur(mean.astype(np.float32), 5)
    # where the amplifier glows its light is noisy too
    spread = ROBUST * np.median(_blocks(np.abs(data[1] - data[0])), axis=2) / np.sqrt(2)
    local = cv2.resize(spread.astype(np.float32), mean.shape[::-1], interpolation=cv2.INTER_LINEAR)
    hot = mean - around > HOT_SIGMA * np.maximum(local, noise) / np.sqrt(len(data)) + 1
    blocks = np.median(_blocks(mean), axis=2)
    y, x = np.unravel_index(int(np.argmax(blocks)), blocks.shape)
    place = PLACES[min(int(y) * 3 // BLOCKS, 2)][min(int(x) * 3 // BLOCKS, 2)]
    first = frames[0].meta
    return DarkReport(
        frames=len(frames),
        iso=first.iso,
        seconds=first.exposure_s,
        read_noise_dn=noise,
        read_noise_e=None if gain is None else noise * gain,
        dark_level_dn=middle,
        hot_share=float(hot.mean()),
        amp_glow_dn=float(blocks.max() - np.median(blocks)),
        amp_glow_place=place,
    )


@dataclass(frozen=True)
class FlatReport:
    """Gain in electrons a DN, electrons at the white level, and the number of flats; error relative, one
    deviation."""

    frames: int
    iso: int | None
    gain: float
    white_e: float
    error: float


def measure_flats(frames: Sequence[Frame], read_noise_dn: float = 0.0) -> FlatReport:
    """Gain from pairs of evenly lit flats of one ISO: variance of the difference against the mean, on the
    centre's greens.

    Flats may have several brightnesses, two frames of each next to each other. Too dark or clipped pairs are
    passed over.
    """
    if len(frames) < LEAST_FLATS:
        raise BadInput("two flats of the same light at least are needed")
    _alike(frames, "flats")
    gains, weights = [], []
    for a, b in zip(frames[0::2], frames[1::2], strict=False):
        greens, dark_a, dark_b = np.argwhere(a.pattern == 1), _mosaic(a), _mosaic(b)
        ya, xa = greens[0]
        h, w = a.data.shape
        cut = np.s_[h // 3 // 2 * 2 + ya : 2 * h // 3 : 2, w // 3 // 2 * 2 + xa : 2 * w // 3 : 2]
        one, two = dark_a[cut], dark_b[cut]
        level = float((one.mean() + two.mean()) / 2)
        span = a.white - float(a.black.mean())
        if not FLAT_RANGE[0] * span <= level <= FLAT_RANGE[1] * span:
            continue
        scaled = two * (one.mean() / two.mean())
        variance = _rms(one - scaled) ** 2 / 2 - read_noise_dn**2 - 1 / 12
        if variance > 0:
            gains.append(level / variance)
            weights.append(one.size)
    if not gains:
        raise BadInput(
            "no pair of flats is lit between 5 and 85 % of the range: change the light, not the ISO"
        )
    gain = float(np.average(gains, weights=weights))
    first = frames[0]
    return FlatReport(
        len(frames),
        first.meta.iso,
        gain,
        gain * (first.white - float(first.black.mean())),
        float(np.sqrt(2 / np.sum(weights))) + 0.01,
    )
