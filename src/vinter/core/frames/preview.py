"""A frame or a stack made visible: a fixed, gentle stretch to 8 bits for contact sheets and loupes."""

import cv2
import numpy as np
import numpy.typing as npt

from vinter.core.frames.frame import Colour, Frame
from vinter.core.frames.mosaic import PEDESTAL, SPAN, demosaic

F32 = npt.NDArray[np.float32]
U8 = npt.NDArray[np.uint8]
BAND, MARGIN = 512, 2  # rows at a time, and beside them for the demosaicing; both even
TARGET = 0.055  # linear level to which the background is brought


def linear_of(data: npt.NDArray[np.uint16], pattern: npt.NDArray[np.int64] | None) -> F32:
    """Linear RGB (0 black, 1 white) of clean data on the common scale."""
    rgb = demosaic(data, pattern) if pattern is not None else data
    return np.asarray((rgb.astype(np.float32) - PEDESTAL) * np.float32(1 / SPAN))


def gain_for(background: float) -> float:
    """Gain that brings a green background level to the target."""
    return TARGET / max(background, 1e-4)


def stretched(rgb: F32, colour: Colour, gain: float) -> U8:
    """8-bit sRGB of linear camera RGB with a gain; highlights roll off."""
    matrix = np.array(colour.matrix) @ np.diag(gain / np.array(colour.neutral))
    out = cv2.transform(rgb, matrix.astype(np.float32))
    np.clip(out, 0, None, out=out)
    out /= 1 + 0.6 * out
    cv2.pow(out, 1 / 2.4, dst=out)
    return np.asarray(np.clip(out * 290 - 8, 0, 255), np.uint8)


def preview(frame: Frame, data: npt.NDArray[np.uint16], background: float) -> U8:
    """A frame as 8-bit RGB at full size; made in bands of rows, so that large frames need little memory."""
    gain, height = gain_for(background), data.shape[0]
    out = np.empty((*data.shape[:2], 3), np.uint8)
    for top in range(0, height, BAND):
        first, last = max(top - MARGIN, 0), min(top + BAND + MARGIN, height)
        band = stretched(linear_of(data[first:last], frame.pattern), frame.colour, gain)
        out[top : top + BAND] = band[top - first :][:BAND]
    return out


def thumbnail(picture: U8, width: int = 480) -> U8:
    """A picture reduced to a width."""
    height = max(round(picture.shape[0] * width / picture.shape[1]), 1)
    return np.asarray(cv2.resize(picture, (width, height), interpolation=cv2.INTER_AREA))
