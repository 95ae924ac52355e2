"""One picture of any kind solved by itself: what its file, and whoever asks, know of it, and what its stars
say."""

from dataclasses import dataclass, replace
from datetime import UTC, datetime
from pathlib import Path
from typing import Any
from zoneinfo import ZoneInfo

import numpy as np
import numpy.typing as npt

from vinter.core.constants import FULL_FRAME_DIAGONAL_MM
from vinter.core.frames.decoding import decoded
from vinter.core.frames.measuring import clean
from vinter.core.frames.metadata import Metadata, TimeSource
from vinter.core.frames.reading import named
from vinter.core.frames.stars import background, find_stars
from vinter.core.ground.zones import zone_at
from vinter.core.sky.site import Site
from vinter.core.stack.examination import (
    CONTRADICTION,
    MIRROR_STARS,
    MIRRORED,
    Circumstances,
    field_of,
    mirrored_xy,
    pose_of,
    stars_of,
)
from vinter.core.stack.file import is_stack, read_about, read_stack
from vinter.core.stack.photometry.vignetting import vignetting_from
from vinter.core.stack.plate_solve import Solution
from vinter.core.versions import Data

Array = npt.NDArray[np.float64]
TILTED, LEVEL = 8.0, 2.5  # degrees of roll that ask for another hour, and that another hour must bring
LOWEST_CENTRE = -3.0  # degrees of altitude that the centre of a picture may have
HOURS, PARTS = 14, 2  # hours to each side that are tried, in halves


@dataclass(frozen=True, kw_only=True)
class Picture:
    """The stars of a picture (n, 2; px, brightest first), its size (width, height), and what its file
    says."""

    xy: Array
    size: tuple[int, int]
    meta: Metadata
    f35: float | None


@dataclass(frozen=True, kw_only=True)
class Given:
    """What whoever asks knows better than the file: place (degrees), elevation (m), start of the exposure
    (Unix s), zone of the camera's clock, 35 mm equivalent focal length (mm)."""

    place: tuple[float, float] | None = None
    elevation: float = 0.0
    unix: float | None = None
    zone: str = ""
    f35: float | None = None


def read_picture(path: Path) -> Picture:
    """A picture's stars and what its file says; a stack's, or any frame's. BadInput when it cannot be
    read."""
    if is_stack(path):
        rgb, _, _ = read_stack(path)
        about = read_about(path)
        source = TimeSource.FILE if about.unix is not None else TimeSource.UNKNOWN
        stars, _ = stars_of(rgb)
        return Picture(
            xy=np.asarray(stars.xy, float),
            size=(rgb.shape[1], rgb.shape[0]),
            meta=Metadata(time=about.unix, time_source=source),
            f35=_f35(about.focal_px, rgb.shape[1], rgb.shape[0]) if about.focal_px else None,
        )
    frame = decoded(path)
    with named(path.name):
        _, plane = clean(frame)
        stars = find_stars(plane, background(plane)).stars
    return Picture(xy=np.asarray(stars.xy, float), size=frame.size, meta=frame.meta, f35=frame.meta.f35)


def _f35(focal_px: float, width: int, height: int) -> float:
    """35 mm equivalent (mm) of a focal length in px."""
    return FULL_FRAME_DIAGONAL_MM * focal_px / float(np.hypot(width, height))


def settled(meta: Metadata, given: Given) -> Metadata:
    """What is known of time and place: what is given wins over the file; a clock without a zone is read in
    the zone that is given, else in that of the place."""
    place = given.place or meta.place
    meta = replace(meta, place=place)
    if given.unix is not None:
        return replace(meta, time=given.unix, time_source=TimeSource.GIVEN)
    if given.zone:
        return meta.at_home_in(ZoneInfo(given.zone), TimeSource.ZONE)
    if place is not None and not meta.time_source and meta.local is not None:
        source = TimeSource.SITE if given.place else TimeSource.PLACE
        return meta.at_home_in(ZoneInfo(zone_at(*place)), source)
    return meta


def circumstances_of(report: Data, given: Given) -> Circumstances:
    """What is known of a stack by its report: by what its reference's file says (``taken``), by stars that
    drifted, and by whoever asks."""
    taken = report["taken"]
    meta = settled(
        Metadata(
            time=taken["time"],
            time_source=TimeSource(taken["time_source"]),
            local=taken["local"],
            place=tuple(taken["place"]) if taken["place"] else None,
        ),
        given,
    )
    site = (
        None if meta.place is None else Site(lat=meta.place[0], lon=meta.place[1], elevation=given.elevation)
    )
    unix = (
        meta.time + (taken["exposure_s"] or 0.0) / 2 if meta.time is not None and meta.time_source else None
    )
    drift = vignetting_from(report.get("corners_by_drift"))
    return Circumstances(
        site=site,
        unix=unix,
        f35=given.f35 or taken["f35"],
        straightened=bool(report["straightened_px"]),
        fall_offs=[drift] if drift and drift.trusted else [],
    )


