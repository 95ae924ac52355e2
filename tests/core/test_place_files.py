"""Places and horizons in files: read by independent readers, refused with the line that is wrong."""

import json
from datetime import UTC, datetime

import gpxpy
import numpy as np
import pytest

from vinter.core.errors import BadInput
from vinter.core.formats.horizons import horizon_text, read_horizon
from vinter.core.formats.spreadsheet import csv_text as table
from vinter.core.formats.spreadsheet import unguarded
from vinter.core.formats.waypoints import Waypoint, csv_text, geojson_text, gpx_text, read_waypoints, stops
from vinter.core.imported import Imported

PLACES = [
    Waypoint("Tide mill", 37.702, -8.772, 6.0, "soft mud"),
    Waypoint("Café & <dyke>", -32.24, 179.99, None, ""),
]


@pytest.mark.parametrize(
    ("write", "name"), [(gpx_text, "a.gpx"), (geojson_text, "a.geojson"), (csv_text, "a.csv")]
)
def test_places_go_out_and_come_back(write, name):
    assert read_waypoints(write(PLACES).encode(), name) == Imported(PLACES)


def test_gpx_and_geojson_open_in_other_readers():
    points = gpxpy.parse(gpx_text(PLACES)).waypoints
    assert [(p.name, p.latitude, p.longitude, p.elevation) for p in points] == [
        (p.name, p.lat, p.lon, p.elevation) for p in PLACES
    ]
    features = json.loads(geojson_text(PLACES))["features"]
    assert features[0]["geometry"]["coordinates"] == [-8.772, 37.702, 6.0]


def test_foreign_files_are_read():
    gpx = """<?xml version="1.0"?><gpx version="1.1" creator="other" xmlns="http://www.topografix.com/GPX/1/1">
      <wpt lat="37.1" lon="-8.2"><ele>12</ele><name>Cape</name></wpt>
      <rte><rtept lat="37.2" lon="-8.3"/></rte></gpx>"""
    assert [w.name for w in read_waypoints(gpx.encode(), "x.gpx").good] == ["Cape", "37.2000, -8.3000"]
    assert read_waypoints(b"\xef\xbb\xbfName;x,Latitude,lng\nA,1.5,2.5\n", "x.csv").good[0].lat == 1.5
    one = b'{"type":"Feature","geometry":{"type":"Point","coordinates":[2,1]},"properties":{"name":"B"}}'
    assert read_waypoints(one, "b.json").good[0].lon == 2


@pytest.mark.parametrize(
    ("data", "message"),
    [
        (b"<gpx", "not a GPX"),
        (b"{}", "no place|not a GeoJSON"),
        (b"lat,lon\n1,400\n", "line 2"),
        (b"a,b\n1,2\n", "columns lat and lon"),
        (b"lat,lon\n", "no place"),
        (b"\xff\xfe\x00", "not a text"),
        (b"<!DOCTYPE x [<!ENTITY a 'b'>]><gpx/>", "entities"),
        (b"lat,lon\n" + b"1,2\n" * 600, "more than"),
        (b"lat,lon\nx,2\n", "position"),
        (
            b'{"type":"FeatureCollection","features":[{"geometry":{"type":"Point","coordinates":[1]}}]}',
            "feature 1",
        ),
    ],
)
def test_bad_files_say_what_is_wrong(data, message):
    with pytest.raises(BadInput, match=message):
        read_waypoints(data, "sites.xyz")


def test_horizons_go_out_and_come_back_in_any_separator():
    points = ((0.0, 2.0), (90.0, 5.5), (270.0, -1.0))
    assert read_horizon(horizon_text(points).encode(), "h.csv") == Imported(points)
    assert read_horizon(b"# by hand\nAZ\tALT\n90\t5.5\n-90;-1\n360 2\n", "h.txt") == Imported(points)
    for data, message in (
        (b"az,alt\n10,x\n", "line 2"),
        (b"10,95\n", "line 1"),
        (b"", "no point"),
        (b"10\n", "line 1"),
    ):
        with pytest.raises(BadInput, match=message):
            read_horizon(data, "h.csv")


GPX = """<gpx version="1.1"><wpt lat="37.1" lon="-8.2"><name>Cape</name></wpt>
<wpt lat="NaN" lon="1"/><wpt lat="1" lon="inf"/>
<wpt lat="abc" lon="1"/><wpt lon="1"/><wpt lat="1" lon="2"><ele>1e999</ele></wpt></gpx>"""
GEO = """{"type": "FeatureCollection", "features": [
{"geometry": {"type": "Point", "coordinates": [2, 1]}, "properties": {"name": "Good"}},
{"geometry": {"type": "Point", "coordinates": [NaN, 1]}}, {"geometry": {"type": "Point", "coordinates": 7}},
{"geometry": {"type": "Point", "coordinates": ["x", {}]}, "properties": [1]}, 17, null,
{"geometry": {"type": "Point", "coordinates": [2, 1, 1e400]}}, {"geometry": [1, 2]}]}"""
CSV = "name,lat,lon,elevation\nGood,1,2,3\nfar,1,2,1e999\nnone,nan,2,\nshort,1\n,x,y,z\n"


