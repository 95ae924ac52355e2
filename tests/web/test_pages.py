"""Pages: what they show, to whom, and how they answer to bad input."""

import json
import re

import cv2
import numpy as np
import pytest
from desk import body
from django.urls import reverse
from icalendar import Calendar

pytestmark = pytest.mark.django_db


def text_of(response):
    return re.sub(r"\s+", " ", re.sub(r"<[^>]+>", " ", response.content.decode()))


def test_nobody_sees_anything_without_signing_in(client, nerea):
    for name in ("home", "sites", "shots", "takes", "stacks", "finishes", "ledger", "gear", "cards"):
        response = client.get(reverse(name))
        assert response.status_code == 302 and "/sign-in/" in response["Location"]


def test_sign_in_by_password_and_demo_only_where_it_is_served(client, stranger, settings):
    settings.DEMO = False
    assert client.post(reverse("enter-demo")).status_code == 404
    assert client.post(reverse("sign-in"), {"username": "stranger", "password": "wrong"}).status_code == 200
    assert (
        client.post(reverse("sign-in"), {"username": "stranger", "password": "a long password"}).status_code
        == 302
    )


def test_home_names_the_next_window_and_why(desk):
    page = text_of(desk.get(reverse("home")))
    assert "Next window worth driving for" in page and "mag/arcsec²" in page
    assert re.search(r"From \d\d:\d\d, when", page)


def test_night_page_shows_events_right_to_the_minute(desk, shot):
    """9 June 2027 at 37.702 N 8.772 W: minutes from an independent almanac."""
    from datetime import UTC, datetime

    from skyfield import almanac
    from skyfield.api import wgs84

    from vinter.core.sky import ephemeris as eph

    page = text_of(desk.get(reverse("night", args=[shot.site.pk, "2027-06-09"])))
    timescale, bodies = eph._kernel()
    observer = bodies["earth"] + wgs84.latlon(shot.site.lat, shot.site.lon, elevation_m=6)
    span = timescale.utc(2027, 6, 9, 12), timescale.utc(2027, 6, 10, 12)
    for search, level in (
        (almanac.find_settings, -0.8333),
        (almanac.find_risings, -0.8333),
        (almanac.find_settings, -18),
    ):
        unix = search(observer, bodies["sun"], *span, horizon_degrees=level)[0][0].utc_datetime().timestamp()
        local = datetime.fromtimestamp(round(unix / 60) * 60 + 3600, UTC)  # Lisbon is an hour ahead in June
        assert f"{local:%H:%M}" in page


def test_calendar_opens_in_a_parser_and_holds_the_window(desk, shot):
    """The window begins when the core clears 10 degrees: skyfield says when that is."""
    from skyfield import almanac
    from skyfield.api import Star, wgs84

    from vinter.core.sky import ephemeris as eph

    response = desk.get(reverse("night-calendar", args=[shot.site.pk, "2027-06-09"]))
    (event,) = Calendar.from_ical(response.content).walk("VEVENT")
    timescale, bodies = eph._kernel()
    core = Star(ra_hours=eph.GALACTIC_CENTRE[0] / 15, dec_degrees=eph.GALACTIC_CENTRE[1])
    observer = bodies["earth"] + wgs84.latlon(shot.site.lat, shot.site.lon, elevation_m=6)
    risen = almanac.find_risings(
        observer, core, timescale.utc(2027, 6, 9, 12), timescale.utc(2027, 6, 10, 12), horizon_degrees=10
    )[0][0]
    assert abs((event["DTSTART"].dt - risen.utc_datetime()).total_seconds()) < 5
    assert event.walk("VALARM")


