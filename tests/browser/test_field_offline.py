"""Opened once, then out of reach: the card and its pages without signal, in red, and gone after signing
out."""

import numpy as np
import pytest
from django.urls import reverse
from PIL import Image
from playwright.sync_api import expect

from vinter.web.shots.models import Shot


def red_only(path):
    pixels = np.asarray(Image.open(path).convert("RGB")).astype(int)
    return (np.maximum(pixels[..., 1], pixels[..., 2]) <= 0.12 * pixels[..., 0] + 2).all()


def kept_on_the_phone(page, nerea):
    """Her shot, whose card the phone has opened once and keeps."""
    shot = Shot.objects.get(owner=nerea)
    page.set_viewport_size({"width": 390, "height": 844})
    page.goto("/")
    page.get_by_role("button", name="Enter as Nerea").click()
    page.goto(reverse("card", args=[shot.pk]))
    page.locator("html[data-kept=yes]").wait_for(timeout=20_000)
    return shot


@pytest.mark.django_db(transaction=True)
def test_one_visit_is_enough_for_a_night_without_signal(page, tmp_path, nerea):
    shot = kept_on_the_phone(page, nerea)
    expect(page.get_by_text("works without signal")).to_be_visible()

    page.context.set_offline(True)
    for name, words in (
        ("card", "Flash off"),
        ("point", "a compass shows"),
        ("timer", "Start"),
        ("check", "test"),
        ("pack", "Red lamp"),
    ):
        page.goto(reverse(name, args=[shot.pk]))
        expect(page.get_by_text(words).first).to_be_visible()
        page.screenshot(path=tmp_path / f"{name}.png")
        assert red_only(tmp_path / f"{name}.png"), name
    page.goto(reverse("timer", args=[shot.pk]))
    page.locator("#go").click()
    expect(page.locator("#phase")).to_have_text("Wait")
    page.reload()
    expect(page.locator("#quiet")).to_be_visible()  # silent until it is touched, and it says so
    page.locator("h1").click()
    expect(page.locator("#quiet")).to_be_hidden()
    page.context.set_offline(False)

    # signing out leaves nothing behind
    page.set_viewport_size({"width": 1280, "height": 800})
    page.goto("/")
    page.get_by_role("button", name="Sign out").click()
    page.wait_for_url("**/sign-in/?out=1")
    page.wait_for_function(
        "caches.keys().then((k) => k.filter((n) => n.startsWith('vinter-field')).length === 0)"
    )
    assert page.evaluate("Object.keys(localStorage).filter((k) => k.startsWith('vinter-card')).length") == 0


@pytest.mark.django_db(transaction=True)
def test_an_error_and_an_ended_session_in_the_field_are_not_white(page, tmp_path, nerea):
    page.set_viewport_size({"width": 390, "height": 844})
    page.goto("/field/99999/")  # signed out: asked to sign in
    page.screenshot(path=tmp_path / "in.png")
    assert red_only(tmp_path / "in.png")
    page.get_by_role("button", name="Enter as Nerea").click()
    page.goto("/field/99999/")
    page.screenshot(path=tmp_path / "none.png")
    assert red_only(tmp_path / "none.png")


@pytest.mark.django_db(transaction=True)
def test_over_plain_http_from_elsewhere_the_card_says_it_will_not_open_and_offers_the_file(
    chromium, live_server, nerea, settings, tmp_path
):
    """A phone that reaches Vinter by its name in the home network, without HTTPS."""
    settings.DEMO, settings.ALLOWED_HOSTS = True, ["home.test"]
    shot = Shot.objects.get(owner=nerea)
    port = live_server.url.rpartition(":")[2]
    context = chromium.new_context(
        viewport={"width": 390, "height": 844}, base_url=f"http://home.test:{port}", accept_downloads=True
    )
    page = context.new_page()
    page.goto("/")
    page.get_by_role("button", name="Enter as Nerea").click()
    page.goto(reverse("card", args=[shot.pk]))
    warning = page.get_by_role("alert")
    expect(warning).to_contain_text("will not open without signal")
    expect(page.get_by_text("works without signal")).to_have_count(0)
    with page.expect_download() as saved:
        warning.get_by_role("link").click()
    saved.value.save_as(tmp_path / "card.html")
    context.set_offline(True)
    page.goto(f"file://{tmp_path / 'card.html'}")
    expect(page.get_by_text("Flash off")).to_be_visible()
    context.close()


@pytest.mark.django_db(transaction=True)
def test_ten_things_noted_without_signal_are_in_the_ledger_once(page, nerea):
    shot = kept_on_the_phone(page, nerea)

    page.context.set_offline(True)
    page.reload()
    page.get_by_text("Note something").click()
    for k in range(4):
        page.get_by_label("Note", exact=True).fill(f"Note {k}: mist over the creek")
        page.locator("form[data-note=note] button").click()
        expect(page.locator("form[data-note=note] output")).to_contain_text(f"Note {k}")
    page.get_by_label("For next time").fill("Bring the second heater.")
    page.locator("form[data-note=lesson] button").click()
    for k in range(3):
        page.locator("[data-check]").nth(k).check()
    expect(page.locator("#waits")).to_contain_text("8 things wait")
    page.reload()  # killed and opened again
    expect(page.locator("#waits")).to_contain_text("8 things wait")
    page.goto(reverse("point", args=[shot.pk]))
    page.keyboard.press("ArrowRight")
    page.locator("#aiming").evaluate("e => { e.hidden = false; }")
    for _ in range(2):
        page.get_by_role("button", name="I am aiming at it").click()
    expect(page.locator("#waits")).to_contain_text("10 things wait")

    page.context.set_offline(False)
    page.goto(reverse("card", args=[shot.pk]))
    page.locator("body[data-waiting='0']").wait_for(state="attached")
    page.reload()
    expect(page.locator("#waits")).to_be_hidden()
    assert shot.fieldnote_set.count() == 10
    page.set_viewport_size({"width": 1280, "height": 800})
    page.goto(reverse("ledger"))
    for words in ("Note 0: mist", "Note 3: mist", "Bring the second heater.", "off, by"):
        expect(page.get_by_text(words).first).to_be_attached()


@pytest.mark.django_db(transaction=True)
def test_the_test_shot_is_judged_by_answers_without_signal(page, tmp_path, nerea):
    shot = kept_on_the_phone(page, nerea)
    page.context.set_offline(True)
    page.goto(reverse("check", args=[shot.pk]))

    def answer(*words):
        for text in words:
            page.get_by_label(text, exact=True).check()

    answer("about a quarter from the left", "many", "long lines, all one way", "no, or a few stars")
    expect(page.locator("#answer")).to_be_hidden()
    answer("where it was planned")
    expect(page.locator("#answer")).to_contain_text("Next: shutter 6 s.")
    answer("points", "too far left")
    expect(page.locator("#answer")).to_contain_text("Next: turn the phone left")
    page.screenshot(path=tmp_path / "ask.png", full_page=True)
    assert red_only(tmp_path / "ask.png")
    labels = page.locator(".ask label")
    heights = labels.evaluate_all("all => all.map((l) => l.getBoundingClientRect().height)")
    assert min(heights) >= 44
    page.context.set_offline(False)
    page.goto(reverse("card", args=[shot.pk]))
    page.locator("body[data-waiting='0']").wait_for(state="attached")
    assert shot.fieldnote_set.filter(kind="answer").count() == 3
