"""When and through which lens a picture was taken, each with where that is known from, corrected where
somebody knows better."""

from dataclasses import dataclass
from datetime import datetime
from zoneinfo import ZoneInfo

from vinter.core.camera.phones import Phone
from vinter.core.frames.metadata import TimeSource, in_zone
from vinter.core.versions import Data

ALIKE = 0.03  # relative difference of focal lengths within which a lens of Gear is the picture's


@dataclass(frozen=True)
class Corrections:
    """What somebody says of all frames of a take: zone of the camera's clock, by how many seconds it was
    fast, 35 mm equivalent focal length (mm)."""

    zone: str = ""
    fast_s: float = 0.0
    f35: float | None = None


@dataclass(frozen=True)
class LensFact:
    """A 35 mm equivalent focal length (mm), and where it comes from."""

    f35: float
    source: str


def settled_time(measure: Data, corrections: Corrections, site_zone: str, place_zone: str) -> Data:
    """A stored measure's ``time`` (Unix s) and ``time_source``: the zone that somebody gives, else what the
    file knows, else the clock read in the zone of the picture's own place, else in the site's; less what the
    clock was fast. What the file said stays beside it."""
    settled = measure.get("file_time") is not None
    names = ("file_time", "file_source") if settled else ("time", "time_source")
    said = measure.get(names[0]), measure.get(names[1]) or ""
    time, source, local = said[0], said[1], measure.get("local")
    if corrections.zone and local is not None:
        time, source = in_zone(local, ZoneInfo(corrections.zone)), TimeSource.ZONE.value
    elif not source and local is not None:
        for zone, why in ((place_zone, TimeSource.PLACE), (site_zone, TimeSource.SITE)):
            if zone:
                time, source = in_zone(local, ZoneInfo(zone)), why.value
                break
    if time is not None:
        time -= corrections.fast_s
    return {**measure, "time": time, "time_source": source, "file_time": said[0], "file_source": said[1]}


def lens_fact(measure: Data, corrections: Corrections, phone: Phone | None) -> LensFact | None:
    """The lens of a picture: as somebody says, as the file says, or by its focal length from a phone of Gear;
    None where none of them tells."""
    if corrections.f35:
        return LensFact(corrections.f35, "as you say")
    if measure.get("f35"):
        return LensFact(float(measure["f35"]), "from the file")
    focal = measure.get("focal_mm")
    if phone is None:
        return None
    lenses = list(phone.lenses.values())
    if focal:
        near = min(lenses, key=lambda one: abs(one.focal - focal), default=None)
        return LensFact(near.f35, "from Gear") if near and abs(near.focal / focal - 1) < ALIKE else None
    size = {measure.get("width"), measure.get("height")}
    same = [one for one in lenses if {one.width, one.height} == size]
    return LensFact(same[0].f35, "from Gear, by its pixels") if len(same) == 1 else None


def time_words(measure: Data, zone: str) -> str:
    """When a picture was taken, in a zone, and how that is known."""
    if measure.get("time") is None:
        return "no time in the file"
    if not measure.get("time_source") and measure.get("local") is not None:
        shown = datetime.fromtimestamp(measure["time"], ZoneInfo("UTC"))
        return f"{shown.day} {shown:%b %Y, %H:%M} by the camera's clock, zone not known"
    shown = datetime.fromtimestamp(measure["time"], ZoneInfo(zone))
    source = measure.get("time_source") or "the file"  # what was measured long ago does not say what in it
    return f"{shown.day} {shown:%b %Y, %H:%M} ({zone}), from {source}"
