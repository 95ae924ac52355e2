"""What the simulated phone does beside a plain RAW frame: shake, lamp light, banding, an automatic mode, a
developed picture."""

from dataclasses import dataclass, replace

import cv2
import numpy as np
import numpy.typing as npt

from vinter.core.camera.phones import Lens
from vinter.core.formats.dng import DngInfo
from vinter.core.frames.mosaic import demosaic
from vinter.core.frames.preview import stretched
from vinter.core.frames.raw import colour_from
from vinter.core.simulate.capture import Burst
from vinter.core.simulate.exposing import digitise
from vinter.core.simulate.phone import BLACK, SimulatedPhone

F32 = npt.NDArray[np.float32]
U8 = npt.NDArray[np.uint8]
U16 = npt.NDArray[np.uint16]
SHAKE_PX = 40.0  # px, first swing after a finger left the screen, for a focal length of 3000 px
SHAKE_SECONDS = 0.9  # s in which the swing dies away by e
BANDING_E = 0.12  # electrons of row noise at base ISO; grows where the phone only multiplies
AUTO_FRAME = 15.0  # s of one frame of the automatic mode
NEUTRAL_KELVIN = 5200.0


@dataclass(frozen=True, kw_only=True)
class PhoneSettings:
    """What is set on the simulated phone: ISO, shutter (s), focus in ticks back from the mark, white balance
    (K), RAW or the automatic mode of some minutes, delay (s), and seconds of lamp on the ground (a lamp of
    100 lm at 8 m)."""

    iso: int
    shutter: float
    ticks: int
    kelvin: float = 4200.0
    raw: bool = True
    automatic: float = 0.0
    delay: float = 3.0
    lamp: float = 0.0


@dataclass(frozen=True)
class Shown:
    """What the press gave: digital numbers (upright mosaic), the settings it was taken with, and what the
    file would say."""

    mosaic: U16
    burst: Burst
    info: DngInfo
    settings: PhoneSettings


def shaken(electrons: F32, lens: Lens, shutter: float, delay: float, seed: int) -> F32:
    """A mosaic's light smeared by the phone's swing after the release; none of it is left after some seconds
    of delay.

    Sums shifted copies weighted by the time the phone spends at each place, colours kept apart by even
    shifts.
    """
    swing = SHAKE_PX * lens.focal_px / 3000 * np.exp(-delay / SHAKE_SECONDS)
    if swing < 2.0:
        return electrons
    rng = np.random.default_rng([seed, 61])
    direction = rng.uniform(0, np.pi)
    t = np.linspace(0, shutter, 400)
    way = swing * np.exp(-t / SHAKE_SECONDS) * np.cos(2 * np.pi * 2.3 * t)
    dx, dy = np.round(way * np.cos(direction) / 2) * 2, np.round(way * np.sin(direction) / 2) * 2
    places, counts = np.unique(np.stack([dx, dy], axis=1).astype(int), axis=0, return_counts=True)
    out = np.zeros_like(electrons)
    for (sx, sy), count in zip(places, counts, strict=True):
        out += np.roll(electrons, (sy, sx), axis=(0, 1)) * np.float32(count / counts.sum())
    return out


def _lamp(camera: SimulatedPhone, seconds: float) -> F32:
    """Electrons of lamp light on the ground, strongest near the lower edge where the ground is close."""
    ground = camera.ground
    height = ground.sky.shape[0]
    close = np.linspace(0.25, 1.0, height, dtype=np.float32)[:, None] ** 2
    per_second = (
        100 / (2 * np.pi * (1 - np.cos(np.radians(30)))) / 8.0**2 / np.pi
    )  # cd/m^2 a unit of reflectance
    nanolamberts = per_second * 1e9 / 3183.1
    light = nanolamberts * camera.per_nl * seconds
    return np.asarray((1 - ground.sky) * ground.reflectance * close * np.float32(light), np.float32)


def _banding(shape: tuple[int, ...], lens: Lens, iso: int, seed: int) -> F32:
    rng = np.random.default_rng([seed, 62])
    digital = max(iso / (lens.iso_digital or 1600), 1.0)
    return np.asarray(rng.standard_normal((shape[0], 1)) * BANDING_E * digital, np.float32)


