"""A time-lapse's light: levelled from frame to frame, or with the true fading of dusk kept as one smooth
ramp."""

import numpy as np
import numpy.typing as npt

Array = npt.NDArray[np.float64]
U8 = npt.NDArray[np.uint8]
LEVEL, RAMP, TRAILS = "level", "ramp", "trails"
STYLES = {
    LEVEL: "every picture as bright as the others",
    RAMP: "the fading of dusk kept, as one smooth ramp",
    TRAILS: "star trails that grow",
}
SMOOTH = 0.06  # share of the film's length over which the light of the ramp is smoothed
STOPS = 2.5  # stops by which the ramp may be brighter or darker than its median
ROLL, GAMMA, SCALE, OFFSET = 0.6, 2.4, 290.0, 8.0  # the stretch of ``preview.stretched``, undone here


def ramp(lights: list[float]) -> Array:
    """Factors (n,) on the linear light of levelled pictures that give them back the true course of the light.

    ``lights`` is each frame's background over exposure and ISO, in any unit. Single frames (cloud, a lamp)
    do not show in the course: its logarithm is smoothed with neighbours, leaning on the median of five.
    """
    log = np.log2(np.maximum(np.asarray(lights, float), 1e-12))
    n = len(log)
    if n < 3:
        return np.ones(n)
    wide = np.pad(log, 2, mode="edge")
    calm = np.median(np.stack([wide[k : k + n] for k in range(5)]), axis=0)
    sigma = max(SMOOTH * n, 1.0)
    away = np.arange(n)[:, None] - np.arange(n)[None, :]
    weight = np.exp(-0.5 * (away / sigma) ** 2)
    course = (weight @ calm) / weight.sum(axis=1)
    return np.asarray(2.0 ** np.clip(course - np.median(course), -STOPS, STOPS))


def tone(factor: float) -> U8:
    """Table (256,) that multiplies the linear light of an 8-bit preview by a factor."""
    t = (np.arange(256) + OFFSET) / SCALE
    t = np.minimum(t**GAMMA, 0.98 / ROLL)
    light = t / (1 - ROLL * t) * factor
    light = light / (1 + ROLL * light)
    return np.asarray(np.clip(np.round(SCALE * light ** (1 / GAMMA) - OFFSET), 0, 255), np.uint8)
