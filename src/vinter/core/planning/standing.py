"""Where one stands already: when the target comes over the subject from there, and the way to a planned
stand."""

from dataclasses import dataclass

import numpy as np

from vinter.core.camera.phones import Lens
from vinter.core.errors import BadInput
from vinter.core.planning.stand import Stand, Subject, Wanted, stand_at
from vinter.core.sky.ephemeris import Array, year_of
from vinter.core.sky.events import crossings
from vinter.core.sky.glow import bearing_distance
from vinter.core.sky.nights import Night, moments
from vinter.core.sky.site import Site
from vinter.core.sky.target_track import track
from vinter.core.sky.targets import Target, position

NEARER = 2.0  # times the position's error within which the direction to a place is not known
RATE_SECONDS = 60.0  # s either side of a minute between which the target's pace is taken


@dataclass(frozen=True)
class Here:
    """A measured position: degrees, and the radius in m within which it lies."""

    lat: float
    lon: float
    error: float

    def __post_init__(self) -> None:
        if not (-90 <= self.lat <= 90 and -180 <= self.lon <= 180):
            raise BadInput(f"position {self.lat:g}, {self.lon:g} is not on the map")
        if not 0 < self.error <= 100_000:
            raise BadInput(f"position error {self.error:g} is not within 0 to 100000 m")


@dataclass(frozen=True)
class Way:
    """From a measured position to a place: azimuth in degrees and its error, distance in m. ``azimuth`` is
    None where the place lies within the position's error."""

    azimuth: float | None
    error: float
    metres: float


@dataclass(frozen=True)
class Meeting:
    """A minute at which the target stands over the subject: the stand, and by how many seconds the position's
    error moves it."""

    stand: Stand
    seconds: float


def way(here: Here, lat: float, lon: float) -> Way:
    """The way from a position to a place along a great circle (sphere of 6371 km)."""
    azimuth, km = bearing_distance(here.lat, here.lon, np.array(lat), np.array(lon))
    metres = float(km) * 1000
    if metres < NEARER * here.error:
        return Way(None, 180.0, metres)
    return Way(float(azimuth), float(np.degrees(np.arcsin(here.error / metres))), metres)


def _pace(site: Site, year: int, what: Target, t: float) -> float:
    """Degrees of azimuth that the target moves in a second."""
    azimuth = position(site, year, np.array([t - RATE_SECONDS, t + RATE_SECONDS]), what)[1]
    return abs(float((azimuth[1] - azimuth[0] + 180) % 360 - 180)) / (2 * RATE_SECONDS)


def meetings(
    site: Site,
    night: Night,
    subject: Subject,
    here: Here,
    wanted: Wanted,
    lens: Lens,
    portrait: bool = False,
    what: Target | None = None,
) -> list[Meeting]:
    """The minutes of a night's windows at which the target stands over the subject as seen from a position,
    with what is seen there; none where the position's error hides the subject's direction."""
    what, year = what or night.what, year_of(night.start)
    to = way(here, subject.lat, subject.lon)
    bearing = to.azimuth
    if bearing is None:
        return []

    def off(t: Array) -> Array:
        return np.asarray((position(site, year, t, what)[1] - bearing + 180) % 360 - 180)

    up, down = crossings(off, night.start, night.end)
    # the jump from 180 to -180 on the other side of the sky is no meeting
    met = [float(t) for t in (*up, *down) if abs(float(off(np.array([t]))[0])) < 1]
    times = sorted(t for t in met if any(w.start <= t <= w.end for w in night.windows))
    if not times:
        return []
    seen = track(site, year, np.array(times), what)
    return [
        Meeting(
            stand_at(subject, wanted, lens, portrait, at, to.metres),
            to.error / max(_pace(site, year, what, at.t), 1e-6),
        )
        for at in moments(seen, np.arange(len(times)))
    ]
