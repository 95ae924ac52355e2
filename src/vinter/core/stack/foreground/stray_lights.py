"""Lamps that stand in the ground of a stack, with their bearings by the solved field."""

from dataclasses import dataclass

import cv2
import numpy as np
import numpy.typing as npt

from vinter.core.camera.projection import east_north_up
from vinter.core.sky import ephemeris as eph
from vinter.core.sky.catalogue import stars_to, to_horizon
from vinter.core.sky.site import Site
from vinter.core.stack.plate_solve import Solution

Array = npt.NDArray[np.float64]
F32 = npt.NDArray[np.float32]
BRIGHT = 0.25  # share of full light from which ground shines by itself
OVER_SKY = 6.0  # times the sky's level: over towns no more is left below full light
LEAST_PX = 6
LARGEST = 0.003  # share of the picture: what is larger is lit, and does not shine
HIGHEST = 15.0  # degrees above the horizon: higher it is no lamp of the ground
BESIDE = 0.008  # share of the width by which a lamp may stand above the visible part of its post
FAINTEST = 3.0  # V of stars that could be taken for a lamp
BODIES = ("moon", "venus", "mars", "jupiter barycenter", "saturn barycenter")
SAME = 0.8  # degrees, within which a spot is a star, planet or the Moon: refraction low down, and its glare
NO_SKY = 0.5  # share of sky, under which a place belongs to the ground
TOGETHER = 4.0  # degrees, within which two spots are one lamp
MOST = 5


@dataclass(frozen=True)
class StrayLight:
    """Where a lamp stands: azimuth and altitude in degrees, and how many pixels of it shine."""

    azimuth: float
    altitude: float
    pixels: int


def _of_the_sky(site: Site, unix: float) -> Array:
    """Unit vectors (n, 3: east, north, up) of what shines in the sky: bright stars, planets, the Moon."""
    stars, _, _ = stars_to(FAINTEST)
    t, bodies = np.array([unix]), []
    for body in BODIES:
        altitude, azimuth, _ = eph.horizontal(
            eph.year_body(eph.year_of(unix), body)(t), eph.year_ephemeris(eph.year_of(unix)).gast(t), site
        )
        bodies.append(east_north_up(altitude, azimuth)[0])
    return np.concatenate([stars @ to_horizon(site, unix).T, bodies])


def stray_lights(rgb: F32, sky: F32, field: Solution, site: Site, unix: float) -> list[StrayLight]:
    """The lamps in a full-size linear picture (h, w, 3) with its share of sky (h, w), brightest first.

    Spots of the ground, or within ``BESIDE`` of it (a lamp on its post stands before the sky), that shine far
    over the sky's level. What is lit by a lamp is larger or dimmer than that; bright stars, planets and the
    Moon are none.
    """
    light = rgb.max(axis=2)
    ground = sky < NO_SKY
    if ground.all() or not ground.any():
        return []
    reach = max(round(BESIDE * light.shape[1]), 1)
    near = cv2.dilate(ground.astype(np.uint8), np.ones((2 * reach + 1, 2 * reach + 1), np.uint8)) > 0
    level = float(np.median(light[~ground][::97]))
    lit = (light > max(BRIGHT, OVER_SKY * level)) & near
    count, _, stats, middles = cv2.connectedComponentsWithStats(lit.astype(np.uint8), connectivity=8)
    spots = [i for i in range(1, count) if LEAST_PX <= stats[i, cv2.CC_STAT_AREA] <= LARGEST * light.size]
    if not spots:
        return []
    enu = field.directions(middles[spots]) @ to_horizon(site, unix).T
    lamps = (enu @ _of_the_sky(site, unix).T).max(axis=1) < np.cos(np.radians(SAME))
    found = sorted(
        (
            StrayLight(
                azimuth=round(float(np.degrees(np.arctan2(at[0], at[1])) % 360), 1),
                altitude=round(float(np.degrees(np.arcsin(at[2]))), 1),
                pixels=int(stats[i, cv2.CC_STAT_AREA]),
            )
            for i, at, lamp in zip(spots, enu, lamps, strict=True)
            if lamp
        ),
        key=lambda s: -s.pixels,
    )
    out: list[StrayLight] = []
    for one in found:
        apart = all(abs((one.azimuth - o.azimuth + 180) % 360 - 180) > TOGETHER for o in out)
        if apart and one.altitude < HIGHEST:
            out.append(one)
    return out[:MOST]
