"""Ways through the planning pages: short cuts that lead to the right night, tables that leave, and wishes
that make no sense."""

import csv
import io
import re
from datetime import date, timedelta

import pytest
from desk import said
from django.urls import reverse

from vinter.web.sites.models import Site


def nights_of(text):
    return list(csv.DictReader(io.StringIO(text)))


@pytest.mark.django_db
def test_short_cuts_lead_to_the_next_good_night_and_its_year(desk, mill):
    answer = desk.get(reverse("next-night"), {"site": mill.pk})
    assert re.fullmatch(rf"/sites/{mill.pk}/night/\d{{4}}-\d\d-\d\d/", answer.url)
    page = said(desk.get(answer.url))
    assert 'class="big' in page and "tide mill" in page.lower()
    first = re.search(r"/night/(\d{4})-", desk.get(reverse("next-night")).url).group(1)
    assert desk.get(reverse("first-season")).url.endswith(f"/season/{first}/")


@pytest.mark.django_db
def test_who_has_no_site_is_led_to_making_one(client, stranger):
    client.force_login(stranger)
    for name in ("home", "next-night", "first-season"):
        assert client.get(reverse(name)).url == reverse("begin")
    assert client.get(reverse("best")).status_code == 200


@pytest.mark.django_db
def test_the_seasons_table_holds_the_nights_that_meet_the_wishes(desk, mill):
    address = reverse("season-table", args=[mill.pk, 2027])
    answer = desk.get(address)
    assert (
        answer["Content-Disposition"] == 'attachment; filename="vinter-2027.csv"'
        and "text/csv" in answer["Content-Type"]
    )
    whole = nights_of(answer.content.decode())
    days = [date.fromisoformat(r["date"]) for r in whole]
    assert days == sorted(set(days)) and {d.year for d in days} == {2027}
    weekend = nights_of(desk.get(address, {"weekday": ["4", "5"]}).content.decode())
    assert weekend and {date.fromisoformat(r["date"]).weekday() for r in weekend} <= {4, 5}
    assert {r["date"] for r in weekend} < {r["date"] for r in whole}
    long = nights_of(desk.get(address, {"minutes": "240"}).content.decode())
    assert {r["date"] for r in long} < {r["date"] for r in whole}
    south = nights_of(desk.get(address, {"target": "lmc"}).content.decode())
    # never high enough at 38 degrees north
    assert sum(bool(r["window_start"]) for r in south) == 0 < sum(bool(r["window_start"]) for r in whole)


@pytest.mark.django_db
def test_the_date_field_leads_to_its_night_and_keeps_the_wishes(desk, mill):
    answer = desk.get(reverse("go-to-night", args=[mill.pk]), {"day": "2027-06-09", "target": "arch"})
    assert (
        answer.url.startswith(reverse("night", args=[mill.pk, "2027-06-09"])) and "target=arch" in answer.url
    )
    for wrong in ("", "9 June", "2027-02-30"):
        answer = desk.get(reverse("go-to-night", args=[mill.pk]), {"day": wrong})
        assert answer.status_code == 400 and "date like 2027-06-09" in said(answer)


@pytest.mark.django_db
def test_the_drive_bounds_what_is_offered_and_must_be_a_number(desk, nerea):
    rows = [desk.get(reverse("best"), {"drive": limit}).context["rows"] for limit in ("1", "600")]
    near, far = ({site.name: drive.minutes for site, drive in found} for found in rows)
    names = set(Site.objects.filter(owner=nerea).values_list("name", flat=True))
    assert names - set(far) == {"Sheepfold"}  # in another hemisphere: no drive
    assert set(near) == {name for name, minutes in far.items() if minutes is None or minutes <= 1} < set(far)
    answer = desk.get(reverse("best"), {"drive": "far"})
    assert answer.status_code == 400 and "driving limit" in said(answer) and "far" in said(answer)


@pytest.mark.django_db
def test_every_minute_that_is_pointed_at_is_answered_or_named_wrong(desk, mill):
    answer = desk.get(reverse("season-minute", args=[mill.pk]), {"t": "1812589930"})
    assert answer.status_code == 200 and answer.json()
    answer = desk.get(reverse("season-minute", args=[mill.pk]), {"t": "midnight"})
    assert answer.status_code == 400 and "midnight" in said(answer)


@pytest.mark.django_db
def test_preferences_return_to_where_one_came_from_but_never_off_the_machine(desk, mill):
    form = {
        "min_altitude": 12,
        "sun_below": -18,
        "least_contrast": 40.0,
        "suburb_contrast": 8.0,
        "new_moon_days": 4,
        "lit_percent": 25,
        "moon_up_minutes": 60,
        "darkest_class": 4,
        "suburb_class": 6,
        "drive_limit": 90,
    }
    back = reverse("season", args=[mill.pk, 2027])
    assert desk.post(reverse("preferences"), {**form, "next": back}).url == back
    assert desk.post(reverse("preferences"), {**form, "next": "https://elsewhere.example/"}).url == reverse(
        "home"
    )
    page = desk.post(reverse("preferences"), {**form, "drive_limit": "soon"})
    assert page.status_code == 200 and "Willing to drive" in said(page) and "number" in said(page)
    assert "12" in said(desk.get(reverse("preferences")))


@pytest.mark.django_db
def test_neighbouring_nights_of_a_page_are_a_day_apart(desk, mill):
    day = date(2027, 6, 9)
    page = said(desk.get(reverse("night", args=[mill.pk, day.isoformat()])))
    for other in (day - timedelta(days=1), day + timedelta(days=1)):
        assert reverse("night", args=[mill.pk, other.isoformat()]) in page


def test_the_years_events_are_listed_and_each_can_be_planned(desk, mill):
    page = said(desk.get(reverse("almanac", args=[mill.pk, 2028])))
    for words in (
        "Geminids",
        "Jupiter in opposition",
        "Eclipse of the Moon",
        "Moon beside",
        "Zodiacal light",
    ):
        assert words in page, words
    links = re.findall(r'href="(/sites/\d+/shots/new/\?[^"]*)"', page)
    assert len(links) > 20
    for link in links[::5]:
        answer = desk.get(link.replace("&amp;", "&"))
        assert answer.status_code in (200, 400), link
        if answer.status_code == 400:  # a refusal says why, in words
            assert "mag/arcsec^2" not in said(answer)
    sheet = said(desk.get(reverse("season", args=[mill.pk, 2028])))
    assert "<title>Geminids</title>" in sheet and reverse("almanac", args=[mill.pk, 2028]) in sheet
