"""Lamps that stand in the ground of a stack, with their bearings by the solved field."""

from dataclasses import dataclass

import cv2
import numpy as np
import numpy.typing as npt

from vinter.core.sky.catalogue import to_horizon
from vinter.core.sky.site import Site
from vinter.core.stack.plate_solve import Solution

F32 = npt.NDArray[np.float32]
BRIGHT = 0.5  # of full light, from which ground shines by itself
OVER_SKY = 12.0  # times the sky's level
LEAST_PX = 6
HIGHEST = 15.0  # degrees above the horizon: higher it is no lamp of the ground
NO_SKY = 0.5  # share of sky, under which a place belongs to the ground
TOGETHER = 4.0  # degrees, within which two spots are one lamp
MOST = 5


@dataclass(frozen=True)
class StrayLight:
    """Where a lamp stands: azimuth and altitude in degrees, and how many pixels of it shine."""

    azimuth: float
    altitude: float
    pixels: int


def stray_lights(rgb: F32, sky: F32, field: Solution, site: Site, unix: float) -> list[StrayLight]:
    """The lamps in a full-size linear picture (h, w, 3) with its share of sky (h, w), brightest first.

    Spots of the ground that shine far over the sky's level; what is lit by a lamp is dimmer than that.
    """
    light = rgb.max(axis=2)
    ground = sky < NO_SKY
    if ground.all() or not ground.any():
        return []
    level = float(np.median(light[~ground][::97]))
    lit = (light > max(BRIGHT, OVER_SKY * level)) & ground
    count, _, stats, middles = cv2.connectedComponentsWithStats(lit.astype(np.uint8), connectivity=8)
    spots = [i for i in range(1, count) if stats[i, cv2.CC_STAT_AREA] >= LEAST_PX]
    if not spots:
        return []
    enu = field.directions(middles[spots]) @ to_horizon(site, unix).T
    found = sorted(
        (
            StrayLight(
                azimuth=round(float(np.degrees(np.arctan2(at[0], at[1])) % 360), 1),
                altitude=round(float(np.degrees(np.arcsin(at[2]))), 1),
                pixels=int(stats[i, cv2.CC_STAT_AREA]),
            )
            for i, at in zip(spots, enu, strict=True)
        ),
        key=lambda s: -s.pixels,
    )
    out: list[StrayLight] = []
    for one in found:
        apart = all(abs((one.azimuth - o.azimuth + 180) % 360 - 180) > TOGETHER for o in out)
        if apart and one.altitude < HIGHEST:
            out.append(one)
    return out[:MOST]
