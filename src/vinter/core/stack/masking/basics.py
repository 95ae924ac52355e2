"""What the ways of telling sky from ground have in common."""

import cv2
import numpy as np
import numpy.typing as npt

F32 = npt.NDArray[np.float32]
U8 = npt.NDArray[np.uint8]
SURE_COUNT = 3.0  # stars that a place must be wide enough for, that their absence says something
EMPTY_OF_STARS = 0.35  # share of the stars that a sky would show there
LEAST_LIGHT = 0.02  # share of the sky's light below which nothing is told apart from black


def disc(radius: int) -> U8:
    """A disc (1) of so many px about its middle, for the morphology of masks."""
    size = 2 * radius + 1
    return np.asarray(cv2.getStructuringElement(cv2.MORPH_ELLIPSE, (size, size)), np.uint8)


def log_light(plane: F32) -> F32:
    """Natural log of a picture's light (any unit; its lightest tenth is sky); black counts as LEAST_LIGHT of
    the sky."""
    floor = max(float(np.percentile(plane, 90)) * LEAST_LIGHT, 1e-6)
    return np.asarray(np.log(np.maximum(plane, floor)), np.float32)
