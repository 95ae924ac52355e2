"""Pictures that a phone's gallery shares: a take of tonight's shot, or the question of which."""

import time
from pathlib import Path
from urllib.parse import parse_qs, urlsplit

import pytest
from desk import said, upload
from django.urls import reverse
from starfield import Field, make

from vinter.core.sky.nights import evening_of
from vinter.web.jobs.models import Job
from vinter.web.quota import stored
from vinter.web.shots.models import Shot
from vinter.web.takes.models import Take

pytestmark = pytest.mark.django_db


@pytest.fixture
def pictures(tmp_path):
    make(tmp_path, Field(count=2, width=400, height=300, stars=60, focal=300.0))
    return [upload(p.name, p.read_bytes()) for p in sorted(tmp_path.glob("*.dng"))]


def tonight(shot):
    shot.moment = time.time() + 3600
    shot.night = evening_of(shot.site.core(), time.time())
    shot.save()
    return shot


def test_what_is_shared_tonight_is_a_take_of_tonights_shot(desk, shot, pictures):
    tonight(shot)
    answer = desk.post(reverse("share"), {"files": pictures}, headers={"sec-fetch-site": "none"})
    take = Take.objects.get(shot=shot)
    assert answer.url == reverse("take", args=[take.pk]) and take.frame_set.count() == 2


def test_of_two_shots_it_asks_and_without_one_it_stands_alone(desk, shot, pictures):
    other = Shot.objects.get(pk=tonight(shot).pk)
    other.pk, other.title = None, "Trails over the dyke"
    other.save()
    answer = desk.post(reverse("share"), {"files": pictures})
    take = Take.objects.get(title="Shared from the phone")
    assert answer.url == reverse("take-of", args=[take.pk])
    page = said(desk.get(answer.url))
    assert shot.title in page and "Trails over the dyke" in page and "None of them" in page
    desk.post(answer.url, {"shot": other.pk})
    assert Take.objects.get(pk=take.pk).shot_id == other.pk
    Shot.objects.all().update(night="2020-01-01", moment=1.0)
    alone = desk.post(reverse("share"), {"files": [upload("a.dng", b"no picture"), *pictures[:0]]})
    assert alone.status_code == 400 and "a.dng" in said(alone)


def test_another_site_cannot_share_in_ones_name(desk, pictures, client):
    for site in ("cross-site", "same-site"):
        answer = desk.post(reverse("share"), {"files": pictures}, headers={"sec-fetch-site": site})
        assert answer.status_code == 403
    desk.logout()
    assert desk.post(reverse("share"), {"files": pictures}).status_code == 302  # to the sign-in
    assert not Take.objects.filter(title="Shared from the phone").exists()


def test_more_parts_go_to_the_take_that_the_first_began(desk, shot, pictures, stranger, client):
    tonight(shot)
    first, second = pictures
    begun = desk.post(reverse("share"), {"files": [first]})
    take = Take.objects.get(shot=shot)
    more = desk.post(reverse("share") + f"?take={take.pk}", {"files": [second, upload("no.dng", b"no")]})
    assert (
        more.url == begun.url and take.frame_set.count() == 2 and Take.objects.filter(shot=shot).count() == 1
    )
    client.force_login(stranger)
    second.seek(0)
    assert client.post(reverse("share") + f"?take={take.pk}", {"files": [second]}).status_code == 404


def test_a_script_is_told_of_every_picture_in_turn(desk, shot, pictures, settings):
    tonight(shot)
    asks = {"accept": "application/json"}
    bad = upload("no.dng", b"no picture")
    told = desk.post(reverse("share"), {"files": [pictures[0], bad]}, headers=asks).json()
    take = Take.objects.get(shot=shot)
    assert told["take"] == take.pk and told["led"] == reverse("take", args=[take.pk])
    assert told["refused"][0] is None and "no.dng" in told["refused"][1]["why"]
    assert not told["refused"][1]["later"]
    jobs = Job.objects.count()
    bad.seek(0)
    more = desk.post(reverse("share") + f"?take={take.pk}", {"files": [bad]}, headers=asks).json()
    assert more["take"] == take.pk and more["refused"][0] and Job.objects.count() == jobs
    bad.seek(0)
    none = desk.post(reverse("share"), {"files": [bad]}, headers=asks).json()
    assert none["take"] is None and none["led"] is None and none["refused"][0]


def test_a_picture_without_room_may_be_sent_again_later(desk, shot, pictures, settings):
    tonight(shot)
    settings.QUOTA_BYTES = (
        stored(Path(settings.MEDIA_ROOT) / str(shot.owner_id), 0) + len(pictures[0].getvalue()) + 1
    )
    told = desk.post(reverse("share"), {"files": pictures}, headers={"accept": "application/json"}).json()
    assert told["refused"][0] is None and told["refused"][1]["later"]


def test_what_was_refused_is_said_at_the_take_that_keeps_the_others(desk, shot, pictures):
    tonight(shot)
    answer = desk.post(reverse("share"), {"files": [pictures[0], upload("no.dng", b"no picture")]})
    assert "no.dng" in said(desk.get(answer.url))


def test_the_page_that_sends_what_waits_needs_a_sign_in_and_says_so_by_leading_there(desk):
    assert "wait on this phone" in said(desk.get(reverse("share")))
    desk.logout()
    answer = desk.get(reverse("share"))
    assert parse_qs(urlsplit(answer.url).query)["next"] == [reverse("share")]
