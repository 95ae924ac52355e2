"""Places to and from files: GPX waypoints, GeoJSON points, CSV."""

import csv
import io
import json
from collections.abc import Callable, Iterable
from dataclasses import dataclass
from datetime import datetime
from typing import Any, NamedTuple
from xml.etree import ElementTree

import gpxpy.gpx
import numpy as np
import numpy.typing as npt

from vinter.core.errors import BadInput
from vinter.core.formats import spreadsheet
from vinter.core.formats.spreadsheet import unguarded
from vinter.core.imported import Imported
from vinter.core.json_input import read_json

MOST = 500
MOST_LOOKED_AT = 3000  # points of a track in which stops are sought
STOP_M, STOP_S = 60.0, 300.0  # a stop: so near to where it began, for so long
LOWEST_M, HIGHEST_M = -450.0, 9000.0
LARGEST = 5 * 2**20  # bytes


@dataclass(frozen=True)
class Waypoint:
    """A named place: degrees, metres (None when the file does not say), a note; whether it is a place of a
    recorded track rather than one that somebody marked."""

    name: str
    lat: float
    lon: float
    elevation: float | None = None
    note: str = ""
    of_track: bool = False


class Raw(NamedTuple):
    """A place as a file has it, and where in the file."""

    where: str
    name: Any
    lat: Any
    lon: Any
    elevation: Any
    note: Any
    of_track: bool = False


def _checked(raw: Raw, file: str) -> Waypoint:
    where = f"{file}, {raw.where}"
    try:
        y, x = float(raw.lat), float(raw.lon)
    except (TypeError, ValueError, OverflowError) as error:
        raise BadInput(f"{where}: {raw.lat!r}, {raw.lon!r} is not a position in degrees") from error
    if not (-90 <= y <= 90 and -180 <= x <= 180):
        raise BadInput(f"{where}: {y:g}, {x:g} is not on the map")
    try:
        height = None if raw.elevation in (None, "") else float(raw.elevation)
    except (TypeError, ValueError, OverflowError) as error:
        raise BadInput(f"{where}: an elevation of {raw.elevation!r} is no number of metres") from error
    if height is not None and not LOWEST_M <= height <= HIGHEST_M:
        raise BadInput(f"{where}: an elevation of {height:g} m is outside {LOWEST_M:g} to {HIGHEST_M:g} m")
    label = "".join(c for c in str(raw.name or "") if c.isprintable()).strip()[:80]
    note = str(raw.note or "").strip()[:2000]
    return Waypoint(label or f"{y:.4f}, {x:.4f}", y, x, height, note, raw.of_track)


def _from_gpx(text: str, name: str) -> list[Raw]:
    try:
        root = ElementTree.fromstring(text)
    except ElementTree.ParseError as error:
        raise BadInput(f"{name}: not a GPX file ({error})") from error
    if not root.tag.endswith("gpx"):
        raise BadInput(f"{name}: not a GPX file")

    def said(point: ElementTree.Element, *tags: str) -> str:
        inside = {e.tag.rpartition("}")[2]: e.text or "" for e in point}
        return next((inside[t] for t in tags if inside.get(t)), "")

    points = [p for p in root.iter() if p.tag.rpartition("}")[2] in ("wpt", "rtept")]
    marked = [
        Raw(
            f"waypoint {i}",
            said(p, "name"),
            p.get("lat"),
            p.get("lon"),
            said(p, "ele"),
            said(p, "desc", "cmt"),
        )
        for i, p in enumerate(points, 1)
    ]
    tracks = [t for t in root if t.tag.rpartition("}")[2] == "trk"]
    return marked + [raw for i, t in enumerate(tracks, 1) for raw in _of_track(t, said(t, "name"), i, said)]


