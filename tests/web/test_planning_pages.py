"""What planning pages show, against the sky as another library has it, north and south and where nights
end."""

import re
from datetime import UTC, date, datetime, timedelta
from zoneinfo import ZoneInfo

import pytest
from desk import said
from django.core.files.uploadedfile import SimpleUploadedFile
from django.test import RequestFactory
from django.urls import reverse
from icalendar import Calendar
from skyfield import almanac
from skyfield.api import wgs84

from vinter.core.errors import BadInput
from vinter.core.sky import ephemeris as eph
from vinter.web.demo.seed import seed
from vinter.web.sites.models import Site
from vinter.web.uploads import LARGEST_FRAME, MOST_FRAMES, one_file, saved_files

pytestmark = pytest.mark.django_db


def place(nerea, lat, lon, tz, **more):
    return Site.objects.create(owner=nerea, name=f"At {lat:g}", lat=lat, lon=lon, tz=tz, **more)


def cells(page, label):
    """The times that stand beside a label in the table of a night."""
    row = re.search(rf"<tr> <td>{re.escape(label)}.*?</tr>", page).group(0)
    return re.findall(r"\d\d:\d\d", re.sub(r"<[^>]+>", " ", row))


def almanac_clock(site, day, search, *which):
    """Clock times of the first events after noon of a day that another library finds."""
    noon = datetime(day.year, day.month, day.day, 12, tzinfo=ZoneInfo(site.tz))
    scale, bodies = eph._kernel()
    at = wgs84.latlon(site.lat, site.lon)
    times, kinds = almanac.find_discrete(
        scale.from_datetime(noon), scale.from_datetime(noon + timedelta(days=1)), search(bodies, at)
    )
    out, events = [], zip(times, kinds, strict=True)
    for kind in which:  # each after the one before
        t = next(t for t, k in events if k == kind)
        local = t.utc_datetime().astimezone(ZoneInfo(site.tz))
        out.append(60 * local.hour + local.minute + local.second / 60)
    return out


def minutes(clock):
    return 60 * int(clock[:2]) + int(clock[3:])


@pytest.mark.parametrize(
    ("lat", "lon", "tz", "day"),
    [
        (37.7, -8.77, "Europe/Lisbon", date(2027, 6, 9)),
        (-32.24, 20.03, "Africa/Johannesburg", date(2027, 10, 1)),
        (64.1, -21.9, "Atlantic/Reykjavik", date(2027, 3, 10)),
        (0.0, 100.0, "Asia/Bangkok", date(2027, 12, 21)),
    ],
)
def test_sun_and_twilight_of_the_night_page(desk, nerea, lat, lon, tz, day):
    site = place(nerea, lat, lon, tz)
    page = said(desk.get(reverse("night", args=[site.pk, day.isoformat()])))
    wanted = almanac_clock(site, day, almanac.sunrise_sunset, 0, 1)
    assert [minutes(c) for c in cells(page, "Sun sets, rises")] == pytest.approx(wanted, abs=1.0)
    dusk = almanac_clock(site, day, almanac.dark_twilight_day, 0, 1)  # full dark begins, and ends
    assert [minutes(c) for c in cells(page, "Astronomical")] == pytest.approx(dusk, abs=1.0)


def test_where_the_sun_never_sets_the_page_says_so_and_still_opens(desk, nerea):
    north = place(nerea, 78.2, 15.6, "Arctic/Longyearbyen")
    page = said(desk.get(reverse("night", args=[north.pk, "2027-06-21"])))
    assert "The Sun does not set here on this date" in page and "<svg id" not in page
    hours = said(desk.get(reverse("night-hours", args=[north.pk, "2027-06-21"])))
    assert "The Sun never sinks 6° below the horizon" in hours
    assert "–" in said(desk.get(reverse("night-plan", args=[north.pk, "2027-06-21"])))


def test_a_year_without_one_night_worth_it(desk, nerea):
    north = place(nerea, 78.2, 15.6, "Arctic/Longyearbyen")
    page = said(desk.get(reverse("season", args=[north.pk, 2027])))
    assert "No night of 2027 is good or fair here:" in page
    empty = said(desk.get(reverse("season", args=[north.pk, 2027]), {"weekday": "2"}))
    assert "with these filters" in empty
    events = Calendar.from_ical(desk.get(reverse("season-calendar", args=[north.pk, 2027])).content)
    assert events.walk("VEVENT") == []


