"""Two browsers at one thing: the later one is told what changed, and loses nothing typed."""

import json
import re
import threading
from html import unescape

import pytest
from desk import said
from django.db import connection
from django.urls import reverse

from vinter.web.finish.models import Finish
from vinter.web.gear.models import Phone
from vinter.web.shots.models import Shot
from vinter.web.sites.models import Site


def opened(desk, address):
    """The fields of a page's main form, as a browser would send them back."""
    page = desk.get(address).content.decode()
    return fields_of(page)


def fields_of(page):
    form = re.search(
        r'<form method="post"(?: class="grid[^"]*"| action="[^"]*" class="mt-4 grid[^"]*")>.*?</form>',
        page,
        re.S,
    )[0]
    found = {}
    for tag in re.findall(r"<input[^>]*>", form):
        name, value = re.search(r'name="([^"]*)"', tag), re.search(r'value="([^"]*)"', tag)
        if name and ('type="checkbox"' not in tag or "checked" in tag):
            found.setdefault(name[1], []).append(unescape(value[1]) if value else "on")
    for name, text in re.findall(r'<textarea name="([^"]*)"[^>]*>(.*?)</textarea>', form, re.S):
        found[name] = [unescape(text).lstrip("\r\n")]
    for name, body in re.findall(r'<select name="([^"]*)"[^>]*>(.*?)</select>', form, re.S):
        found[name] = [unescape(v) for v in re.findall(r'<option value="([^"]*)"\s+selected', body)]
    return found


@pytest.mark.django_db
def test_a_site_changed_in_two_windows(desk, mill):
    address = reverse("site", args=[mill.pk])
    one, two = opened(desk, address), opened(desk, address)
    assert desk.post(address, one | {"access": ["gate is shut"], "drive": ["95"]}).status_code == 302
    typed = two | {"notes": ["my long note"], "drive": ["70"]}
    answer = desk.post(address, typed)
    page = said(answer)
    assert answer.status_code == 409 and "Changed in another window" in page
    assert "gate is shut" in page and "copied into this form" in page
    assert "is now: 95" in page and "saving again stores yours" in page and "my long note" in page
    mill.refresh_from_db()
    assert mill.notes != "my long note" and mill.drive == 95
    again = fields_of(answer.content.decode())
    assert (
        again["drive"] == ["70"]
        and again["access"] == ["gate is shut"]
        and again["hazards"] == one["hazards"]
    )
    assert desk.post(address, again).status_code == 302
    mill.refresh_from_db()
    assert (mill.notes, mill.drive, mill.access) == ("my long note", 70, "gate is shut")


@pytest.mark.django_db
def test_a_page_that_is_not_stale_stores_at_once_and_one_without_its_mark_too(desk, mill):
    address = reverse("site", args=[mill.pk])
    page = opened(desk, address)
    assert desk.post(address, page | {"notes": ["a"]}).status_code == 302
    fresh = opened(desk, address)
    assert desk.post(address, fresh | {"notes": ["b"]}).status_code == 302
    del fresh["opened_with"]
    assert desk.post(address, fresh | {"notes": ["c"]}).status_code == 302
    assert Site.objects.get(pk=mill.pk).notes == "c"
    assert desk.post(address, fresh | {"opened_with": ["[1"], "notes": ["d"]}).status_code == 302


@pytest.mark.django_db
def test_a_lens_changed_in_two_windows_and_measured_meanwhile(desk, shot):
    phone = shot.phone
    address = reverse("lens", args=[phone.pk, "main"])
    one, two = opened(desk, address), opened(desk, address)
    assert desk.post(address, one | {"infinity_ticks": ["7"]}).status_code == 302
    answer = desk.post(address, two | {"shutter_max": ["12"]})
    assert answer.status_code == 409 and "is now: 7" in said(answer)
    assert desk.post(address, fields_of(answer.content.decode())).status_code == 302
    lens = Phone.objects.get(pk=phone.pk).core().lens("main")
    assert (lens.infinity_ticks, lens.shutter_max) == (7, 12)


