"""The first page of a new person, and pages that need something first."""

import pytest
from desk import said
from django.urls import reverse

from vinter.web.gear.models import Phone
from vinter.web.home.begin import coordinates
from vinter.web.sites.models import Site

pytestmark = pytest.mark.django_db


@pytest.fixture
def newcomer(client, stranger):
    client.force_login(stranger)
    return client


def answers(**changes):
    return {"place": "37.7, -8.77", "phone": "marlet-7", "target": "core", **changes}


@pytest.mark.parametrize(
    ("text", "at"),
    [
        ("37.70, -8.77", (37.7, -8.77)),
        ("-32.4 20.3", (-32.4, 20.3)),
        ("37.7°; -8.77°", (37.7, -8.77)),
        ("Odemira", None),
        ("91, 0", None),
        ("1, 2, 3", None),
        ("nan, 3", None),
    ],
)
def test_coordinates_are_read_and_nothing_else(text, at):
    assert coordinates(text) == at


def test_an_empty_home_asks_three_things_and_answers_with_a_night(newcomer, stranger):
    assert newcomer.get("/").url == reverse("begin")
    page = said(newcomer.get(reverse("begin")))
    for words in ("Where are you?", "Which phone?", "What do you want to photograph?"):
        assert words in page
    answer = newcomer.post(reverse("begin"), answers(), follow=True)
    page = said(answer)
    site = Site.objects.get(owner=stranger)
    assert (site.lat, site.lon, site.tz, site.home) == (37.7, -8.77, "Europe/Lisbon", True)
    assert [p.name for p in Phone.objects.filter(owner=stranger)] == ["Marlet 7"]
    assert answer.redirect_chain[-1][0].startswith(f"/sites/{site.pk}/night/")
    assert "Plan a shot for" in page


def test_a_wish_is_carried_to_the_night(newcomer):
    answer = newcomer.post(reverse("begin"), answers(target="band:180"), follow=True)
    assert "target=band%3A180" in answer.redirect_chain[-1][0] and answer.status_code == 200


def test_a_town_by_its_name_and_one_of_several(newcomer, stranger):
    newcomer.post(reverse("begin"), answers(place="Odemira"))
    odemira = Site.objects.get(owner=stranger)
    assert odemira.lat == pytest.approx(37.6, abs=0.2) and odemira.lon == pytest.approx(-8.6, abs=0.2)
    page = said(newcomer.post(reverse("begin"), answers(place="San Pedro")))
    assert "Several places are called so" in page and 'value="1"' in page and "San Pedro" in page
    newcomer.post(reverse("begin"), answers(place="San Pedro", which="1"))
    assert Site.objects.filter(owner=stranger).count() == 2


def test_a_place_that_nobody_knows_keeps_what_was_typed(newcomer, stranger):
    answer = newcomer.post(reverse("begin"), answers(place="Xyzzyville", target="pole"))
    page = said(answer)
    assert "try the nearest town" in page and 'value="Xyzzyville"' in page
    assert '<option value="pole" selected>' in page and not Site.objects.filter(owner=stranger).exists()


def test_a_phone_is_offered_where_one_is_missing_and_leads_back(newcomer, stranger):
    newcomer.post(reverse("begin"), answers(phone="later"))
    site = Site.objects.get(owner=stranger)
    wanted = reverse("skyline", args=[site.pk]) + "?t=1812588300"
    page = said(newcomer.get(wanted))
    assert "Which phone will shoot it?" in page and "Marlet 7" in page
    answer = newcomer.post(reverse("phone-add"), {"kind": "marlet-7", "back": wanted})
    assert answer.url == wanted and newcomer.get(wanted).status_code == 200
    away = newcomer.post(reverse("phone-add"), {"kind": "marlet-4", "back": "https://elsewhere.example/"})
    assert away.url.startswith("/gear/")
