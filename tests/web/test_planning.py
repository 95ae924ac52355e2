"""Planning pages: targets, wishes, sites, map, horizon, skyline, stands, forecast; what they show and how
they refuse."""

import json
import re
import threading
from datetime import UTC, date, datetime
from html import unescape

import cv2
import gpxpy
import numpy as np
import pytest
from desk import said, upload
from django.urls import reverse
from icalendar import Calendar

from vinter.web.forecast.models import CachedForecast as Forecast
from vinter.web.nights.models import Preferences
from vinter.web.sites.models import Reading, ScoutPicture, Site, StrayLight

pytestmark = pytest.mark.django_db
JUNE = 1812588300  # 2027-06-10 00:45 UTC


@pytest.fixture
def service(settings):
    """The stand-in forecast service, in a thread of its own."""
    from vinter.web.forecast.service import server

    desk = server(0)
    threading.Thread(target=desk.serve_forever, daemon=True).start()
    settings.FORECAST_URL = f"http://127.0.0.1:{desk.server_port}/"
    settings.DEMO = True
    yield settings.FORECAST_URL
    desk.shutdown()
    desk.server_close()


def test_a_night_for_another_target_speaks_of_it(desk, mill):
    page = said(desk.get(reverse("night", args=[mill.pk, "2027-01-08"]) + "?target=con:ori"))
    assert "Orion clears" in page or "when darkness falls" in page
    assert "North leans" in page and "target=con%3Aori" in page
    assert "is not known" in said(
        desk.get(reverse("night", args=[mill.pk, "2027-01-08"]) + "?target=nonsense")
    )


def test_hours_and_plan_of_a_night(desk, mill):
    hours = said(desk.get(reverse("night-hours", args=[mill.pk, "2027-06-05"])))
    assert "Core of the galaxy" in hours and "contrast" in hours
    plan = said(desk.get(reverse("night-plan", args=[mill.pk, "2027-06-05"])))
    for part in (
        "Leave home by",
        "The dyke floods",
        "Gravel track",
        "Lamp of the café terrace",
        "local rules",
    ):
        assert part in plan


def test_season_reads_any_minute_as_the_night_page_does(desk, mill):
    minute = desk.get(reverse("season-minute", args=[mill.pk]) + f"?t={JUNE}").json()
    assert (
        minute["evening"] == "Wed 9 Jun"
        and minute["time"] == "01:45"
        and minute["alt"] == pytest.approx(23, abs=0.5)
    )
    page = said(desk.get(reverse("night", args=[mill.pk, "2027-06-09"]) + f"?t={JUNE}"))
    assert f"{minute['sky']:.1f} ± {minute['err']:.1f}" in page


def test_filters_narrow_the_season_and_fade_the_rest(desk, mill):
    query = "?weekday=4&weekday=5&minutes=120&school=moon_down&earliest=22:00&latest=03:00"
    page = said(desk.get(reverse("season", args=[mill.pk, 2027]) + query))
    assert "nights your filters leave out" in page and "weekday=4&amp;weekday=5" in page
    table = said(desk.get(reverse("season-table", args=[mill.pk, 2027]) + query)).splitlines()
    assert len(table) > 5
    assert all(date.fromisoformat(row[:10]).weekday() in (4, 5) for row in table[1:])
    whole, faded = (
        cv2.imdecode(
            np.frombuffer(desk.get(reverse("season-picture", args=[mill.pk, 2027]) + q).content, np.uint8), 0
        )
        for q in ("", query)
    )
    assert (faded < 120).sum() < 0.4 * (whole < 120).sum()
    assert desk.get(reverse("season", args=[mill.pk, 2027]) + "?minutes=many").status_code == 400
    assert desk.get(reverse("season", args=[mill.pk, 2027]) + "?earliest=25:00").status_code == 400


def test_best_ten_nights_keep_to_the_drive(desk, nerea):
    page = said(desk.get(reverse("best")))
    assert "Over 2 sites" in page and page.count("Tide mill") >= 10 and "1 h 55" in page
    near = said(desk.get(reverse("best") + "?drive=60"))
    assert "Over 1 site " in near and "No good or fair night" in near


