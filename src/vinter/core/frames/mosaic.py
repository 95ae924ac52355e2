"""From digital numbers to a clean mosaic on one scale, and from the mosaic to colour planes."""

import cv2
import numba
import numpy as np
import numpy.typing as npt

from vinter.core.camera.illuminant import linear_srgb
from vinter.core.frames.reading import Frame

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
def _scale_and_repair(
    dn: U16, black: npt.NDArray[np.float64], gain: float, threshold: float, out: U16
) -> int:
    """Scale to the common range and replace lone hot pixels; returns how many.

    A hot pixel stands far above its like-coloured neighbours two pixels away while the pixels that
    touch it, of other colours, do not rise with it. A star raises them too.
    """
    height, width = dn.shape
    for y in range(height):
        for x in range(width):
            out[y, x] = min(max(int(PEDESTAL + gain * (dn[y, x] - black[y & 1, x & 1]) + 0.5), 1), 65535)
    repaired = 0
    for y in range(2, height - 2):
        for x in range(2, width - 2):
            level = black[y & 1, x & 1]
            value = dn[y, x] - level
            # most pixels end here: a hot one stands over the threshold even above a dark neighbourhood
            if (
                value < 0.8 * threshold
                or value <= 1.5 * (dn[y, x - 2] - level)
                or value <= 1.5 * (dn[y, x + 2] - level)
            ):
                continue
            top, total = 0.0, 0.0
            for dy in (-2, 0, 2):
                for dx in (-2, 0, 2):
                    if dy != 0 or dx != 0:
                        like = float(dn[y + dy, x + dx])
                        total += like
                        top = max(top, like)
            mean = total / 8 - level
            excess = value - mean
            if excess > threshold and value > 1.5 * (top - level) and _rise_around(dn, y, x) < 0.15 * excess:
                out[y, x] = min(max(int(PEDESTAL + gain * mean + 0.5), 1), 65535)
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
    repaired = _scale_and_repair(
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
    part = data[height // 8 : height // 2 : 2, width // 4 : 3 * width // 4 : 2].astype(np.float32)
    return float(1.4826 * np.median(np.abs(np.diff(part, axis=1))) / np.sqrt(2)) + 0.5


def demosaic(mosaic: U16, pattern: npt.NDArray[np.int64]) -> U16:
    """RGB (height, width, 3) of a clean mosaic by bilinear interpolation."""
    a, b, c, d = (int(v) for v in pattern.ravel())
    name = _BAYER[a, b, c, d]
    return np.asarray(cv2.demosaicing(mosaic, getattr(cv2, f"COLOR_Bayer{name}2RGB")), np.uint16)


def green_half(mosaic: U16, pattern: npt.NDArray[np.int64]) -> npt.NDArray[np.float32]:
    """Mean of the two greens at half size; its (x, y) lies at (2 x + 0.5, 2 y + 0.5) of the mosaic."""
    places = np.argwhere(pattern == 1)
    planes = [mosaic[y::2, x::2].astype(np.float32) for y, x in places]
    return np.asarray(sum(planes) / len(planes), np.float32)


def picture_half(rgb: U16) -> npt.NDArray[np.float32]:
    """Green of a picture at half size, on the same coordinates as ``green_half``."""
    g = rgb[: rgb.shape[0] // 2 * 2, : rgb.shape[1] // 2 * 2, 1].astype(np.float32)
    return np.asarray((g[::2, ::2] + g[1::2, ::2] + g[::2, 1::2] + g[1::2, 1::2]) / 4, np.float32)


def half_plane(data: U16, pattern: npt.NDArray[np.int64] | None) -> npt.NDArray[np.float32]:
    """Green of clean data, a mosaic or a picture, at half size and above black."""
    plane = green_half(data, pattern) if pattern is not None else picture_half(data)
    return np.asarray(plane - PEDESTAL, np.float32)


_DECODE = np.clip(np.round(PEDESTAL + SPAN * linear_srgb(np.linspace(0, 1, 65536))), 1, 65535).astype(
    np.uint16
)
_LINEAR = np.round(PEDESTAL + SPAN * np.linspace(0, 1, 65536)).astype(np.uint16)


def clean_picture(frame: Frame) -> U16:
    """RGB of a picture or a linear DNG on the common scale, linear."""
    if frame.kind == "linear":
        scaled = PEDESTAL + SPAN * (frame.data.astype(np.float32) - frame.black.mean()) / (
            frame.white - frame.black.mean()
        )
        return np.asarray(np.clip(scaled + 0.5, 1, 65535), np.uint16)
    return np.asarray((_LINEAR if frame.linear else _DECODE)[frame.data], np.uint16)
