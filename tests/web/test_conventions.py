"""Units and formats: 12 hours, miles and feet, the language of dates; stored, typed and exported
figures stay."""

import re

import pytest
from django.urls import reverse

from vinter.web.conventions import Conventions, as_wished, current

TWELVE = Conventions(clock="12")
MILES = Conventions(units="imperial")


@pytest.fixture
def written():
    """A text as somebody with these conventions reads it."""

    def read(text, conventions):
        token = current.set(conventions)
        try:
            return as_wished(text)
        finally:
            current.reset(token)

    return read


@pytest.mark.parametrize(
    "computed, said",
    [
        ("best at 00:05, 21:30", "best at 12:05 am, 9:30 pm"),
        ("12:00 to 23:59:07", "12:00 pm to 11:59:07 pm"),
        ("10:30 pm to 12:05 am", "10:30 pm to 12:05 am"),  # written so already
        ("UTC+01:00, 4:5, 16:9, 48:61, 1:02", "UTC+01:00, 4:5, 16:9, 48:61, 1:02"),
    ],
)
def test_twelve_hours(written, computed, said):
    assert written(computed, TWELVE) == said


@pytest.mark.parametrize(
    "computed, said",
    [
        ("100 km away, 8 m/s, 12 °C", "62 mi away, 18 mph, 54 °F"),
        ("2.5 m ± 0.3", "8 ft ± 0.3"),
        ("3 ± 1 km, 10 ± 5 °C", "2 ± 1 mi, 50 ± 9 °F"),
        ("0.2 to 2000 m", "1 to 6562 ft"),
        ("4000 per km², 2 h 48, 21.5 mag, 5 min, f/1.8, 5.6 mm", None),
        ("−5 °C", "23 °F"),
    ],
)
def test_miles_and_feet(written, computed, said):
    assert written(computed, MILES) == (computed if said is None else said)


def test_the_usual_way_leaves_a_text_alone(written):
    assert written("21:30, 100 km", Conventions()) == "21:30, 100 km"


def _set(client, **wished):
    asked = {"clock": "24", "units": "metric", "language": "en-gb"} | wished
    assert client.post(reverse("figures"), asked).status_code == 302


@pytest.mark.django_db
def test_a_night_is_read_as_one_likes_and_carried_away_as_it_is(client, nerea, shot):
    client.force_login(nerea)
    night = reverse("night", args=[shot.site.pk, shot.night.isoformat()])
    table = reverse("season-table", args=[shot.site.pk, shot.night.year])
    before, carried = client.get(night).content.decode(), client.get(table).content
    times = re.findall(r">[^<]*?\b(?:[01]\d|2[0-3]):[0-5]\d\b", before)
    assert len(times) > 8  # sunset, dusk, windows ...

    _set(client, clock="12", units="imperial", language="en-us")
    after = client.get(night).content.decode()
    assert len(re.findall(r"\d:[0-5]\d (?:am|pm)\b", after)) >= len(times)
    assert 'data-clock="12"' in after
    assert not re.findall(
        r">[^<]*?\b(?:[01]\d|2[0-3]):[0-5]\d\b(?! [ap]m)", after.split("<main")[1].split("<script")[0]
    )
    assert f"{shot.night:%B} {shot.night.day}, {shot.night.year}" in after
    assert client.get(table).content == carried


@pytest.mark.django_db
def test_months_in_another_language(client, nerea, shot):
    client.force_login(nerea)
    _set(client, language="de")
    page = client.get(reverse("night", args=[shot.site.pk, "2027-03-09"])).content.decode()
    assert "9. März" in page or "9 März 2027" in page


@pytest.mark.django_db
def test_the_field_card_follows(client, nerea, shot):
    client.force_login(nerea)
    _set(client, clock="12")
    page = client.get(reverse("card", args=[shot.pk])).content.decode()
    assert re.search(r"\d:[0-5]\d (?:am|pm)", page)
    assert 'data-clock="12"' in page


@pytest.mark.django_db
def test_what_is_wished_is_ones_own(client, nerea, stranger):
    client.force_login(nerea)
    _set(client, clock="12")
    client.force_login(stranger)
    assert 'data-clock="24"' in client.get(reverse("figures")).content.decode()
    refused = client.post(reverse("figures"), {"clock": "13", "units": "metric", "language": "en-gb"})
    assert refused.status_code == 200 and "13" in refused.content.decode()