def test_preferences_move_the_verdict_and_the_schools(desk, nerea, mill):
    far = Site.objects.create(
        owner=nerea, name="Fifty north", lat=50.0, lon=8.0, tz="Europe/Berlin", zenith=21.5
    )
    assert "never clears 10°" in said(
        desk.get(reverse("night", args=[far.pk, "2027-05-05"]) + "?target=at:266,-39")
    )
    form = {
        "min_altitude": 3,
        "sun_below": -15,
        "least_contrast": 25.0,
        "suburb_contrast": 8.0,
        "new_moon_days": 2,
        "lit_percent": 33,
        "moon_up_minutes": 0,
        "darkest_class": 3,
        "suburb_class": 6,
        "drive_limit": 90,
        "next": "//elsewhere.example/",
    }
    answer = desk.post(reverse("preferences"), form)
    assert answer.status_code == 302 and answer["Location"] == "/"
    assert Preferences.objects.get(owner=nerea).thresholds["lit_percent"] == 33
    page = said(desk.get(reverse("night", args=[mill.pk, "2027-06-09"])))
    assert "Lit under 33 %" in page and "Within 2 days" in page and "Class 3 or darker" in page
    assert "greater than or equal to -18" in said(
        desk.post(reverse("preferences"), {**form, "sun_below": -40})
    )


def test_calendar_keeps_zone_alarm_and_notes(desk, mill):
    response = desk.get(reverse("season-calendar", args=[mill.pk, 2027]))
    calendar = Calendar.from_ical(response.content)
    assert any(str(z["TZID"]) == "Europe/Lisbon" for z in calendar.walk("VTIMEZONE"))
    events = calendar.walk("VEVENT")
    assert len(events) >= 5 and all(e.walk("VALARM") for e in events)
    june = next(e for e in events if e["DTSTART"].dt.month == 6)
    assert (
        june["DTSTART"].dt.utcoffset().total_seconds() == 3600
        and june["DTSTART"].params["TZID"] == "Europe/Lisbon"
    )
    assert "The dyke floods" in june["DESCRIPTION"] and june["LOCATION"] == "Tide mill"


# --- sites


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


def test_the_skyline_says_where_things_stand(desk, mill):
    page = said(desk.get(reverse("skyline", args=[mill.pk]) + f"?t={JUNE}&az=174&up=19"))
    assert "Tide mill" in page and "01:45" in page
    scene = desk.get(reverse("skyline-scene", args=[mill.pk]) + f"?t={JUNE}&az=174&up=19&pole=1").json()
    assert scene["target"][1] == pytest.approx(23.1, abs=0.3) and scene["frame"]["size"] == "72° × 57°"
    assert scene["pole"]["at"][1] == pytest.approx(37.7, abs=0.1)
    assert scene["lights"] == []  # the café's lamp goes off at one
    earlier = desk.get(reverse("skyline-scene", args=[mill.pk]) + f"?t={JUNE - 3 * 3600}").json()
    assert earlier["lights"] == [[28.0, "Lamp of the café terrace"]]
    sky = desk.get(
        reverse("skyline-sky", args=[mill.pk]) + f"?t={JUNE}&centre=174&span=120&high=62&width=600"
    )
    assert cv2.imdecode(np.frombuffer(sky.content, np.uint8), 1).shape == (350, 600, 3)
    for bad in (
        "?t=soon",
        f"?t={JUNE}&az=north",
        f"?t={JUNE}&up=170",
        f"?t={JUNE}&lens=9:none",
        f"?t={JUNE}&target=x",
    ):
        assert desk.get(reverse("skyline-scene", args=[mill.pk]) + bad).status_code == 400, bad


