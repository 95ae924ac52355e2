"""How the air lifts what stands low. Light to load: processes of a pool need it as well."""

import numpy as np
import numpy.typing as npt

Array = npt.NDArray[np.float64]
LOWEST = -2.0  # degrees of true altitude, under which nothing is lifted


def refraction(altitude: Array | float) -> Array:
    """Refraction in degrees at a true altitude in degrees (Saemundsson 1986), zero below -2 degrees."""
    altitude = np.asarray(altitude, float)
    h = np.maximum(altitude, LOWEST)
    lift = 1.02 / np.tan(np.radians(h + 10.3 / (h + 5.11))) / 60
    return np.where(altitude < LOWEST, 0.0, np.maximum(lift, 0.0))
