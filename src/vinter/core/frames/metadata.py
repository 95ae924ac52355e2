"""What a file says of itself: camera, settings and time, from TIFF tags or JPEG EXIF."""

import re
from dataclasses import dataclass, replace
from datetime import UTC, datetime
from enum import StrEnum
from math import isfinite
from pathlib import Path
from typing import Any
from zoneinfo import ZoneInfo

import tifffile
from PIL import Image

from vinter.core.versions import Data

EXIF_POINTER, GPS_POINTER = 34665, 34853
OLD_FIX = 400.0  # s by which a GPS stamp may be older than the exposure
ZONES = (
    *(1800.0 * k for k in range(-24, 29)),
    20700.0,
    31500.0,
    45900.0,
)  # s east of Greenwich that are in use
EARLIEST, LATEST = -2208988800.0, 2619273600.0  # Unix seconds of 1900 and 2053: no other time is believed


class TimeSource(StrEnum):
    """Where the time of a picture comes from, as it is said."""

    GPS = "the GPS stamp"
    WRITTEN = "the zone written in the file"
    PLACE = "the local time at the picture's place"
    SITE = "the local time at the site"
    GIVEN = "the time given"
    ZONE = "the local time in the zone given"
    FILM = "the film's creation time"
    FILE = "the stack's file"
    UNKNOWN = ""


@dataclass(frozen=True, kw_only=True)
class Metadata:
    """What a file says of itself; None (or "", 0) where it is silent. ``time`` is Unix seconds at the start
    of the exposure, by ``time_source``; where that is unknown the file told a local time without its zone,
    and ``time`` is that as if it were UTC. ``local`` is what the camera's clock showed, as if it were UTC.
    Place is latitude and longitude in degrees, ``direction`` the azimuth (degrees) of the axis, from true
    north or, if ``magnetic``, as a compass shows it."""

    make: str = ""
    model: str = ""
    lens: str = ""
    iso: int | None = None
    exposure_s: float | None = None
    aperture: float | None = None
    focal_mm: float | None = None
    f35: float | None = None
    time: float | None = None
    time_source: TimeSource = TimeSource.UNKNOWN
    local: float | None = None
    orientation: int = 1
    software: str = ""
    place: tuple[float, float] | None = None
    direction: float | None = None
    magnetic: bool = False

    @property
    def camera(self) -> str:
        """Maker and model, the maker once."""
        return camera_name(self.make, self.model)

    def at_home_in(self, zone: ZoneInfo, source: TimeSource) -> "Metadata":
        """The same with its clock read in a zone, where it does not know its own."""
        if self.time_source or self.local is None:
            return self
        return replace(self, time=in_zone(self.local, zone), time_source=source)


def camera_name(make: str, model: str) -> str:
    """Maker and model of a camera, the maker once."""
    named = model.lower().startswith(make.split(" ", maxsplit=1)[0].lower()) if make else True
    return (model if named else f"{make} {model}").strip()


def in_zone(local: float, zone: ZoneInfo) -> float:
    """Unix seconds of what a clock showed (as if it were UTC) in a zone."""
    shown = datetime.fromtimestamp(local, UTC).replace(tzinfo=None)
    return shown.replace(tzinfo=zone).timestamp()


def _number(value: object) -> float | None:
    """A number of a tag; None for what is none, as 0/0 or 1/0 in files of careless writers."""
    try:
        if isinstance(value, tuple):
            found = float(value[0]) / float(value[1]) if len(value) > 1 else float(value[0])
        else:
            found = float(value)  # type: ignore[arg-type]
    except (TypeError, ValueError, IndexError, ZeroDivisionError, OverflowError):
        return None
    return found if isfinite(found) else None


def believable(unix: float) -> bool:
    """Whether a photograph can be of that time (Unix seconds)."""
    return EARLIEST <= unix < LATEST