def test_a_frame_over_the_skyline_becomes_the_shot(desk, mill):
    scene = reverse("shot-new", args=[mill.pk]) + f"?t={JUNE}&az=200&up=25&roll=2&target=core&portrait=1"
    assert re.search(r"azimuth 200° \(a compass shows (199|201)°; [^)]*\), 25° up", said(desk.get(scene)))
    lens = said(desk.get(scene)).split('name="lens"')[1].split('value="')[1].split('"')[0]
    answer = desk.post(
        reverse("shot-new", args=[mill.pk]),
        {
            "t": JUNE,
            "az": 200,
            "up": 25,
            "roll": 2,
            "target": "core",
            "portrait": "1",
            "lens": lens,
            "use": "screen",
            "save": "1",
        },
    )
    from vinter.web.shots.models import Shot

    shot = Shot.objects.latest("id")
    assert answer["Location"] == reverse("shot", args=[shot.pk])
    assert (shot.pose.azimuth, shot.pose.altitude, shot.pose.roll, shot.portrait, shot.target) == (
        200,
        25,
        2,
        True,
        "core",
    )
    assert "az=200" in said(desk.get(reverse("shot", args=[shot.pk])))


def test_stands_are_solved_and_carried_away(desk, mill):
    query = "?day=2027-06-05&height=9&gap=6&bearing=205&metres=60&farthest=400"
    page = said(desk.get(reverse("stand", args=[mill.pk]) + query))
    assert page.count(">skyline</a>") > 15 and "north-west of it" in page
    points = gpxpy.parse(said(desk.get(reverse("stand-gpx", args=[mill.pk]) + query))).waypoints
    assert len(points) == page.count(">skyline</a>") + 1 and points[-1].name == "Subject"
    only = said(desk.get(reverse("stand", args=[mill.pk]) + query)).split("only=")[1].split('"')[0]
    assert (
        len(
            gpxpy.parse(
                said(desk.get(reverse("stand-gpx", args=[mill.pk]) + f"{query}&only={only}"))
            ).waypoints
        )
        == 2
    )
    exact = said(desk.get(reverse("stand", args=[mill.pk]) + f"{query}&share=20"))
    assert 1 <= exact.count(">skyline</a>") <= 2
    assert "Say where the subject stands" in said(
        desk.get(reverse("stand", args=[mill.pk]) + "?height=9&gap=6")
    )
    assert "No minute of this night" in said(
        desk.get(reverse("stand", args=[mill.pk]) + query.replace("gap=6", "gap=60"))
    )


def test_where_one_stands_the_minute_and_the_way_to_the_stands_are_said(desk, mill):
    query = "?day=2027-06-05&height=9&gap=6&lat=37.7012&lon=-8.7723&farthest=400"
    here = "&here_lat=37.70185&here_lon=-8.77205&here_error=4"

    def read(address):
        return said(desk.get(reverse("stand", args=[mill.pk]) + address))

    page = read(query + here)
    # on a flat map 22 m east and 72 m south of there: 75.6 m towards 196.9
    assert "(± 4 m) the subject is 76 m away, towards 196.9° ± 3.0°, compass 198°" in page
    assert re.search(r"The core stands over it at (<b>)?0\d:\d\d(</b>)? ± 1\d min", page)
    assert page.count("from you") > 15
    assert "its direction cannot be told" in read(query + here.replace("error=4", "error=60"))
    assert "less than or equal to 90" in read(query + here.replace("37.70185", "95"))


# --- forecast


def soon():
    return datetime.now(UTC).timestamp() + 20 * 3600


def test_the_panel_gives_a_chance_apart_from_the_score(desk, mill, service):
    start = soon()
    page = said(
        desk.get(reverse("forecast-panel", args=[mill.pk]) + f"?start={start}&end={start + 4 * 3600}")
    )
    assert "chance of a clear sky" in page and "°C at the coldest" in page
    far = said(
        desk.get(
            reverse("forecast-panel", args=[mill.pk])
            + f"?start={start + 90 * 86400}&end={start + 91 * 86400}"
        )
    )
    assert "Too far ahead" in far and "chance of a clear sky" not in far


