"""Sites on the planning pages: files, zones, readings, the map, horizons."""

import json
import re
from html import unescape

import cv2
import gpxpy
import numpy as np
import pytest
from desk import said, upload
from django.urls import reverse

from vinter.web.sites.models import Reading, ScoutPicture, Site

pytestmark = pytest.mark.django_db
JUNE = 1812588300  # 2027-06-10 00:45 UTC


def test_sites_come_from_a_file_and_go_out_again(desk, nerea):
    gpx = b"""<?xml version="1.0"?><gpx version="1.1" creator="x" xmlns="http://www.topografix.com/GPX/1/1">
      <wpt lat="38.1" lon="-8.1"><ele>180</ele><name>Cork oaks</name><desc>gate</desc></wpt>
      <wpt lat="37.702" lon="-8.772"><name>known already</name></wpt>
      <wpt lat="-32.5" lon="20.3"><name>Ridge</name></wpt></gpx>"""
    answer = desk.post(reverse("sites-import"), {"file": upload("trip.gpx", gpx)})
    assert answer["Location"].endswith("imported=2&known=1")
    oaks = Site.objects.get(owner=nerea, name="Cork oaks")
    assert (oaks.tz, oaks.elevation, oaks.notes) == ("Europe/Lisbon", 180, "gate")
    assert Site.objects.get(owner=nerea, name="Ridge").tz == "Africa/Johannesburg"
    names = {p.name for p in gpxpy.parse(said(desk.get(reverse("sites-gpx")))).waypoints}
    assert {"Cork oaks", "Ridge", "Tide mill"} <= names
    assert len(json.loads(said(desk.get(reverse("sites-geojson"))))["features"]) == 5
    gpx = b"""<gpx><trk><name>Walk</name><trkseg><trkpt lat="-31.1" lon="20.1"/>
      <trkpt lat="-31.2" lon="20.2"/></trkseg></trk></gpx>"""
    offered = said(desk.post(reverse("sites-import"), {"file": upload("walk.gpx", gpx)}))
    assert (
        "Walk, start" in offered
        and "Walk, end" in offered
        and not Site.objects.filter(name__startswith="Walk")
    )
    chosen = unescape(re.findall(r'name="place"\s+value="([^"]+)"', offered)[1])
    answer = desk.post(reverse("sites-import-chosen"), {"place": [chosen]})
    assert answer["Location"].endswith("imported=1&known=0")
    assert Site.objects.get(name="Walk, end").lat == -31.2
    for wrong in ([], ["[1]"], ["{"], ['["a", 1e9, 2, null, ""]']):
        assert desk.post(reverse("sites-import-chosen"), {"place": wrong}).status_code == 400
    bad = desk.post(reverse("sites-import"), {"file": upload("trip.gpx", b"<gpx><wpt lat='a'/></gpx>")})
    assert bad.status_code == 400 and "trip.gpx" in said(bad)
    assert Site.objects.filter(owner=nerea).count() == 6


def test_a_site_finds_its_zone_and_there_is_one_home(desk, nerea):
    form = {
        "name": "New",
        "lat": 28.3,
        "lon": -16.6,
        "elevation": 2100,
        "extinction": 0.17,
        "home": "on",
        "sky_class": "2",
    }
    assert desk.post(reverse("site-new"), form).status_code == 302
    new = Site.objects.get(owner=nerea, name="New")
    assert new.tz == "Atlantic/Canary" and new.core().zenith == pytest.approx(21.68)
    assert [s.name for s in Site.objects.filter(owner=nerea, home=True)] == ["New"]
    assert "95, -16.6 is not on the map" in said(desk.post(reverse("site-new"), {**form, "lat": 95}))


def test_a_reading_wins_over_everything_else(desk, nerea, mill):
    assert mill.core().zenith == 21.5
    desk.post(reverse("site-reading", args=[mill.pk]), {"day": "2027-05-01", "zenith": 21.1, "note": "hazy"})
    desk.post(reverse("site-reading", args=[mill.pk]), {"day": "2027-05-02", "zenith": 21.2})
    fresh = Site.objects.get(pk=mill.pk)
    assert (
        fresh.core().zenith == 21.2 and "2 May 2027" in fresh.shown_sky()["source"]
    )  # the median of the last three
    assert (
        desk.post(reverse("site-reading", args=[mill.pk]), {"day": "2027-05-02", "zenith": 30}).status_code
        == 400
    )
    desk.post(reverse("site-known-delete", args=["reading", Reading.objects.first().pk]))
    assert Reading.objects.filter(site=mill).count() == 4


def test_darker_places_are_listed_and_can_become_sites(desk, nerea):
    garden = Site.objects.get(owner=nerea, name="Suburban garden")
    page = said(desk.get(reverse("darker", args=[garden.pk])))
    assert "darker)" in page and "make it a site" in page and "+0." in page