@pytest.mark.parametrize(
    ("text", "good", "refused"),
    [
        (GPX, ["Cape"], ["waypoint 2", "waypoint 3", "waypoint 4", "waypoint 5", "waypoint 6: an elevation"]),
        (GEO, ["Good"], ["feature 2", "feature 3", "feature 4", "feature 7: an elevation"]),
        (CSV, ["Good"], ["line 3: an elevation", "line 4", "line 5", "line 6"]),
    ],
)
def test_good_places_go_in_and_the_refused_are_listed(text, good, refused):
    found = read_waypoints(text.encode(), "mine")
    assert [w.name for w in found.good] == good
    assert [r.startswith(f"mine, {where}") for r, where in zip(found.refused, refused, strict=True)] == [
        True
    ] * len(refused)
    with pytest.raises(BadInput, match="mine, "):
        found.all_or_nothing()


def test_good_lines_of_a_horizon_go_in():
    found = read_horizon(b"0,2\n90,abc\n180,nan\n270,4\n", "h.csv")
    assert found.good == ((0.0, 2.0), (270.0, 4.0)) and len(found.refused) == 2


def test_formulas_stay_text_and_come_back():
    evil = ["=1+1", "+7", "-8.5 km", "@SUM(A1)", "\t=2", "fine", -8.5]
    out = table(("a",), [[e] for e in evil]).splitlines()
    assert out[1:6] == ["'=1+1", "'+7", "'-8.5 km", "'@SUM(A1)", "'\t=2"] and out[6:] == ["fine", "-8.5"]
    assert [unguarded(f"'{e}") for e in evil[:5]] == evil[:5] and unguarded("'tis") == "'tis"
    place = Waypoint("=HYPERLINK(1)", 1.0, 2.0, None, "-note")
    assert "\n'=HYPERLINK" in csv_text([place]) and read_waypoints(
        csv_text([place]).encode(), "a.csv"
    ).good == [place]


def track(points):
    """A GPX track of (seconds, latitude, longitude)."""
    rows = "".join(
        f'<trkpt lat="{lat}" lon="{lon}"><ele>12</ele>'
        f"<time>{datetime.fromtimestamp(1812589930 + t, UTC):%Y-%m-%dT%H:%M:%SZ}</time></trkpt>"
        for t, lat, lon in points
    )
    head = '<?xml version="1.0"?><gpx version="1.1" creator="x" xmlns="http://www.topografix.com/GPX/1/1">'
    return f"{head}<trk><name>Coast path</name><trkseg>{rows}</trkseg></trk></gpx>".encode()


def test_a_track_offers_its_start_its_stops_and_its_end():
    walk = [(60 * i, 37.700 + 0.002 * i, -8.77) for i in range(10)]
    rest = [(600 + 60 * i, 37.7200 + 0.00005 * (i % 3), -8.77) for i in range(12)]
    on = [(1400 + 60 * i, 37.722 + 0.002 * i, -8.77) for i in range(8)]
    found = read_waypoints(track(walk + rest + on), "walk.gpx").good
    assert [w.name for w in found] == ["Coast path, start", "Coast path, stop 1", "Coast path, end"]
    assert all(w.of_track for w in found) and found[0].lat == 37.7 and found[2].lat == pytest.approx(37.736)
    assert found[1].lat == pytest.approx(37.72, abs=1e-3) and "01:22 to 01:33 UTC" in found[1].note


@pytest.mark.parametrize("step", [0, 1])
def test_a_track_of_tens_of_thousands_of_points_at_one_place_is_read_at_once(step):
    """Looked at each against each they would keep the test for hours."""
    many = np.full((40_000, 2), [37.7, -8.7])
    many[-1] += 1
    times = [1e9 + step * 0.001 * i for i in range(len(many))]
    assert stops(times, many) == []


def test_a_track_that_comes_home_has_one_end_and_one_without_times_no_stop():
    loop = [(60 * i, 37.7 + 0.002 * min(i, 10 - i), -8.77) for i in range(11)]
    assert [w.name for w in read_waypoints(track(loop), "walk.gpx").good] == ["Coast path, start"]
    silent = track([(0, 37.7, -8.7), (0, 37.7, -8.7), (0, 37.8, -8.7)]).replace(b"<time>", b"<when>")
    silent = silent.replace(b"</time>", b"</when>")
    assert [w.name for w in read_waypoints(silent, "walk.gpx").good] == [
        "Coast path, start",
        "Coast path, end",
    ]
    broken = track([(0, 37.7, -8.7), (60, "x", -8.7)])
    assert [w.name for w in read_waypoints(broken, "walk.gpx").good] == ["Coast path, start"]
