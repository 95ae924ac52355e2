"""What a file says of itself: camera, settings and time, from TIFF tags or JPEG EXIF."""

from dataclasses import dataclass
from datetime import UTC, datetime
from math import isfinite
from pathlib import Path
from typing import Any

import tifffile
from PIL import Image

EXIF_POINTER, GPS_POINTER = 34665, 34853
EARLIEST, LATEST = -2208988800.0, 2619273600.0  # Unix seconds of 1900 and 2053: no other time is believed


@dataclass(frozen=True, kw_only=True)
class Metadata:
    """Settings of a frame; None where the file is silent. Time in Unix seconds at the start of the exposure,
    place as latitude and longitude in degrees."""

    make: str = ""
    model: str = ""
    iso: int | None = None
    exposure_s: float | None = None
    aperture: float | None = None
    focal_mm: float | None = None
    f35: float | None = None
    time: float | None = None
    orientation: int = 1
    software: str = ""
    place: tuple[float, float] | None = None


def _number(value: Any) -> float | None:
    """A number of a tag; None for what is none, as 0/0 or 1/0 in files of careless writers."""
    try:
        if isinstance(value, tuple):
            found = float(value[0]) / float(value[1]) if len(value) > 1 else float(value[0])
        else:
            found = float(value)
    except (TypeError, ValueError, IndexError, ZeroDivisionError, OverflowError):
        return None
    return found if isfinite(found) else None


def believable(unix: float) -> bool:
    """Whether a photograph can be of that time (Unix seconds)."""
    return EARLIEST <= unix < LATEST


def _moment(exif: dict[str, Any]) -> float | None:
    text = str(exif.get("DateTimeOriginal") or exif.get("DateTimeDigitized") or "")
    offset = str(exif.get("OffsetTimeOriginal") or "+00:00").strip().replace(":", "")
    try:
        whole = datetime.strptime(f"{text.strip()} {offset}", "%Y:%m:%d %H:%M:%S %z").timestamp()
    except (ValueError, OverflowError):
        try:
            whole = datetime.strptime(text.strip(), "%Y:%m:%d %H:%M:%S").replace(tzinfo=UTC).timestamp()
        except (ValueError, OverflowError):
            return None
    digits = str(exif.get("SubsecTimeOriginal") or "").strip()
    if not believable(whole):
        return None
    return whole + (float(f"0.{digits}") if digits.isdigit() else 0.0)


def _degrees(value: Any, sign: str) -> float | None:
    """Degrees of three rationals (as numbers, or numerators and denominators in turn) and a letter."""
    parts = list(value) if isinstance(value, (tuple, list)) else []
    if len(parts) == 6:
        parts = [(parts[i], parts[i + 1]) for i in (0, 2, 4)]
    found = [_number(p) for p in parts]
    if len(found) != 3 or None in found:
        return None
    d, m, s = (f or 0.0 for f in found)
    return -(d + m / 60 + s / 3600) if sign.strip("\0 ").upper() in ("S", "W") else d + m / 60 + s / 3600


def _place(gps: Any) -> tuple[float, float] | None:
    """Latitude and longitude of a GPS block by name; None where it tells none, or the place of a writer that
    knew none (0, 0)."""
    if not isinstance(gps, dict):
        return None
    lat = _degrees(gps.get("GPSLatitude"), str(gps.get("GPSLatitudeRef", "")))
    lon = _degrees(gps.get("GPSLongitude"), str(gps.get("GPSLongitudeRef", "")))
    if lat is None or lon is None or abs(lat) > 90 or abs(lon) > 180 or (lat == 0 and lon == 0):
        return None
    return round(lat, 6), round(lon, 6)


def _from_tags(tags: dict[str, Any], exif: dict[str, Any]) -> Metadata:
    iso = _number(exif.get("ISOSpeedRatings"))
    return Metadata(
        make=str(tags.get("Make", "")).strip("\0 "),
        model=str(tags.get("Model", "")).strip("\0 "),
        iso=int(iso) if iso else None,
        exposure_s=_number(exif.get("ExposureTime")),
        aperture=_number(exif.get("FNumber")),
        focal_mm=_number(exif.get("FocalLength")),
        f35=_number(exif.get("FocalLengthIn35mmFilm")),
        time=_moment(exif),
        orientation=int(_number(tags.get("Orientation")) or 1),
        software=str(tags.get("Software", "")).strip("\0 "),
        place=_place(tags.get("GPSTag")),
    )


def tiff_tags(path: Path) -> tuple[dict[str, Any], dict[str, Any]]:
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
    33434: "ExposureTime",
    33437: "FNumber",
    34855: "ISOSpeedRatings",
    36867: "DateTimeOriginal",
    36881: "OffsetTimeOriginal",
    37521: "SubsecTimeOriginal",
    37386: "FocalLength",
    41989: "FocalLengthIn35mmFilm",
}
_GPS_NAMES = {1: "GPSLatitudeRef", 2: "GPSLatitude", 3: "GPSLongitudeRef", 4: "GPSLongitude"}


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
        "Orientation": root.get(274, 1),
        "Software": root.get(305, ""),
    }
    return _from_tags(tags, exif)
