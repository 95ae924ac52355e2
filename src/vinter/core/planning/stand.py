"""Where to put the tripod, and when, so that the target stands over a subject as high and as large as
wanted."""

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np

from vinter.core.camera.focus import hyperfocal
from vinter.core.camera.phones import Lens
from vinter.core.camera.projection import Pose
from vinter.core.errors import BadInput
from vinter.core.planning.shot import field_of_view
from vinter.core.sky.ephemeris import Array, year_of
from vinter.core.sky.events import crossings
from vinter.core.sky.nights import Moment, Night, moments
from vinter.core.sky.site import Site
from vinter.core.sky.target_track import track
from vinter.core.sky.targets import Target, position

EARTH_M = 6_371_000.0
STEP = 600.0  # s between the stands offered along a window
HEADROOM = 4.0  # degrees of sky wanted above the target
FOOTROOM = 0.06  # share of the frame's height below the subject's foot


@dataclass(frozen=True)
class Subject:
    """What the target shall stand over: position in degrees, height in m, its foot's height above the stand's
    ground in m."""

    lat: float
    lon: float
    height: float
    base: float = 0.0

    def __post_init__(self) -> None:
        if not (-90 <= self.lat <= 90 and -180 <= self.lon <= 180):
            raise BadInput(f"subject at {self.lat:g}, {self.lon:g} is not on the map")
        if not 0.2 <= self.height <= 2000:
            raise BadInput(f"subject height {self.height:g} is not within 0.2 to 2000 m")
        if not -500 <= self.base <= 3000:
            raise BadInput(f"subject foot {self.base:g} is not within -500 to 3000 m")


@dataclass(frozen=True)
class Wanted:
    """Degrees between the subject's top and the target; share of the frame's height the subject fills; eye
    level in m.

    One of ``gap`` and ``share`` may be None: then it follows. Distances in m bound where one can stand.
    """

    gap: float | None = 5.0
    share: float | None = None
    eye: float = 1.5
    nearest: float = 3.0
    farthest: float = 3000.0

    def __post_init__(self) -> None:
        if self.gap is None and self.share is None:
            raise BadInput(
                "give the height of the target over the subject, the subject's size in the frame, or both"
            )
        if self.gap is not None and not -30 <= self.gap <= 80:
            raise BadInput(f"height over the subject {self.gap:g} is not within -30 to 80 degrees")
        if self.share is not None and not 0.01 <= self.share <= 0.95:
            raise BadInput(f"size in the frame {self.share:g} is not within 1 to 95 %")
        if not 0 < self.nearest < self.farthest:
            raise BadInput("the nearest stand must be nearer than the farthest")


@dataclass(frozen=True, kw_only=True)
class Stand:
    """One solution: the minute, where to stand, what is seen from there. Angles in degrees, distance in m.

    ``bearing`` leads from the stand to the subject; ``foot`` and ``top`` are the subject's altitudes;
    ``share`` its part of the frame's height; ``upright`` marks the minute at which the band stands straight
    up.
    """

    at: Moment
    lat: float
    lon: float
    distance: float
    bearing: float
    foot: float
    top: float
    share: float
    gap: float
    pose: Pose
    fits: bool
    upright: bool
    notes: list[str]


def destination(lat: float, lon: float, azimuth: float, metres: float) -> tuple[float, float]:
    """Latitude and longitude (degrees) of the end of a way along a great circle (sphere of 6371 km)."""
    a, d, p = np.radians(azimuth), metres / EARTH_M, np.radians(lat)
    end = np.arcsin(np.sin(p) * np.cos(d) + np.cos(p) * np.sin(d) * np.cos(a))
    turn = np.arctan2(np.sin(a) * np.sin(d) * np.cos(p), np.cos(d) - np.sin(p) * np.sin(end))
    return float(np.degrees(end)), float((lon + np.degrees(turn) + 180) % 360 - 180)


def angles(subject: Subject, eye: float, distance: float) -> tuple[float, float]:
    """Altitudes in degrees of a subject's foot and top from a distance in m (level ground between)."""
    foot, top = (
        float(np.degrees(np.arctan2(h - eye, distance)))
        for h in (subject.base, subject.base + subject.height)
    )
    return foot, top


def distance_for_top(subject: Subject, eye: float, altitude: float) -> float | None:
    """Distance in m at which the subject's top stands at an altitude; None where no distance does that."""
    rise = subject.base + subject.height - eye
    if rise * altitude <= 0:
        return None
    return float(rise / np.tan(np.radians(altitude)))


def distance_for_share(subject: Subject, wanted: Wanted, share: float, fov: float) -> float:
    """Distance in m at which the subject fills a share of a frame ``fov`` degrees high, by bisection."""

    def extent(distance: float) -> float:
        foot, top = angles(subject, wanted.eye, distance)
        return top - foot

    near, far = 0.05, 2e5
    for _ in range(80):
        middle = (near * far) ** 0.5
        near, far = (middle, far) if extent(middle) > share * fov else (near, middle)
    return near