@pytest.mark.django_db(transaction=True)
def test_two_lenses_of_a_phone_stored_at_once_are_both_stored(shot):
    phone = shot.phone
    names = list(phone.lenses)[:2]
    copies = [Phone.objects.get(pk=phone.pk) for _ in names]  # both read before either is stored

    def store(copy, name):
        from dataclasses import replace

        copy.store_lens(replace(copy.core().lens(name), infinity_ticks=9))
        connection.close()

    threads = [threading.Thread(target=store, args=pair) for pair in zip(copies, names, strict=True)]
    [t.start() for t in threads]
    [t.join() for t in threads]
    stored = Phone.objects.get(pk=phone.pk).core()
    assert [stored.lens(n).infinity_ticks for n in names] == [9, 9]


@pytest.mark.django_db
def test_a_lesson_written_in_two_windows(desk, shot):
    ledger = desk.get(reverse("ledger")).content.decode()
    mark = unescape(re.search(r'name="opened_with" value="([^"]*)"', ledger)[1])
    address = reverse("lesson", args=[shot.pk])
    assert desk.post(address, {"lesson": "start earlier", "opened_with": mark}).status_code == 302
    answer = desk.post(address, {"lesson": "take two lamps", "opened_with": mark})
    page = said(answer)
    assert answer.status_code == 409 and "is now: start earlier" in page and "take two lamps" in page
    assert Shot.objects.get(pk=shot.pk).lesson == "start earlier"
    assert desk.post(address, fields_of(answer.content.decode())).status_code == 302
    assert Shot.objects.get(pk=shot.pk).lesson == "take two lamps"


@pytest.mark.django_db
def test_a_finish_changed_in_two_windows(desk, small_stack):
    desk.post(reverse("finish-new", args=[small_stack.pk]))
    finish = Finish.objects.get()
    page = desk.get(reverse("finish", args=[finish.pk])).content.decode()
    seen = re.search(r'data-seen="(\w+)"', page)[1]
    address = reverse("finish-save", args=[finish.pk])

    def save(recipe, mark):
        return desk.post(
            address, json.dumps(recipe), content_type="application/json", headers={"X-Vinter-Seen": mark}
        )

    mine, other = json.loads(json.dumps(finish.recipe)), json.loads(json.dumps(finish.recipe))
    key = "geometry"
    other[key] = {**other[key], "ratio": "1:1"}
    mine[key] = {**mine[key], "ratio": "16:9"}
    first = save(other, seen)
    assert first.status_code == 200
    refused = save(mine, seen)
    told = refused.json()
    assert refused.status_code == 409 and told["recipe"][key]["ratio"] == "1:1"
    assert Finish.objects.get().recipe[key]["ratio"] == "1:1"
    assert save(mine, told["seen"]).status_code == 200
    assert Finish.objects.get().recipe[key]["ratio"] == "16:9"
    assert save(mine, seen).status_code == 200  # the same again is no change


@pytest.mark.django_db
def test_a_cards_code_is_revoked_not_cached_and_heeds_no_host_header(desk, client, shot, settings):
    settings.ALLOWED_HOSTS, settings.ADDRESS = ["*"], "https://vinter.example.net"
    from unittest import mock

    with mock.patch("vinter.web.field.views.segno.make", wraps=__import__("segno").make) as made:
        answer = desk.get(reverse("card-qr", args=[shot.pk]), headers={"Host": "evil.example.com"})
    address = made.call_args[0][0]
    assert (
        address.startswith("https://vinter.example.net/field/open/") and "no-store" in answer["Cache-Control"]
    )
    path = address.removeprefix("https://vinter.example.net")
    client.logout()
    card = client.get(path)
    assert (
        card.status_code == 200 and shot.title in said(card) and card["Cache-Control"] == "private, no-store"
    )
    client.force_login(shot.owner)
    assert client.post(reverse("card-revoke", args=[shot.pk])).status_code == 302
    client.logout()
    assert client.get(path).status_code == 404
    client.force_login(shot.owner)
    with mock.patch("vinter.web.field.views.segno.make", wraps=__import__("segno").make) as made:
        client.get(reverse("card-qr", args=[shot.pk]))
    assert made.call_args[0][0] != address and client.get(made.call_args[0][0][26:]).status_code == 200
