"""Defects of the sensor that a phone left in a finished picture: specks narrower than any star, or of one
colour alone. They are taken for stars otherwise, and brightened."""

import cv2
import numpy as np
import numpy.typing as npt

U16 = npt.NDArray[np.uint16]
F32 = npt.NDArray[np.float32]
DEVIATIONS = 6.0  # standard deviations of the noise from which a pixel stands out
LEAST = 3.0 * 257  # levels of 65535, at least three of eight bits
NARROW = (
    0.55  # of the light in 3 x 3 px that a speck has in one; a star of 1.4 px has 0.44, one of 1.8 px 0.3
)
ONE_COLOUR = 4.0  # times the other colours' height, by which a speck is of one colour
MOST_SHARE = 0.006  # share of the pixels; a picture with more is no night and is left as it is


def without_specks(rgb: U16) -> tuple[U16, int]:
    """An encoded picture (h, w, 3; full scale 65535) with defects replaced by what surrounds them, and how
    many pixels those were."""
    around = np.stack([cv2.medianBlur(np.ascontiguousarray(rgb[..., c]), 5) for c in range(3)], axis=2)
    height = rgb.astype(np.float32) - around
    sample = height[::7, ::7].reshape(-1, 3)
    noise = 1.4826 * np.median(np.abs(sample - np.median(sample, axis=0)), axis=0)
    square = np.ones((3, 3), np.uint8)
    peak = height >= cv2.dilate(height, square)  # of its colour: the wings of a star are steep as well
    out = peak & (height > np.maximum(DEVIATIONS * noise, LEAST))
    narrow = out & (height > NARROW * cv2.boxFilter(height, -1, (3, 3), normalize=False))
    others = np.maximum(np.sort(height, axis=2)[..., 1], np.float32(noise.mean()) + LEAST / 3)
    coloured = out & (height > ONE_COLOUR * others[..., None])
    found = (narrow | coloured).any(axis=2)
    count = int(found.sum())
    if not count or count > MOST_SHARE * found.size:
        return rgb, 0
    where = cv2.dilate(found.astype(np.uint8), square).astype(bool)
    cleaned = rgb.copy()
    cleaned[where] = around[where]
    return cleaned, count