def _clock(exif: Data, tags: Data) -> float | None:
    """What the camera's clock showed, as if it were UTC."""
    for name, sub in (
        ("DateTimeOriginal", "SubsecTimeOriginal"),
        ("DateTimeDigitized", "SubsecTimeDigitized"),
        ("DateTime", "SubsecTime"),
    ):
        text = str(exif.get(name) or tags.get(name) or "").strip("\0 ")
        try:
            whole = datetime.strptime(text[:19], "%Y:%m:%d %H:%M:%S").replace(tzinfo=UTC).timestamp()
        except (ValueError, OverflowError):
            continue
        if believable(whole):
            digits = str(exif.get(sub) or "").strip("\0 ")
            return whole + (float(f"0.{digits}") if digits.isdigit() else 0.0)
    return None


def _offset(text: object) -> float | None:
    """Seconds east of Greenwich of an offset like +02:00; None for what is none."""
    found = re.fullmatch(r"([+-])(\d\d):?(\d\d)", str(text or "").strip("\0 "))
    if found is None or int(found[2]) > 15 or int(found[3]) > 59:
        return None
    return (-1.0 if found[1] == "-" else 1.0) * (3600.0 * int(found[2]) + 60.0 * int(found[3]))


def _gps_moment(gps: object) -> float | None:
    """Unix seconds of a GPS stamp; None where date or time is missing."""
    if not isinstance(gps, dict):
        return None
    try:
        day = datetime.strptime(str(gps.get("GPSDateStamp", "")).strip("\0 "), "%Y:%m:%d").replace(tzinfo=UTC)
    except (ValueError, OverflowError):
        return None
    parts = _three(gps.get("GPSTimeStamp"))
    if parts is None:
        return None
    found = day.timestamp() + 3600 * parts[0] + 60 * parts[1] + parts[2]
    return found if believable(found) else None


def _moment(exif: Data, tags: Data) -> tuple[float | None, TimeSource, float | None]:
    """Time, where it comes from, and what the camera's clock showed.

    A GPS stamp may be some minutes old, as the last fix was; it names the zone of the clock, whose seconds
    are then taken. Where both are farther apart, the stamp alone counts.
    """
    local, gps = _clock(exif, tags), _gps_moment(tags.get("GPSTag"))
    names = ("OffsetTimeOriginal", "OffsetTimeDigitized", "OffsetTime")
    written = next((o for name in names if (o := _offset(exif.get(name))) is not None), None)
    if local is None:
        return gps, TimeSource.GPS if gps is not None else TimeSource.UNKNOWN, None
    if gps is not None:
        zone = min(ZONES, key=lambda one: abs(local - gps - one))
        return local - zone if abs(local - gps - zone) <= OLD_FIX else gps, TimeSource.GPS, local
    if written is not None:
        return local - written, TimeSource.WRITTEN, local
    return local, TimeSource.UNKNOWN, local


def _three(value: object) -> tuple[float, float, float] | None:
    """Three rationals, as numbers or as numerators and denominators in turn."""
    parts = list(value) if isinstance(value, (tuple, list)) else []
    if len(parts) == 6:
        parts = [(parts[i], parts[i + 1]) for i in (0, 2, 4)]
    found = [_number(p) for p in parts]
    if len(found) != 3 or None in found:
        return None
    return found[0] or 0.0, found[1] or 0.0, found[2] or 0.0


def _degrees(value: object, sign: str) -> float | None:
    """Degrees of three rationals and a letter."""
    found = _three(value)
    if found is None:
        return None
    size = found[0] + found[1] / 60 + found[2] / 3600
    return -size if sign.strip("\0 ").upper() in ("S", "W") else size


def _place(gps: object) -> tuple[float, float] | None:
    """Latitude and longitude of a GPS block by name; None where it tells none, or the place of a writer that
    knew none (0, 0)."""
    if not isinstance(gps, dict):
        return None
    lat = _degrees(gps.get("GPSLatitude"), str(gps.get("GPSLatitudeRef", "")))
    lon = _degrees(gps.get("GPSLongitude"), str(gps.get("GPSLongitudeRef", "")))
    if lat is None or lon is None or abs(lat) > 90 or abs(lon) > 180 or (lat == 0 and lon == 0):
        return None
    return round(lat, 6), round(lon, 6)