def test_the_map_gives_coast_towns_and_glow(desk):
    box = "?box=37,-10,39,-7"
    found = desk.get(reverse("map-lines") + box).json()["lines"]
    assert any(row["coast"] for row in found) and max(len(row["points"]) for row in found) > 50
    towns = [t["name"] for t in desk.get(reverse("map-towns") + box).json()["towns"]]
    assert towns[0] == "Lisbon" and "Beja" in towns
    glow = desk.get(reverse("map-glow") + box)
    assert glow["X-Box"] == "37.0,-10.0,39.0,-7.0"
    picture = cv2.imdecode(np.frombuffer(glow.content, np.uint8), cv2.IMREAD_UNCHANGED)
    rows, columns = picture.shape[:2]

    def at(lat, lon):
        top, bottom, here = (np.log(np.tan(np.pi / 4 + np.radians(v) / 2)) for v in (39, 37, lat))
        return picture[int((top - here) / (top - bottom) * rows), int((lon + 10) / 3 * columns)].astype(int)

    lisbon, empty = at(38.73, -9.15), at(37.85, -7.95)
    assert lisbon[2] > lisbon[0] + 60 and lisbon[3] > 120  # amber
    assert empty[0] > empty[2] and empty[3] > 120  # ink
    assert desk.get(reverse("map-glow") + "?box=0,-40,60,40").status_code == 204
    assert desk.get(reverse("map-lines") + "?box=a,b").status_code == 400
    assert desk.get(reverse("map-point") + "?lat=38.73&lon=350.85").json()["zenith"] < 18.5


# --- horizon


def test_a_drawn_horizon_hides_the_core_on_the_night_page(desk, mill):
    desk.post(reverse("horizon-draw", args=[mill.pk]), {"points": json.dumps([[90, 40], [270, 40]])})
    page = said(desk.get(reverse("night", args=[mill.pk, "2027-06-09"])))
    assert "behind the ground all night" in page
    desk.post(reverse("horizon-draw", args=[mill.pk]), {"points": "[]"})
    assert Site.objects.get(pk=mill.pk).horizon == []
    assert desk.post(reverse("horizon-draw", args=[mill.pk]), {"points": "[[1]]"}).status_code == 400
    assert desk.post(reverse("horizon-draw", args=[mill.pk]), {"points": "[[10, 200]]"}).status_code == 400


def test_a_horizon_comes_from_a_file_and_goes_out_again(desk, mill):
    desk.post(
        reverse("horizon-import", args=[mill.pk]),
        {"file": upload("h.csv", b"azimuth,altitude\n0,3\n120,11\n")},
    )
    assert Site.objects.get(pk=mill.pk).horizon == [[0.0, 3.0], [120.0, 11.0]]
    assert said(desk.get(reverse("horizon-export", args=[mill.pk]))) == "azimuth,altitude\n0,3\n120,11\n"
    answer = desk.post(reverse("horizon-import", args=[mill.pk]), {"file": upload("h.csv", b"0,4\n9,y\n")})
    page = said(desk.get(answer["Location"]))
    assert "The rest was imported. Refused:" in page and "h.csv, line 2" in page
    assert Site.objects.get(pk=mill.pk).horizon == [[0.0, 4.0]]
    assert "Refused:" not in said(desk.get(answer["Location"]))  # said once


def test_a_panorama_is_traced_into_the_horizon(desk, nerea, mill):
    picture = np.full((300, 1200, 3), 200, np.uint8)
    _, data = cv2.imencode(".jpg", picture)
    answer = desk.post(
        reverse("scout-add", args=[mill.pk]), {"file": upload("pano.jpg", data.tobytes()), "trace": "1"}
    )
    one = ScoutPicture.objects.get(site=mill)
    assert (
        answer["Location"] == reverse("trace", args=[one.pk])
        and desk.get(reverse("scout-picture", args=[one.pk])).status_code == 200
    )
    form = {
        "how": "points",
        "x1": 100,
        "azimuth1": 150,
        "x2": 700,
        "azimuth2": 210,
        "level": 200,
        "traced": json.dumps([[100, 150], [400, 100], [700, 180]]),
    }
    assert desk.post(reverse("trace", args=[one.pk]), form).status_code == 302
    points = dict(Site.objects.get(pk=mill.pk).horizon)
    assert (
        points[180.0] == pytest.approx(10.0)
        and points[150.0] == pytest.approx(5.0)
        and points[210.0] == pytest.approx(2.0)
    )
    assert (
        0 in points and 198 not in points
    )  # what the trace does not cover stays, what it covers is replaced
    assert "not fixed yet" in said(desk.post(reverse("trace", args=[one.pk]), {**form, "x2": ""}))
    wrong = desk.post(reverse("scout-add", args=[mill.pk]), {"file": upload("pano.jpg", b"GIF89a....")})
    assert wrong.status_code == 400 and "pano.jpg" in said(wrong)
    broken = desk.post(
        reverse("scout-add", args=[mill.pk]), {"file": upload("cut.jpg", data.tobytes()[:300])}
    )
    assert broken.status_code == 400 and ScoutPicture.objects.count() == 1


# --- skyline and stand