def test_a_shot_is_planned_saved_and_shown_without_typing_anything_twice(desk, shot):
    from vinter.web.shots.models import Shot

    url = reverse("shot-new", args=[shot.site.pk])
    page = text_of(desk.get(url, {"t": "1812588300"}))
    assert "500 rule 20.8" in page and "Trail over the frame" in page
    lens = f"{shot.phone.pk}:tele"
    fragment = desk.post(
        url,
        {"t": "1812588300", "lens": lens, "use": "print", "portrait": "1"},
        headers={"HX-Request": "true"},
    )
    assert "<html" not in fragment.content.decode() and "500 rule" in fragment.content.decode()
    before = Shot.objects.count()
    desk.post(
        url,
        {"t": "1812588300", "lens": lens, "use": "print", "portrait": "1", "save": "1"},
        headers={"HX-Request": "true"},
    )
    assert Shot.objects.count() == before, "a draft that carries the pressed button must not save"
    saved = desk.post(url, {"t": "1812588300", "lens": lens, "use": "print", "portrait": "1", "save": "1"})
    new = Shot.objects.latest("id")
    assert saved["Location"] == reverse("shot", args=[new.pk])
    assert (
        new.portrait
        and new.lens == "tele"
        and new.shutter * new.plan["exposure"]["shutter"]["worst_px_s"] <= 2
    )
    assert f"{new.iso}" in text_of(desk.get(saved["Location"]))


def test_card_is_one_file_that_needs_nothing_else(desk, shot):
    page = desk.get(reverse("card-file", args=[shot.pk])).content.decode()
    assert "url(data:font/woff2;base64," in page and "src=" not in page and 'href="/' not in page
    assert not re.search(r"https?://(?!www\.w3\.org)", page)
    assert f"{shot.iso}" in page and "ticks" in page and "spring tide" in page


def test_bad_dates_and_minutes_are_named(desk, shot):
    bad = desk.get(reverse("night", args=[shot.site.pk, "2027-13-77"]), headers={"Accept": "text/html"})
    assert bad.status_code == 400 and "2027-13-77" in bad.content.decode()
    far = desk.get(reverse("night", args=[shot.site.pk, "2090-01-01"]), headers={"Accept": "text/html"})
    assert far.status_code == 400 and "the years 1901 to 2051 are covered" in far.content.decode()
    assert (
        desk.get(
            reverse("shot-new", args=[shot.site.pk]), {"t": "soon"}, headers={"Accept": "text/html"}
        ).status_code
        == 400
    )


def test_a_site_is_added_and_its_bounds_are_the_cores(desk, nerea):
    from vinter.web.sites.models import Site

    data = {
        "name": "Quarry",
        "lat": "60.1",
        "lon": "24.9",
        "elevation": "10",
        "tz": "Europe/Helsinki",
        "extinction": "0.25",
        "zenith": "",
    }
    assert "not within" in desk.post(reverse("site-new"), {**data, "lat": "95"}).content.decode()
    assert "is not a time zone" in desk.post(reverse("site-new"), {**data, "tz": "Mars"}).content.decode()
    assert desk.post(reverse("site-new"), data).status_code == 302
    quarry = Site.objects.get(owner=nerea, name="Quarry")
    page = text_of(desk.get(reverse("night", args=[quarry.pk, "2027-06-21"])))
    assert "twilight lasts all night" in page


def test_headers_forbid_everything_from_elsewhere(desk):
    response = desk.get(reverse("home"))
    policy = response["Content-Security-Policy"]
    assert "default-src 'none'" in policy and "unsafe" not in policy
    assert response["X-Content-Type-Options"] == "nosniff" and response["X-Frame-Options"] == "DENY"


def test_no_page_carries_inline_script_style_or_a_foreign_address(desk, shot, small_take):
    for url in (
        reverse("home"),
        reverse("night", args=[shot.site.pk, "2027-06-09"]),
        reverse("shot", args=[shot.pk]),
        reverse("card", args=[shot.pk]),
        reverse("take", args=[small_take.pk]),
        reverse("ledger"),
        reverse("sites"),
        reverse("gear"),
    ):
        page = desk.get(url).content.decode()
        assert not re.search(r"<script(?![^>]*(src=|application/json))", page), url
        assert " style=" not in page and " onclick=" not in page, url
        assert not re.search(r"""(src|href|action)=["']https?:""", page), url


def test_forms_need_their_token(nerea, shot):
    from django.test import Client

    strict = Client(enforce_csrf_checks=True)
    strict.force_login(nerea)
    assert strict.post(reverse("shoot", args=[shot.pk])).status_code == 403


def test_ledger_and_its_csv(desk, shot):
    desk.post(reverse("lesson", args=[shot.pk]), {"lesson": "Bring a second battery"})
    assert "Bring a second battery" in desk.get(reverse("ledger")).content.decode()
    assert "Bring a second battery" in body(desk.get(reverse("ledger-csv"))).decode()