def press(
    burst: Burst, settings: PhoneSettings, camera: SimulatedPhone | None = None, seed: int = 1
) -> Shown:
    """One press of the release. ``camera`` may be one of the same burst, so that its ground is drawn only
    once."""
    lens = burst.lens
    shutter = AUTO_FRAME if settings.automatic else min(settings.shutter, lens.shutter_max)
    iso = int(np.clip(settings.iso, lens.iso_min, lens.iso_max))
    own = replace(
        burst,
        iso=iso,
        shutter=shutter,
        count=1,
        focus_error=float(settings.ticks - lens.infinity_ticks),
        traffic=False,
        seed=burst.seed,
    )
    phone = SimulatedPhone(own)
    if camera is not None:
        phone.__dict__["ground"] = camera.ground
    electrons = phone.electrons(0)
    if settings.lamp:
        electrons += _lamp(phone, settings.lamp)
    electrons = shaken(electrons, lens, shutter, settings.delay, seed)
    frames = max(int(settings.automatic * 60 / AUTO_FRAME), 1)
    noise = lens.noise_at(iso)
    electrons += _banding(electrons.shape, lens, iso, seed)
    black, white = BLACK[lens.bits], 2**lens.bits - 1
    gain = (white - black) / lens.full_scale(iso)
    out = np.empty(electrons.shape, np.uint16)
    z = np.random.default_rng([seed, 63]).standard_normal(electrons.shape, np.float32) / np.float32(
        np.sqrt(frames)
    )
    digitise(electrons, z, noise, gain, black - gain * lens.dark_current * shutter, white, out)
    return Shown(out, own, phone.info(0), settings)


def balanced(kelvin: float) -> tuple[float, float]:
    """Gains of red and blue that a white balance in kelvin gives against daylight."""
    warm = np.log2(NEUTRAL_KELVIN / kelvin)
    return float(2 ** (-0.62 * warm)), float(2 ** (0.62 * warm))


def _linear(mosaic: U16, info: DngInfo) -> F32:
    return np.asarray(
        np.clip((mosaic.astype(np.float32) - info.black) / np.float32(info.white - info.black), 0, 1),
        np.float32,
    )


def _encoded(rgb: F32, shown: Shown) -> U8:
    if shown.settings.automatic:
        rgb = cv2.bilateralFilter(cv2.GaussianBlur(rgb, (0, 0), 1.0), 5, 0.06, 2)
    rgb = np.minimum(rgb, np.array(shown.info.neutral, np.float32))  # what clips is white in all colours
    red, blue = balanced(shown.settings.kelvin)
    colour = colour_from(np.array(shown.info.neutral), np.array(shown.info.matrix).reshape(3, 3))
    return stretched(np.asarray(rgb * np.array([red, 1.0, blue], np.float32), np.float32), colour, 1.0)


def developed(shown: Shown) -> U8:
    """The picture on the phone's screen at half size: balanced and encoded, not stretched; smoothed in the
    automatic mode."""
    level = _linear(shown.mosaic, shown.info)
    green = (level[0::2, 1::2] + level[1::2, 0::2]) / 2
    return _encoded(
        np.asarray(np.stack([level[0::2, 0::2], green, level[1::2, 1::2]], axis=-1), np.float32), shown
    )


def loupe(shown: Shown, x: int, y: int, width: int = 640, height: int = 420) -> U8:
    """A part of the picture at full size about a pixel, developed as the whole."""
    rows, columns = shown.mosaic.shape
    left, top = (
        int(np.clip(c - n // 2, 0, max(full - n, 0))) // 2 * 2
        for c, n, full in ((x, width, columns), (y, height, rows))
    )
    part = _linear(shown.mosaic[top : top + height, left : left + width], shown.info)
    rgb = demosaic(np.round(part * 65535).astype(np.uint16), np.array([[0, 1], [1, 2]]))
    return _encoded(np.asarray(rgb.astype(np.float32) / np.float32(65535), np.float32), shown)
