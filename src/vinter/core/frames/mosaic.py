"""From digital numbers to a clean mosaic on one scale, and from the mosaic to colour planes."""

import cv2
import numba
import numpy as np
import numpy.typing as npt

from vinter.core.camera.illuminant import linear_srgb
from vinter.core.frames.frame import Frame
from vinter.core.frames.specks import without_specks

F32 = npt.NDArray[np.float32]
U16 = npt.NDArray[np.uint16]
PEDESTAL, SPAN = 2048, 60000  # clean = PEDESTAL + SPAN * (0 to 1), so that noise below black survives
_BAYER = {(0, 1, 1, 2): "RGGB", (2, 1, 1, 0): "BGGR", (1, 0, 2, 1): "GRBG", (1, 2, 0, 1): "GBRG"}


@numba.njit(cache=True)  # type: ignore[untyped-decorator]
def _rise_around(dn: U16, y: int, x: int) -> float:
    """How far the four pixels that touch one stand above pixels of the same colours a knight's move away."""
    touching, away = 0.0, 0.0
    for d in (-1, 1):
        touching += dn[y + d, x] + dn[y, x + d]
        for e in (-2, 2):
            away += dn[y + d, x + e] + dn[y + e, x + d]
    return touching / 4 - away / 8


@numba.njit(cache=True)  # type: ignore[untyped-decorator]
def _scale_row(dn: U16, black: F32, gain: float, out: U16) -> None:
    """A row on the common scale; ``black`` is that of its columns."""
    times, zero = np.float32(gain), np.float32(PEDESTAL + 0.5)
    least, most = np.float32(1), np.float32(65535)
    for at in range(len(dn)):
        value = (np.float32(dn[at]) - black[at]) * times + zero
        out[at] = np.uint16(np.int32(min(max(value, least), most)))


@numba.njit(cache=True)  # type: ignore[untyped-decorator]
def _stands_out(dn: U16, black: F32, least: float, out: npt.NDArray[np.uint8]) -> None:
    """Where a pixel of a row is high and stands half as high again as the like-coloured at both sides."""
    half, low = np.float32(1.5), np.float32(least)
    for at in range(np.uint64(len(dn) - 4)):
        level = black[at]
        value = np.float32(dn[at + np.uint64(2)]) - level
        sides = max(np.float32(dn[at]), np.float32(dn[at + np.uint64(4)])) - level
        out[at + np.uint64(2)] = np.uint8(1) if value > max(half * sides, low) else np.uint8(0)


@numba.njit(cache=True)  # type: ignore[untyped-decorator]
def _instead_of(dn: U16, y: int, x: int, level: float, threshold: float) -> float:
    """Mean of the eight like-coloured around a hot pixel; -1 where a pixel is none."""
    top, total = 0.0, 0.0
    for dy in (-2, 0, 2):
        for dx in (-2, 0, 2):
            if dy != 0 or dx != 0:
                like = float(dn[y + dy, x + dx])
                total += like
                top = max(top, like)
    excess = dn[y, x] - total / 8
    hot = excess > threshold and dn[y, x] - level > 1.5 * (top - level)
    return total / 8 if hot and _rise_around(dn, y, x) < 0.15 * excess else -1.0