def _of_track(track: ElementTree.Element, name: str, number: int, said: Callable[..., str]) -> list[Raw]:
    """Start, end and stops of a track: a stop is five minutes or more within 60 m."""
    points = [p for p in track.iter() if p.tag.rpartition("}")[2] == "trkpt"]
    if not points:
        return []
    name = name or f"Track {number}"

    def raw(i: int, what: str, note: str = "") -> Raw:
        p = points[i]
        where = f"track {number}, point {i + 1}"
        return Raw(where, f"{name}, {what}", p.get("lat"), p.get("lon"), said(p, "ele"), note, True)

    try:
        at = np.array([[float(p.get("lat", "")), float(p.get("lon", ""))] for p in points])
    except ValueError:
        return [raw(0, "start"), raw(len(points) - 1, "end")]
    out = [raw(0, "start")]
    for first, last in stops([_unix(said(p, "time")) for p in points], at):
        words = f"{said(points[first], 'time')[11:16]} to {said(points[last], 'time')[11:16]} UTC"
        out.append(raw((first + last) // 2, f"stop {len(out)}", f"A stop on a track, {words}"))
    if np.hypot(*_metres(at)[-1]) > STOP_M:
        out.append(raw(len(points) - 1, "end"))
    return out


def _unix(text: str) -> float | None:
    try:
        return datetime.fromisoformat(text).timestamp()
    except ValueError:
        return None


def _metres(at: npt.NDArray[np.float64]) -> npt.NDArray[np.float64]:
    """Places (n, 2; degrees) of one walk as metres north and east of the first."""
    north, east = np.radians(at - at[0]).T * 6_371_000.0
    return np.stack([north, east * np.cos(np.radians(at[0, 0]))], axis=1)


def stops(times: list[float | None], at: npt.NDArray[np.float64]) -> list[tuple[int, int]]:
    """First and last point of each stop of a track: times (Unix s, None where the file has none) and places
    (n, 2; degrees). Start and end of the track itself are none; of a long one every n-th point is looked
    at."""
    looked_at = np.arange(0, len(times), len(times) // MOST_LOOKED_AT + 1)
    metres, when = _metres(at)[looked_at], [times[k] for k in looked_at]
    found: list[tuple[int, int]] = []
    i, last = 0, len(looked_at) - 1
    while i < last:
        away = np.hypot(*(metres[i:] - metres[i]).T) >= STOP_M
        j = i + int(np.argmax(away)) - 1 if away.any() else last
        start, end = when[i], when[j]
        long = start is not None and end is not None and end - start >= STOP_S
        if long and i > 0 and j < last:
            found.append((int(looked_at[i]), int(looked_at[j])))
        i = j + 1 if long else i + 1
    return found


def _from_geojson(text: str, name: str) -> list[Raw]:
    try:
        data = read_json(text, name)
        if not isinstance(data, dict):
            raise TypeError("no object")
        features = data["features"] if data.get("type") == "FeatureCollection" else [data]
    except (ValueError, AttributeError, KeyError, TypeError) as error:
        raise BadInput(f"{name}: not a GeoJSON file of points ({error})") from error
    if not isinstance(features, list):
        raise BadInput(f"{name}: not a GeoJSON file of points (its features are no list)")
    out = []
    for i, feature in enumerate(features, 1):
        geometry = feature.get("geometry") if isinstance(feature, dict) else None
        if not isinstance(geometry, dict) or geometry.get("type") != "Point":
            continue
        at, said = geometry.get("coordinates"), feature.get("properties")
        at = at if isinstance(at, list) else []
        said = said if isinstance(said, dict) else {}
        out.append(
            Raw(
                f"feature {i}",
                said.get("name", ""),
                at[1] if len(at) > 1 else None,
                at[0] if at else None,
                at[2] if len(at) > 2 else said.get("elevation"),
                said.get("note") or said.get("description"),
            )
        )
    return out


def _column(names: list[str], *wanted: str) -> str | None:
    return next((n for n in names if n.strip().lower() in wanted), None)


def _from_csv(text: str, name: str) -> list[Raw]:
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
    out = []
    try:
        for row in reader:
            said = unguarded(row.get(label or "") or ""), unguarded(row.get(note or "") or "")
            where = f"line {reader.line_num}"
            out.append(Raw(where, said[0], row[lat], row[lon], row.get(height or ""), said[1]))
    except csv.Error as error:
        raise BadInput(f"{name}, line {reader.line_num}: {error}") from error
    return out


def read_waypoints(data: bytes, name: str) -> Imported[list[Waypoint]]:
    """Places in a GPX (waypoints, route points; start, stops and end of tracks), GeoJSON (points) or CSV
    file, told apart by their content; the good ones, and why others were refused. BadInput when the file is
    none of these, or has no good place."""
    if len(data) > LARGEST:
        raise BadInput(f"{name}: larger than {LARGEST // 2**20} MB")
    try:
        text = data.decode("utf-8-sig").strip()
    except UnicodeDecodeError as error:
        raise BadInput(f"{name}: not a text file") from error
    if "<!DOCTYPE" in text[:2000] or "<!ENTITY" in text:
        raise BadInput(f"{name}: XML with its own entities is not read")
    read = _from_gpx if text.startswith("<") else _from_geojson if text.startswith(("{", "[")) else _from_csv
    good, refused = [], []
    for raw in read(text, name):
        try:
            good.append(_checked(raw, name))
        except BadInput as error:
            refused.append(str(error))
    if not good:
        raise BadInput(refused[0] if refused else f"{name}: no place in it")
    if len(good) > MOST:
        raise BadInput(f"{name}: more than {MOST} places")
    return Imported(good, tuple(refused))


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
    rows = ((p.name, p.lat, p.lon, "" if p.elevation is None else p.elevation, p.note) for p in points)
    return spreadsheet.csv_text(("name", "lat", "lon", "elevation", "note"), rows)
