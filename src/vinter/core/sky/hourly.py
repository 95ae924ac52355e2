"""What to shoot hour by hour of a night: of all that is up, what the sky of that hour shows best."""

from dataclasses import dataclass

import numpy as np

from vinter.core.sky.nights import Night
from vinter.core.sky.site import Site
from vinter.core.sky.target_track import track
from vinter.core.sky.targets import ARCH, CLOUDS, CORE, MOON, PLANETS, POLE, STRETCHES, Target, band
from vinter.core.sky.thresholds import Thresholds

LEAST_CONTRAST = (
    0.08  # of a target's own light over the sky's; below, a stack of phone frames hardly shows it
)
# How much a picture of each is wanted, beside what the sky gives; our choice.
WANTED = {"band": 0.8, "arch": 0.75, "cloud": 0.45, "moon": 0.3, "planet": 0.22, "pole": 0.25}


@dataclass(frozen=True)
class Idea:
    """A target for an hour: altitude and azimuth in degrees, contrast over the sky (None for what shines
    itself)."""

    target: Target
    altitude: float
    azimuth: float
    contrast: float | None
    worth: float


@dataclass(frozen=True)
class Hour:
    """The midpoint of an hour (Unix time), the Sun's altitude then, and what to shoot, best first."""

    t: float
    sun: float
    ideas: list[Idea]


def _worth(what: Target, minute: float, contrast: float | None) -> float:
    wanted = 1.0 if what.key == CORE.key else WANTED[what.kind]
    return wanted * (minute if contrast is None else min(contrast, 1.0))


def hours(site: Site, night: Night, limits: Thresholds | None = None, most: int = 3) -> list[Hour]:
    """Ideas for every hour with the Sun below -6 degrees; an hour without any has an empty list."""
    limits = limits or Thresholds()
    first, last = np.ceil(night.start / 3600) * 3600 + 1800, night.end
    t = np.arange(first, last, 3600.0)
    candidates = [CORE, ARCH, *(band(l, name) for l, name in STRETCHES), *CLOUDS, MOON, *PLANETS, POLE]
    tracks = [track(site, night.day.year, t, what) for what in candidates]
    out = []
    for i in np.flatnonzero(tracks[0].sun_alt < -6):
        ideas = []
        for what, way in zip(candidates, tracks, strict=True):
            contrast = way.contrast
            seen = None if contrast is None else float(contrast[i])
            up = max(limits.min_altitude, float(way.ground[i])) < way.alt[i] <= what.highest and way.sun_alt[
                i
            ] < limits.sun_for(what)
            if up and (seen is None or seen >= LEAST_CONTRAST):
                ideas.append(
                    Idea(
                        what,
                        float(way.alt[i]),
                        float(way.az[i]),
                        seen,
                        _worth(what, float(way.worth[i]), seen),
                    )
                )
        out.append(
            Hour(float(t[i]), float(tracks[0].sun_alt[i]), sorted(ideas, key=lambda idea: -idea.worth)[:most])
        )
    return out