def solve_picture(path: Path, given: Given) -> Data:
    """What the stars of a picture say, as plain data.

    ``solved``, ``mirrored`` (all figures are then of the picture turned back) and ``why`` not, or why there
    is no pose; centre (``ra``, ``dec``: degrees, J2000) and ``position_angle`` (of the picture's up, north
    over east); ``scale_arcsec`` of a pixel on the axis,
    ``focal_px``, ``f35``; stars ``matched`` and their ``rms_px``; ``azimuth``, ``altitude``, ``roll`` and all
    three as ``pose``, None without place or time; ``time`` (UTC) with ``time_source``; ``notes`` on what does
    not fit.
    """
    picture = read_picture(path)
    meta = settled(picture.meta, given)
    site = (
        None if meta.place is None else Site(lat=meta.place[0], lon=meta.place[1], elevation=given.elevation)
    )
    start = meta.time if meta.time_source else None
    unix = None if start is None else start + (meta.exposure_s or 0.0) / 2
    known = Circumstances(site=site, unix=unix, f35=given.f35 or picture.f35)
    field = field_of(picture.xy, picture.size, known)
    mirrored = False
    if isinstance(field, str) and len(picture.xy) >= MIRROR_STARS:
        turned = field_of(mirrored_xy(picture.xy, picture.size[0]), picture.size, known)
        field, mirrored = (field, False) if isinstance(turned, str) else (turned, True)
    when = None if start is None else datetime.fromtimestamp(start, UTC).isoformat(timespec="seconds")
    out: dict[str, Any] = {
        "solved": not isinstance(field, str),
        "mirrored": mirrored,
        "why": "",
        **dict.fromkeys(FOUND.split()),
        "time": when and when.replace("+00:00", "Z"),
        "time_source": meta.time_source.value or None,
        "place": list(meta.place) if meta.place else None,
        "direction": meta.direction,
        "magnetic": meta.magnetic,
        "notes": [MIRRORED] if mirrored else [],
    }
    if isinstance(field, str):
        lacking = f" (not known: {', '.join(known.lacking)})" if known.lacking else ""
        return out | {"why": field + lacking}
    out |= {
        "ra": field.centre[0],
        "dec": field.centre[1],
        "position_angle": position_angle(field),
        "scale_arcsec": field.scale_arcsec,
        "focal_px": field.focal_px,
        "f35": _f35(field.focal_px, *picture.size),
        "matched": field.matched,
        "rms_px": field.rms_px,
    }
    if site is None or unix is None:
        return out | {"why": f"no pose: {' and '.join(n for n in known.lacking if n != 'lens')} not known"}
    notes = [*out["notes"], *hours_off(field, site, unix)]
    if not field.zenith:
        return out | {"why": f"no pose: {CONTRADICTION}", "notes": notes}
    pose = pose_of(field, site, unix)
    seen = {"azimuth": pose.azimuth, "altitude": pose.altitude, "roll": pose.roll}
    return out | seen | {"pose": seen, "notes": notes}


FOUND = "ra dec position_angle scale_arcsec focal_px f35 matched rms_px azimuth altitude roll pose"


def position_angle(field: Solution) -> float:
    """The direction of the picture's up at its centre, in degrees from celestial north over east."""
    _, down, forward = np.array(field.rotation)
    north = np.array([0.0, 0.0, 1.0]) - forward[2] * forward
    east = np.cross(north, forward)
    return float(np.degrees(np.arctan2(-down @ east, -down @ north)) % 360)


def hours_off(field: Solution, site: Site, unix: float) -> list[str]:
    """A word on a clock or zone that seems wrong: the camera would have been tilted much, or looked below the
    horizon, while some whole or half hours away it was level."""
    now = pose_of(field, site, unix)
    if abs(now.roll) < TILTED and now.altitude > LOWEST_CENTRE:
        return []
    steps = range(-HOURS * PARTS, HOURS * PARTS + 1)
    poses = {k: pose_of(field, site, unix + 3600.0 / PARTS * k) for k in steps}
    level = [k for k, pose in poses.items() if abs(pose.roll) < LEVEL and pose.altitude > LOWEST_CENTRE]
    if not level:
        return []
    hours = min(level, key=abs) / PARTS
    words = f"{abs(hours):g} hour{'s' if abs(hours) != 1 else ''} {'later' if hours > 0 else 'earlier'}"
    return [f"the stars would suit a level camera {words}: is it the zone, or the clock?"]
