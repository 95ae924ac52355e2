"""Planning pages: targets, wishes, skyline, stands; what they show and how they refuse."""

import re
from datetime import date

import cv2
import gpxpy
import numpy as np
import pytest
from desk import said
from django.urls import reverse
from icalendar import Calendar

from vinter.web.nights.models import Preferences
from vinter.web.sites.models import Reading, ScoutPicture, Site, StrayLight

pytestmark = pytest.mark.django_db
JUNE = 1812588300  # 2027-06-10 00:45 UTC


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
