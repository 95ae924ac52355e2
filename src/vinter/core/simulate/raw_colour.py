"""The raw colours of the simulated sensor: its white, its matrix, light of a B-V, light through air."""

import numpy as np
import numpy.typing as npt

Array = npt.NDArray[np.float64]

NEUTRAL = (0.46, 1.0, 0.71)  # response of the made-up sensor to light of B-V 0.65
MATRIX = (0.92, -0.32, -0.09, -0.36, 1.17, 0.20, -0.05, 0.16, 0.60)
RED_SLOPE, BLUE_SLOPE = 0.45, 0.75  # magnitudes of raw colour per magnitude of B-V
AIR_BY_COLOUR = np.array([0.80, 1.0, 1.45])  # extinction of red, green and blue against green's
RED_LINE = np.array([0.55, 0.05, 0.055])  # raw colours of a nebula's red light
GREEN_LINE = 0.05  # share of the natural sky's light that the airglow's green line adds


def reddened(through: Array) -> Array:
    """What is left (n, 3) of raw red, green and blue beside what the air takes of green (n, magnitudes)."""
    return np.asarray(10 ** (-0.4 * np.asarray(through, float)[:, None] * (AIR_BY_COLOUR - 1)))


def colour_factors(bv: Array) -> Array:
    """Raw signal by colour (n, 3) of light of a B-V, relative to its green signal."""
    shift = 0.4 * (np.asarray(bv, float) - 0.65)
    return np.stack(
        [
            NEUTRAL[0] * 10 ** (RED_SLOPE * shift),
            np.ones_like(shift),
            NEUTRAL[2] * 10 ** (-BLUE_SLOPE * shift),
        ],
        axis=-1,
    )


MOON_COLOUR = colour_factors(np.array(0.9))