@pytest.mark.parametrize(("habit", "message"), [("fail", "answered 503"), ("late", "did not answer within")])
def test_a_failing_service_is_said_and_nothing_is_lost(desk, mill, service, monkeypatch, habit, message):
    from vinter.web.forecast import provider

    desk.post(reverse("forecast-refresh", args=[mill.pk]), {"habit": ""})
    before = Forecast.objects.get(site=mill)
    assert len(before.hours) == 240
    if habit == "late":
        monkeypatch.setattr(provider, "PATIENCE", 0.4)
    desk.post(reverse("forecast-refresh", args=[mill.pk]), {"habit": habit})
    after = Forecast.objects.get(site=mill)
    assert message in after.failure and after.hours == before.hours
    page = said(desk.get(reverse("forecast", args=[mill.pk])))
    assert message in page and "Showing the previous run" in page and page.count("<tr>") > 5


def test_a_stale_run_and_a_service_that_is_gone(desk, mill, service, settings):
    desk.post(reverse("forecast-refresh", args=[mill.pk]), {"habit": "stale"})
    assert "hours old. Ask again" in said(desk.get(reverse("forecast", args=[mill.pk])))
    settings.FORECAST_URL = "http://127.0.0.1:9/"
    desk.post(reverse("forecast-refresh", args=[mill.pk]), {"habit": ""})
    assert "could not be reached" in said(desk.get(reverse("forecast", args=[mill.pk])))


def test_a_forecast_file_is_taken_and_not_overwritten_by_itself(desk, mill, service):
    from vinter.core.forecast import write_csv
    from vinter.core.simulate.weather import weather

    text = write_csv(weather(10, 10, soon(), 48)).encode()
    desk.post(reverse("forecast-import", args=[mill.pk]), {"file": upload("mine.csv", text)})
    page = said(desk.get(reverse("forecast", args=[mill.pk])))
    assert "file mine.csv" in page
    assert said(desk.get(reverse("forecast-export", args=[mill.pk]))).encode() == text
    bad = desk.post(reverse("forecast-import", args=[mill.pk]), {"file": upload("mine.csv", b"time\n1\n")})
    assert (
        bad.status_code == 400
        and "cloud_low" in said(bad)
        and "file mine.csv" in said(desk.get(reverse("forecast", args=[mill.pk])))
    )


# --- owners


def test_planning_of_another_does_not_exist(client, nerea, stranger, mill):
    picture = ScoutPicture.objects.create(site=mill, stored="x.jpg", width=1, height=1)
    lamp, reading = StrayLight.objects.get(site=mill), Reading.objects.filter(site=mill).first()
    client.force_login(stranger)
    own = [mill.pk]
    gets = [
        reverse(n, args=own)
        for n in (
            "site",
            "darker",
            "horizon",
            "horizon-export",
            "forecast",
            "forecast-export",
            "skyline",
            "skyline-scene",
            "skyline-sky",
            "stand",
            "stand-gpx",
            "season-minute",
            "go-to-night",
        )
    ]
    gets += [
        reverse("forecast-panel", args=own) + "?start=1&end=2",
        reverse("scout-picture", args=[picture.pk]),
        reverse("trace", args=[picture.pk]),
    ]
    gets += [reverse(n, args=[mill.pk, "2027-06-09"]) for n in ("night-hours", "night-plan")]
    gets += [
        reverse(n, args=[mill.pk, 2027])
        for n in ("season", "season-picture", "season-table", "season-calendar")
    ]
    posts = [
        reverse(n, args=own)
        for n in (
            "site-reading",
            "site-light",
            "horizon-draw",
            "horizon-import",
            "scout-add",
            "forecast-refresh",
            "forecast-import",
        )
    ]
    posts += [
        reverse("scout-delete", args=[picture.pk]),
        reverse("trace", args=[picture.pk]),
        reverse("bin-put", args=["site", mill.pk]),
        reverse("site-known-delete", args=["light", lamp.pk]),
        reverse("site-known-delete", args=["reading", reading.pk]),
    ]
    assert [u for u in gets if client.get(u).status_code != 404] == []
    assert [u for u in posts if client.post(u).status_code != 404] == []
    assert said(client.get(reverse("sites-csv"))).count("\n") == 1  # only the head
