"""From the pixels of a daytime panorama to azimuths and altitudes, once the user has fixed its bearing."""

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from vinter.core.errors import BadInput
from vinter.core.sky import ephemeris as eph
from vinter.core.sky.refraction import refraction
from vinter.core.sky.site import Site

MOST_DEGREES_PER_PX = 2.0


@dataclass(frozen=True)
class PanoramaFix:
    """How a panorama lies: azimuth of its left edge, degrees a pixel, and the row of eye level (altitude
    0)."""

    left: float
    degrees_per_px: float
    level: float

    def __post_init__(self) -> None:
        if not 0 < self.degrees_per_px <= MOST_DEGREES_PER_PX:
            raise BadInput(
                "the two points give no sensible scale: the right one must have the larger azimuth, counted "
                "eastward"
            )

    def direction(self, x: float, y: float) -> tuple[float, float]:
        """Azimuth and altitude in degrees of a pixel (x right, y down); a panorama is taken as a cylinder or
        equal steps."""
        return (self.left + x * self.degrees_per_px) % 360, (self.level - y) * self.degrees_per_px


def fix_by_points(x1: float, azimuth1: float, x2: float, azimuth2: float, level: float) -> PanoramaFix:
    """Fix by two pixels of known azimuth (degrees) and the row of eye level; from the left one the right one
    lies eastward."""
    if x1 > x2:
        x1, azimuth1, x2, azimuth2 = x2, azimuth2, x1, azimuth1
    if x2 - x1 < 5:
        raise BadInput("the two points lie too close together to give a scale")
    scale = ((azimuth2 - azimuth1) % 360) / (x2 - x1)
    return PanoramaFix((azimuth1 - x1 * scale) % 360, scale, level)


def fix_by_sun(site: Site, unix: float, x: float, y: float, degrees_per_px: float) -> PanoramaFix:
    """Fix by the Sun's pixel at a known Unix time and the scale; BadInput when the Sun was down then."""
    e, t = eph.year_ephemeris(eph.year_of(unix)), np.array([float(unix)])
    altitude, azimuth, _ = eph.horizontal(e.sun(t), e.gast(t), site)
    seen = float((altitude + refraction(altitude))[0])
    if seen < -0.8:
        raise BadInput(
            f"at that time the Sun stood {-seen:.0f}° below the horizon: check the date, the hour and the "
            "zone"
        )
    return PanoramaFix(
        (float(azimuth[0]) - x * degrees_per_px) % 360, degrees_per_px, y + seen / degrees_per_px
    )


def traced(fix: PanoramaFix, points: Sequence[tuple[float, float]]) -> tuple[tuple[float, float], ...]:
    """A horizon's points (azimuth, altitude) from pixels traced along it; of pixels at one azimuth the last
    one counts."""
    out: dict[float, float] = {}
    for x, y in points:
        azimuth, altitude = fix.direction(x, y)
        out[round(azimuth, 1) % 360] = round(float(np.clip(altitude, -15, 90)), 2)
    return tuple(sorted(out.items()))