def _text(value: object) -> str:
    """A text as people write it: without padding, blanks once."""
    return " ".join(str(value or "").replace("\0", " ").split())


def _from_tags(tags: Data, exif: Data) -> Metadata:
    iso = _number(exif.get("ISOSpeedRatings"))
    time, source, local = _moment(exif, tags)
    gps: dict[str, Any] = found if isinstance(found := tags.get("GPSTag"), dict) else {}
    direction = _number(gps.get("GPSImgDirection"))
    return Metadata(
        make=_text(tags.get("Make")),
        model=_text(tags.get("Model")),
        lens=_text(exif.get("LensModel")),
        iso=int(iso) if iso else None,
        exposure_s=_number(exif.get("ExposureTime")),
        aperture=_number(exif.get("FNumber")),
        focal_mm=_number(exif.get("FocalLength")),
        f35=_number(exif.get("FocalLengthIn35mmFilm")) or None,
        time=time,
        time_source=source,
        local=local,
        orientation=int(_number(tags.get("Orientation")) or 1),
        software=_text(tags.get("Software")),
        place=_place(gps),
        direction=direction % 360 if direction is not None else None,
        magnetic=_text(gps.get("GPSImgDirectionRef")).upper().startswith("M"),
    )


def tiff_tags(path: Path) -> tuple[Data, Data]:
    """Tags of the first directory of a TIFF-like file (DNG included) and of its EXIF block, by name."""
    with tifffile.TiffFile(path) as file:
        first: Any = file.pages[0]
        tags = {tag.name: tag.value for tag in first.tags}
    exif = tags.get("ExifTag")
    direct = {
        name: tags[name]
        for name in ("ExposureTime", "FNumber", "DateTimeOriginal", "FocalLength")
        if name in tags
    }
    if "ISOSpeedRatings" in tags or "PhotographicSensitivity" in tags:
        direct["ISOSpeedRatings"] = tags.get("ISOSpeedRatings", tags.get("PhotographicSensitivity"))
    return tags, {**direct, **(exif if isinstance(exif, dict) else {})}


def tiff_metadata(path: Path) -> Metadata:
    """Metadata of a TIFF or DNG file; empty when its tags cannot be read."""
    try:
        return _from_tags(*tiff_tags(path))
    except (OSError, ValueError, KeyError, TypeError, IndexError, tifffile.TiffFileError):
        return Metadata()


_PILLOW_NAMES = {
    36868: "DateTimeDigitized",
    36880: "OffsetTime",
    36882: "OffsetTimeDigitized",
    37520: "SubsecTime",
    37522: "SubsecTimeDigitized",
    42036: "LensModel",
    33434: "ExposureTime",
    33437: "FNumber",
    34855: "ISOSpeedRatings",
    36867: "DateTimeOriginal",
    36881: "OffsetTimeOriginal",
    37521: "SubsecTimeOriginal",
    37386: "FocalLength",
    41989: "FocalLengthIn35mmFilm",
}
_GPS_NAMES = {
    1: "GPSLatitudeRef",
    2: "GPSLatitude",
    3: "GPSLongitudeRef",
    4: "GPSLongitude",
    7: "GPSTimeStamp",
    16: "GPSImgDirectionRef",
    17: "GPSImgDirection",
    29: "GPSDateStamp",
}


def picture_metadata(image: Image.Image) -> Metadata:
    """Metadata of an opened JPEG or PNG."""
    root = image.getexif()
    block = root.get_ifd(EXIF_POINTER)
    exif = {name: block[tag] for tag, name in _PILLOW_NAMES.items() if tag in block}
    gps = {_GPS_NAMES[tag]: value for tag, value in root.get_ifd(GPS_POINTER).items() if tag in _GPS_NAMES}
    tags = {
        "GPSTag": gps,
        "Make": root.get(271, ""),
        "Model": root.get(272, ""),
        "DateTime": root.get(306, ""),
        "Orientation": root.get(274, 1),
        "Software": root.get(305, ""),
    }
    return _from_tags(tags, exif)