@numba.njit(cache=True)  # type: ignore[untyped-decorator]
def scale_and_repair(dn: U16, black: npt.NDArray[np.float64], gain: float, threshold: float, out: U16) -> int:
    """Scale to the common range and replace lone hot pixels; returns how many.

    A hot pixel stands far above its like-coloured neighbours two pixels away while the pixels that
    touch it, of other colours, do not rise with it. A star raises them too.
    """
    height, width = dn.shape
    blacks = np.empty((2, width), np.float32)
    for x in range(width):
        blacks[0, x], blacks[1, x] = black[0, x & 1], black[1, x & 1]
    for y in range(height):
        _scale_row(dn[y], blacks[y & 1], gain, out[y])
    repaired = 0
    flags = np.zeros(-(-width // 8) * 8, np.uint8)
    eights = flags.view(np.uint64)
    for y in range(2, height - 2):
        # nearly all pixels end here: a hot one stands over the threshold even above a dark neighbourhood
        _stands_out(dn[y], blacks[y & 1], 0.8 * threshold, flags)
        for eight in range(len(eights)):
            if eights[eight] == 0:
                continue
            for x in range(8 * eight, 8 * eight + 8):
                level = black[y & 1, x & 1]
                mean = _instead_of(dn, y, x, level, threshold) if flags[x] else -1.0
                if mean >= 0:
                    out[y, x] = min(max(int(PEDESTAL + gain * (mean - level) + 0.5), 1), 65535)
                    repaired += 1
    return repaired


def clean_mosaic(
    frame: Frame, dark: npt.NDArray[np.float32] | None = None, flat: npt.NDArray[np.float32] | None = None
) -> tuple[U16, int]:
    """Black subtracted, scaled to PEDESTAL + SPAN, hot pixels repaired; and how many pixels that were.

    dark is in digital numbers above black, flat is relative to 1; both (height, width). Without a flat the
    gain map the file carries takes out the lens's shading.
    """
    data = frame.data
    assert frame.pattern is not None
    if flat is None and frame.shading is not None:
        flat = np.asarray(1 / frame.shading, np.float32)
    if dark is not None or flat is not None:
        tiled = np.tile(frame.black, (data.shape[0] // 2, data.shape[1] // 2)).astype(np.float32)
        signal = data.astype(np.float32) - tiled - (dark if dark is not None else 0)
        data = np.clip((signal / flat if flat is not None else signal) + tiled, 0, 65535).astype(np.uint16)
    green = np.median(data[:512, :512]) - frame.black.mean()
    spread = _noise_of(data, frame)
    out = np.empty(data.shape, np.uint16)
    repaired = scale_and_repair(
        data,
        frame.black,
        SPAN / (frame.white - frame.black.mean()),
        max(8 * spread, 0.05 * max(green, 0)),
        out,
    )
    return out, int(repaired)


def _noise_of(data: U16, frame: Frame) -> float:
    """Robust noise in digital numbers from differences of like-coloured neighbours."""
    height, width = data.shape
    part = data[height // 8 : height // 2 : 4, width // 4 : 3 * width // 4 : 2].astype(np.float32)
    return float(1.4826 * np.median(np.abs(np.diff(part, axis=1))) / np.sqrt(2)) + 0.5


def demosaic(mosaic: U16, pattern: npt.NDArray[np.int64]) -> U16:
    """RGB (height, width, 3) of a clean mosaic by bilinear interpolation."""
    a, b, c, d = (int(v) for v in pattern.ravel())
    name = _BAYER[a, b, c, d]
    return np.asarray(cv2.demosaicing(mosaic, getattr(cv2, f"COLOR_Bayer{name}2RGB")), np.uint16)


@numba.njit(cache=True)  # type: ignore[untyped-decorator]
def _halved(upper: U16, lower: U16, one: int, other: int, less: float, out: F32) -> None:
    """Mean of a column of every two in the upper row and one of every two in the lower, less a level."""
    half, off, a, b = np.float32(0.5), np.float32(less), np.uint64(one), np.uint64(other)
    for at in range(np.uint64(len(out))):
        two = np.uint64(2) * at
        out[at] = (np.float32(upper[two + a]) + np.float32(lower[two + b])) * half - off


@numba.njit(cache=True)  # type: ignore[untyped-decorator]
def _greens(mosaic: U16, one: int, other: int, less: float, out: F32) -> None:
    for y in range(len(out)):
        _halved(mosaic[2 * y], mosaic[2 * y + 1], one, other, less, out[y])


def green_half(mosaic: U16, pattern: npt.NDArray[np.int64], less: float = 0.0) -> F32:
    """Mean of the two greens at half size, less a level; its (x, y) lies at (2 x + 0.5, 2 y + 0.5) of the
    mosaic."""
    (_, one), (_, other) = np.argwhere(pattern == 1)
    out = np.empty((mosaic.shape[0] // 2, mosaic.shape[1] // 2), np.float32)
    _greens(np.ascontiguousarray(mosaic), int(one), int(other), float(less), out)
    return out


def picture_half(rgb: U16) -> F32:
    """Green of a picture at half size, on the same coordinates as ``green_half``."""
    g = rgb[: rgb.shape[0] // 2 * 2, : rgb.shape[1] // 2 * 2, 1].astype(np.float32)
    return np.asarray((g[::2, ::2] + g[1::2, ::2] + g[::2, 1::2] + g[1::2, 1::2]) / 4, np.float32)


def half_plane(data: U16, pattern: npt.NDArray[np.int64] | None) -> F32:
    """Green of clean data, a mosaic or a picture, at half size and above black."""
    if pattern is not None:
        return green_half(data, pattern, PEDESTAL)
    return np.asarray(picture_half(data) - PEDESTAL, np.float32)


_DECODE = np.clip(np.round(PEDESTAL + SPAN * linear_srgb(np.linspace(0, 1, 65536))), 1, 65535).astype(
    np.uint16
)
_LINEAR = np.round(PEDESTAL + SPAN * np.linspace(0, 1, 65536)).astype(np.uint16)


def clean_picture(frame: Frame) -> U16:
    """RGB of a picture or a linear DNG on the common scale, linear; a finished picture without the defects
    that the phone left in it."""
    if frame.kind == "linear":
        scaled = PEDESTAL + SPAN * (frame.data.astype(np.float32) - frame.black.mean()) / (
            frame.white - frame.black.mean()
        )
        return np.asarray(np.clip(scaled + 0.5, 1, 65535), np.uint16)
    if frame.linear:
        return np.asarray(_LINEAR[frame.data], np.uint16)
    data = without_specks(frame.data)[0] if frame.kind == "picture" else frame.data
    return np.asarray(_DECODE[data], np.uint16)