def test_a_night_in_the_south_speaks_of_the_core_overhead(desk, nerea):
    fold = Site.objects.get(owner=nerea, name="Sheepfold")
    page = said(desk.get(reverse("night", args=[fold.pk, "2027-07-04"])))
    highest = re.search(r"Core highest</td> <td[^>]*>(\d\d:\d\d)</td> <td[^>]*>([\d.]+)°", page)
    # it culminates at 90 - |-29.0 + 32.2| degrees
    assert float(highest.group(2)) == pytest.approx(90 - (32.24 - 29.01), abs=0.15)
    assert "usable" in page


def test_one_page_to_print_holds_way_window_and_warnings(desk, mill, shot):
    page = said(desk.get(reverse("night-plan", args=[mill.pk, "2027-06-09"])))
    leave = re.search(r"Leave home by.*?(\d\d:\d\d)", page).group(1)
    window = re.search(r"Window</span> <span>(\d\d:\d\d)", page).group(1)
    assert (minutes(window) - minutes(leave)) % 1440 == pytest.approx(
        115 + 30, abs=1
    )  # drive, and setting up
    assert shot.title in page and "az 28°" in page and "The dyke floods" in page
    assert "Known here: tide or water, private ground." in page and mill.access in page
    assert "Follow local rules" in page


def test_the_calendar_warns_as_the_card_does(desk, mill):
    answer = desk.get(reverse("night-calendar", args=[mill.pk, "2027-06-09"]))
    (event,) = Calendar.from_ical(answer.content).walk("VEVENT")
    assert "The dyke floods" in event["DESCRIPTION"] and "Access:" in event["DESCRIPTION"]
    assert event["DTSTART"].dt.astimezone(UTC) < event["DTEND"].dt.astimezone(UTC)


def test_dates_of_other_centuries_are_answered_or_refused(desk, mill):
    assert desk.get(reverse("night", args=[mill.pk, "2049-06-09"])).status_code == 200
    for day in ("1850-06-09", "2100-06-09"):
        answer = desk.get(reverse("night", args=[mill.pk, day]))
        assert answer.status_code == 400 and day in said(answer) and "1901 to 2051" in said(answer)


def test_links_of_a_page_keep_what_was_asked(desk, mill):
    asked = {"target": "moon", "weekday": ["4", "5"], "minutes": "60"}
    page = said(desk.get(reverse("season", args=[mill.pk, 2027]), asked))
    links = re.findall(r'href="(/sites/\d+/(?:night|season)/[^"]+)"', page)
    assert links and all("target=moon" in u and "weekday=4" in u and "minutes=60" in u for u in links)
    core = said(desk.get(reverse("season", args=[mill.pk, 2027]), {"target": "core"}))
    assert "target=core" not in core  # what is usual needs no words


def test_the_demo_is_seeded_once_however_often(nerea):
    before = (nerea.site_set.count(), nerea.shot_set.count(), nerea.phone_set.count())
    seed()
    seed()
    assert (nerea.site_set.count(), nerea.shot_set.count(), nerea.phone_set.count()) == before == (3, 1, 2)


@pytest.fixture
def sent():
    """A request that carries a file of a size."""

    def of(size, name="a.csv"):
        return RequestFactory().post("/", {"file": SimpleUploadedFile(name, b"x" * size)})

    return of


def test_one_file_is_wanted_of_a_size(sent):
    assert one_file(sent(10), "a table", 10).size == 10
    for request in (
        sent(0),
        sent(11),
        RequestFactory().post("/"),
        RequestFactory().post("/", {"file": "words"}),
    ):
        with pytest.raises(BadInput, match="a table"):
            one_file(request, "a table", 10)


def test_frames_are_opened_only_in_sensible_numbers_and_sizes(monkeypatch):
    def frames(count, data=b"nothing"):
        return [SimpleUploadedFile(f"{i}.dng", data) for i in range(count)]

    for count, least in ((0, 1), (1, 2), (MOST_FRAMES + 1, 1)):
        with (
            pytest.raises(BadInput, match=f"{least} to {MOST_FRAMES} files"),
            saved_files(frames(count), least),
        ):
            pass
    with pytest.raises(BadInput, match=r"0\.dng"), saved_files(frames(1)):
        pass
    with pytest.raises(BadInput, match="empty"), saved_files(frames(1, b"")):
        pass
    assert LARGEST_FRAME >= 60 * 2**20  # a 50 MP RAW of 14 bits
