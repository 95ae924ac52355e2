"""Light of a lamp on what stands before the camera: by the inverse square of its distance."""

import numpy as np

from vinter.core.camera.phones import Lens

LAMP_METER = 12.5  # cd s/(m^2 ISO), constant of a light meter: N^2/t = L ISO / K gives a mid grey
LAMP_UNDER = 1.5  # EV under mid grey: what a lamp lights at night should still look like night


def candela(lumen: float, cone: float) -> float:
    """Intensity in cd of a lamp (lm) over a cone (degrees)."""
    return float(lumen / (2 * np.pi * (1 - np.cos(np.radians(cone / 2)))))


def lamp_seconds(lens: Lens, iso: float, intensity: float, distance: float, reflectance: float) -> float:
    """Seconds of a lamp (cd) at a distance (m) that light something of a reflectance to 1.5 EV under mid
    grey;
    good to a factor of two."""
    luminance = intensity / distance**2 * reflectance / np.pi
    return float(LAMP_METER * lens.aperture**2 / (luminance * iso) * 2**-LAMP_UNDER)