def test_what_belongs_to_another_does_not_exist(client, stranger, shot, small_take):
    from vinter.web.finish.models import Export, Finish
    from vinter.web.jobs.models import Job
    from vinter.web.stacks.models import Stack

    owner = shot.owner
    stack = Stack.objects.create(owner=owner, take=small_take, frames=[], version="x")
    finish = Finish.objects.create(owner=owner, stack=stack, recipe={}, version="x")
    export = Export.objects.create(owner=owner, finish=finish, kind="jpg", recipe={})
    job = Job.objects.create(owner=owner, kind="stack", subject=stack.pk)
    frame = small_take.frame_set.first()
    client.force_login(stranger)
    gets = [
        reverse("site", args=[shot.site.pk]),
        reverse("night", args=[shot.site.pk, "2027-06-09"]),
        reverse("card", args=[shot.pk]),
        reverse("shot-new", args=[shot.site.pk]) + "?t=1812588300",
        reverse("shot", args=[shot.pk]),
        reverse("card-file", args=[shot.pk]),
        reverse("night-calendar", args=[shot.site.pk, "2027-06-09"]),
        reverse("take", args=[small_take.pk]),
        reverse("preview", args=[frame.pk, "small"]),
        reverse("stack", args=[stack.pk]),
        reverse("stack-file", args=[stack.pk, "tiff"]),
        reverse("finish", args=[finish.pk]),
        reverse("recipe-file", args=[finish.pk]),
        reverse("download", args=[export.pk]),
        reverse("job", args=[job.pk]),
        reverse("paint", args=[stack.pk]),
        reverse("film", args=[small_take.pk]),
        *(reverse("stack-file", args=[stack.pk, kind]) for kind in ("fits", "dng", "png")),
    ]
    posts = [
        reverse("shoot", args=[shot.pk]),
        reverse("bin-put", args=["shot", shot.pk]),
        reverse("lesson", args=[shot.pk]),
        reverse("upload", args=[small_take.pk]),
        reverse("measure", args=[small_take.pk]),
        reverse("decide", args=[frame.pk]),
        reverse("stack-new", args=[small_take.pk]),
        reverse("stack-again", args=[stack.pk]),
        reverse("finish-new", args=[stack.pk]),
        reverse("draw", args=[finish.pk]),
        reverse("finish-save", args=[finish.pk]),
        reverse("export", args=[finish.pk]),
        reverse("job-cancel", args=[job.pk]),
        reverse("paint", args=[stack.pk]),
        reverse("paint-try", args=[stack.pk]),
        reverse("frame-type", args=[frame.pk]),
        reverse("film", args=[small_take.pk]),
    ]
    assert [u for u in gets if client.get(u).status_code != 404] == []
    assert [
        u
        for u in posts
        if client.post(u, data=json.dumps({}), content_type="application/json").status_code != 404
    ] == []


def test_the_season_sheet_is_dark_where_the_core_stands_in_darkness(desk, shot):
    """9 June at 02:00 is the heart of the season; at 18:00 it is day; in December the core is below the
    horizon at midnight."""
    page = text_of(desk.get(reverse("season", args=[shot.site.pk, 2027])))
    assert "2027 at Tide mill" in page and re.search(
        r"Best evening of each lunation .*?1 \w{3} \d+ Jun", page
    )
    data = desk.get(reverse("season-picture", args=[shot.site.pk, 2027])).content
    picture = cv2.imdecode(np.frombuffer(data, np.uint8), cv2.IMREAD_GRAYSCALE)
    height, width = picture.shape

    def tone(day_of_year, hours_after_17):
        return int(picture[int((day_of_year + 0.5) / 365 * height), int(hours_after_17 / 15 * width)])

    assert tone(159, 9) < 80 and tone(159, 1) > 235 and 130 < tone(340, 7) < 235


def test_a_year_without_a_window_is_said(desk, nerea):
    from vinter.web.sites.models import Site

    north = Site.objects.create(owner=nerea, name="Far north", lat=69.6, lon=18.9, tz="Europe/Oslo")
    assert "No night of 2027 is good or fair here" in text_of(
        desk.get(reverse("season", args=[north.pk, 2027]))
    )