def _pose(lens: Lens, portrait: bool, bearing: float, foot: float, altitude: float) -> tuple[Pose, bool]:
    """A level frame with the subject's foot just inside its lower edge; whether the target then lies in it
    too."""
    fov = field_of_view(lens, portrait)[1]
    low = foot + fov * (0.5 - FOOTROOM)
    centre = float(np.clip(max(low, altitude + HEADROOM - fov / 2), -20, 80))
    fits = altitude + HEADROOM <= centre + fov / 2 + 0.01 and foot >= centre - fov / 2
    return Pose(round(bearing, 1), round(centre, 1)), fits


def stand_at(
    subject: Subject,
    wanted: Wanted,
    lens: Lens,
    portrait: bool,
    at: Moment,
    distance: float,
    upright: bool = False,
) -> Stand:
    """What is seen from the spot at a distance (m) from which the target stands over the subject at a
    moment."""
    bearing = at.azimuth
    lat, lon = destination(subject.lat, subject.lon, bearing + 180, distance)
    foot, top = angles(subject, wanted.eye, distance)
    pose, fits = _pose(lens, portrait, bearing, foot, at.altitude)
    near = hyperfocal(lens)
    notes = []
    if distance < near:
        notes.append(
            f"Closer than the hyperfocal distance ({near:.1f} m): with the stars sharp the subject blurs; "
            "take a second frame focused on it and blend."
        )
    if not fits:
        notes.append(
            "The frame does not hold foot and target together: step back, turn the phone or take a wider "
            "lens."
        )
    return Stand(
        at=at,
        lat=lat,
        lon=lon,
        distance=distance,
        bearing=bearing,
        foot=foot,
        top=top,
        share=(top - foot) / field_of_view(lens, portrait)[1],
        gap=at.altitude - top,
        pose=pose,
        fits=fits,
        upright=upright,
        notes=notes,
    )


def _exact(site: Site, night: Night, what: Target, wanted_alt: float) -> list[float]:
    """Times within the windows at which the target stands at an altitude."""

    def off(t: Array) -> Array:
        return position(site, year_of(night.start), t, what)[0] - wanted_alt

    up, down = crossings(off, night.start, night.end)
    return sorted(float(t) for t in (*up, *down) if any(w.start <= t <= w.end for w in night.windows))


def _upright(site: Site, night: Night, what: Target) -> list[float]:
    """Times within the windows at which the band stands upright."""

    def tilt(t: Array) -> Array:
        return track(site, year_of(night.start), t, what).tilt

    if not what.banded:
        return []
    up, down = crossings(tilt, night.start, night.end)
    times = [float(t) for t in (*up, *down) if any(w.start <= t <= w.end for w in night.windows)]
    return [t for t in times if abs(float(tilt(np.array([t]))[0])) < 1]


def _moments(site: Site, night: Night, what: Target, times: list[float]) -> list[Moment]:
    if not times:
        return []
    return moments(track(site, year_of(night.start), np.array(times), what), np.arange(len(times)))


def stands(
    site: Site,
    night: Night,
    subject: Subject,
    wanted: Wanted,
    lens: Lens,
    portrait: bool = False,
    what: Target | None = None,
) -> list[Stand]:
    """All stands of a night from which the target is over the subject as wanted, in the order of time.

    With height and size both given there are at most a few exact minutes; with one of them a stand every ten
    minutes of the windows, and at the minute the band stands upright. The ground between is taken as level;
    the target's altitude is airless, so below 10 degrees it stands up to 0.1 degrees higher.
    """
    what = what or night.what
    fov = field_of_view(lens, portrait)[1]
    grid = [float(t) for w in night.windows for t in np.arange(np.ceil(w.start / STEP) * STEP, w.end, STEP)]
    upright = _upright(site, night, what)
    fixed = None if wanted.share is None else distance_for_share(subject, wanted, wanted.share, fov)
    if fixed is not None and wanted.gap is not None:
        times = _exact(site, night, what, angles(subject, wanted.eye, fixed)[1] + wanted.gap)
    else:
        times = sorted({*grid, *upright})
    distance: Callable[[Moment], float | None] = (
        (lambda _: fixed)
        if fixed is not None
        else (lambda at: distance_for_top(subject, wanted.eye, at.altitude - (wanted.gap or 0.0)))
    )
    out = []
    for at in _moments(site, night, what, times):
        metres = distance(at)
        if metres is not None and wanted.nearest <= metres <= wanted.farthest:
            out.append(stand_at(subject, wanted, lens, portrait, at, metres, at.t in upright))
    return out
