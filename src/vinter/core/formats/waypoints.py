"""Places to and from files: GPX waypoints, GeoJSON points, CSV."""

import csv
import io
import json
from collections.abc import Iterable
from dataclasses import dataclass
from typing import Any

import gpxpy
import gpxpy.gpx

from vinter.core.errors import BadInput

MOST = 500
LOWEST_M, HIGHEST_M = -450.0, 9000.0
LARGEST = 5 * 2**20  # bytes


@dataclass(frozen=True)
class Waypoint:
    """A named place: degrees, metres (None when the file does not say), a note."""

    name: str
    lat: float
    lon: float
    elevation: float | None = None
    note: str = ""


def _checked(name: str, lat: Any, lon: Any, elevation: Any, note: Any, where: str) -> Waypoint:
    try:
        y, x = float(lat), float(lon)
        height = None if elevation in (None, "") else float(elevation)
    except (TypeError, ValueError) as error:
        raise BadInput(f"{where}: {lat!r}, {lon!r} is not a position in degrees") from error
    if not (-90 <= y <= 90 and -180 <= x <= 180):
        raise BadInput(f"{where}: {y:g}, {x:g} is not on the map")
    if height is not None and not LOWEST_M <= height <= HIGHEST_M:
        raise BadInput(f"{where}: an elevation of {height:g} m is none on Earth")
    return Waypoint(
        str(name or "").strip()[:80] or f"{y:.4f}, {x:.4f}", y, x, height, str(note or "").strip()[:2000]
    )


def _from_gpx(text: str, name: str) -> list[Waypoint]:
    try:
        gpx = gpxpy.parse(text)
    except (gpxpy.gpx.GPXException, ValueError) as error:
        raise BadInput(f"{name}: not a GPX file ({error})") from error
    points = [*gpx.waypoints, *(p for route in gpx.routes for p in route.points)]
    return [
        _checked(
            p.name or "",
            p.latitude,
            p.longitude,
            p.elevation,
            p.description or p.comment,
            f"{name}, waypoint {i}",
        )
        for i, p in enumerate(points, 1)
    ]


def _from_geojson(text: str, name: str) -> list[Waypoint]:
    try:
        data = json.loads(text)
        features = data["features"] if data.get("type") == "FeatureCollection" else [data]
    except (ValueError, AttributeError, KeyError, TypeError, RecursionError) as error:
        raise BadInput(f"{name}: not a GeoJSON file of points ({error})") from error
    out = []
    for i, feature in enumerate(features, 1):
        geometry = (feature.get("geometry") or {}) if isinstance(feature, dict) else {}
        if not isinstance(geometry, dict) or geometry.get("type") != "Point":
            continue
        at = geometry.get("coordinates")
        if not isinstance(at, list) or len(at) < 2:
            raise BadInput(f"{name}, feature {i}: a point without coordinates")
        said = feature.get("properties") or {}
        out.append(
            _checked(
                said.get("name", ""),
                at[1],
                at[0],
                at[2] if len(at) > 2 else said.get("elevation"),
                said.get("note") or said.get("description"),
                f"{name}, feature {i}",
            )
        )
    return out


def _column(names: list[str], *wanted: str) -> str | None:
    return next((n for n in names if n.strip().lower() in wanted), None)


def _from_csv(text: str, name: str) -> list[Waypoint]:
    reader = csv.DictReader(io.StringIO(text))
    try:
        names = list(reader.fieldnames or [])
    except csv.Error as error:
        raise BadInput(f"{name}: not a CSV file ({error})") from error
    lat, lon = _column(names, "lat", "latitude"), _column(names, "lon", "lng", "longitude")
    if lat is None or lon is None:
        raise BadInput(
            f"{name}: the first line must name the columns lat and lon (and may name name, elevation, note)"
        )
    label, height, note = (
        _column(names, "name"),
        _column(names, "elevation", "ele"),
        _column(names, "note", "notes", "description"),
    )
    return [
        _checked(
            row.get(label or "") or "",
            row[lat],
            row[lon],
            row.get(height or ""),
            row.get(note or ""),
            f"{name}, line {i}",
        )
        for i, row in enumerate(reader, 2)
    ]


def read_waypoints(data: bytes, name: str) -> list[Waypoint]:
    """Places in a GPX (waypoints and route points), GeoJSON (points) or CSV file, told apart by their
    content."""
    if len(data) > LARGEST:
        raise BadInput(f"{name}: larger than {LARGEST // 2**20} MB")
    try:
        text = data.decode("utf-8-sig").strip()
    except UnicodeDecodeError as error:
        raise BadInput(f"{name}: not a text file") from error
    if "<!DOCTYPE" in text[:2000] or "<!ENTITY" in text:
        raise BadInput(f"{name}: XML with its own entities is not read")
    read = _from_gpx if text.startswith("<") else _from_geojson if text.startswith(("{", "[")) else _from_csv
    found = read(text, name)
    if not found:
        raise BadInput(f"{name}: no place in it")
    if len(found) > MOST:
        raise BadInput(f"{name}: more than {MOST} places")
    return found


def gpx_text(points: Iterable[Waypoint]) -> str:
    """Waypoints as GPX 1.1."""
    gpx = gpxpy.gpx.GPX()
    gpx.creator = "Vinter"
    for p in points:
        gpx.waypoints.append(
            gpxpy.gpx.GPXWaypoint(p.lat, p.lon, p.elevation, name=p.name, description=p.note or None)
        )
    return str(gpx.to_xml())


def geojson_text(points: Iterable[Waypoint]) -> str:
    """Places as a GeoJSON feature collection."""
    rows = []
    for p in points:
        place = [p.lon, p.lat, *([] if p.elevation is None else [p.elevation])]
        rows.append(
            {
                "type": "Feature",
                "geometry": {"type": "Point", "coordinates": place},
                "properties": {"name": p.name, "note": p.note},
            }
        )
    return json.dumps({"type": "FeatureCollection", "features": rows}, indent=1, ensure_ascii=False)


def csv_text(points: Iterable[Waypoint]) -> str:
    """Places as CSV that ``read_waypoints`` reads."""
    out = io.StringIO()
    writer = csv.writer(out)
    writer.writerow(("name", "lat", "lon", "elevation", "note"))
    for p in points:
        writer.writerow((p.name, p.lat, p.lon, "" if p.elevation is None else p.elevation, p.note))
    return out.getvalue()
