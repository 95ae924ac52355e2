"""The horizon as hills, walls and trees make it: altitudes by azimuth, drawn, imported or traced by the
user."""

from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from vinter.core.errors import BadInput

Array = npt.NDArray[np.float64]
MOST_POINTS = 2000


@dataclass(frozen=True)
class Horizon:
    """Points (azimuth, altitude) in degrees; between them the profile runs straight, and round through
    north."""

    points: tuple[tuple[float, float], ...]

    def __post_init__(self) -> None:
        if not 1 <= len(self.points) <= MOST_POINTS:
            raise BadInput(f"a horizon has 1 to {MOST_POINTS} points, not {len(self.points)}")
        for azimuth, altitude in self.points:
            if not (0 <= azimuth <= 360 and -15 <= altitude <= 90):
                raise BadInput(
                    f"horizon point {azimuth:g}, {altitude:g}: azimuth must be 0 to 360 and altitude -15 to "
                    "90 degrees"
                )

    def at(self, azimuth: Array | float) -> Array:
        """Altitude in degrees of the profile at azimuths in degrees."""
        azimuths, altitudes = zip(*sorted(self.points), strict=True)
        return np.asarray(np.interp(np.asarray(azimuth, float), azimuths, altitudes, period=360))


Points = tuple[tuple[float, float], ...]


def merged(old: Points, new: Points) -> Points:
    """A profile (azimuth, altitude in degrees, by azimuth) with new points in it.

    All new points, and of the old ones those in the widest gap that the new ones leave round the compass:
    what was traced anew replaces what was there, what the trace does not cover stays.
    """
    azimuths = [a for a, _ in new]
    gaps = [((b - a) % 360, a) for a, b in zip(azimuths, [*azimuths[1:], azimuths[0]], strict=True)]
    width, start = max(gaps)
    outside = [(a, h) for a, h in old if 0 < (a - start) % 360 < width]
    return tuple(sorted({**dict(outside), **dict(new)}.items()))
