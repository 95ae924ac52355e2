"""From a phone's photo to the frames: rehearse until the coach is content, carry the card, run the timer,
check the test shot."""

import io
import json
import re

import numpy as np
import pytest
from PIL import Image
from playwright.sync_api import expect

LONG = 60_000


def is_red(path):
    pixels = np.asarray(Image.open(path).convert("RGB")).astype(int)
    return (
        bool((np.maximum(pixels[..., 1], pixels[..., 2]) <= 0.12 * pixels[..., 0]).all())
        and pixels[..., 0].max() > 150
    )


def a_photo():
    block = Image.Exif()
    block[271], block[272] = "Tern", "Tern 3"
    inner = block.get_ifd(34665)
    inner[37386], inner[41989], inner[33437] = 5.6, 24, 1.8
    out = io.BytesIO()
    Image.fromarray(np.full((1512, 2016, 3), 90, np.uint8)).save(out, "JPEG", exif=block)
    return out.getvalue()


@pytest.mark.long("a person's path from a photo to the card, with a test shot simulated on it")
@pytest.mark.django_db(transaction=True)
def test_from_a_photo_to_the_field(page, tmp_path, nerea):
    (tmp_path / "photo.jpg").write_bytes(a_photo())
    page.goto("/")
    page.get_by_role("button", name="Enter as Nerea").click()

    # the phone from a photo
    page.get_by_role("link", name="Gear").click()
    page.locator("#photo").set_input_files(tmp_path / "photo.jpg")
    page.get_by_role("button", name="Add it").click()
    expect(page.get_by_label("Pixel pitch, µm")).to_have_value("4.006")
    page.get_by_label("Infinity: ticks back from the end mark").fill("3")
    page.get_by_role("button", name="Keep this lens").click()
    expect(page.get_by_text("3 ticks back", exact=True)).to_be_visible()

    # a shot with it
    mill = nerea.site_set.get(name="Tide mill").pk
    page.goto(f"/sites/{mill}/shots/new/?t=1812588300")
    page.get_by_label("Phone and lens").select_option(label="Tern 3, main")
    page.get_by_label("What kind of picture").select_option(label="Star trails")
    expect(page.get_by_text("no dashes")).to_be_visible()
    page.get_by_label("What kind of picture").select_option(label="Stack of frames")
    page.get_by_label("Phone and lens").select_option(label="Tern 3, main")
    page.get_by_label("Title").fill("Tern over the mill")
    page.get_by_role("button", name="Keep this shot").click()
    expect(page.locator("h1")).to_have_text("Tern over the mill")

    # rehearsed: wrong focus first, then as the coach says
    page.get_by_role("link", name="Rehearse it with the simulated phone").click()
    page.get_by_label("Focus, ticks back").select_option("0")
    page.get_by_role("button", name="Press", exact=True).click()
    expect(page.get_by_text("focus is off")).to_be_visible(timeout=LONG)
    page.locator("#shown").click(position={"x": 100, "y": 100})
    expect(page.locator("#loupe")).to_have_attribute("src", re.compile("x=0"))
    page.get_by_label("Focus, ticks back").select_option("3")
    page.get_by_role("button", name="Press", exact=True).click()
    expect(page.get_by_text("Passed with 2 test shots")).to_be_visible(timeout=LONG)
    page.get_by_role("link", name="The shot").click()

    # the card as PDF and as one file that is complete without the network
    with page.expect_download() as download:
        page.get_by_role("link", name="Card as one file, for no signal").click()
    download.value.save_as(tmp_path / "card.html")
    href = page.get_by_role("link", name="PDF").get_attribute("href")
    assert page.request.get(href).body().startswith(b"%PDF")
    offline = page.context.browser.new_context(viewport={"width": 390, "height": 844}, offline=True)
    card = offline.new_page()
    asked = []
    card.on("request", lambda r: asked.append(r.url) if not r.url.startswith(("file:", "data:")) else None)
    card.goto((tmp_path / "card.html").as_uri())
    expect(card.get_by_text("3 ticks")).to_be_visible()
    card.get_by_role("button", name="Start").click()
    expect(card.locator("#phase")).to_have_text("Open", timeout=8000)
    card.screenshot(path=tmp_path / "offline.png")
    assert is_red(tmp_path / "offline.png") and asked == []
    offline.close()

    # field pages are red, all of them
    page.set_viewport_size({"width": 390, "height": 844})
    page.get_by_role("link", name="Open the field card").click()
    card_url = page.url
    for name in ("timer/", "check/", "pack/"):
        page.screenshot(path=tmp_path / "field.png", full_page=True)
        assert is_red(tmp_path / "field.png")
        page.goto(card_url + name)
    page.screenshot(path=tmp_path / "field.png", full_page=True)
    assert is_red(tmp_path / "field.png")

    # the test shot, given to the check
    page.goto(page.url.replace("/pack/", "/check/"))
    page.locator("#file").set_input_files(tmp_path / "photo.jpg")
    page.get_by_role("button", name="Judge it").click()
    expect(page.get_by_text("stars: focus far off")).to_be_visible(timeout=LONG)
    assert page.faults == []


@pytest.mark.django_db(transaction=True)
def test_the_timer_keeps_time_over_ten_minutes_and_a_locked_screen(page, shot):
    page.goto("/")
    page.get_by_role("button", name="Enter as Nerea").click()
    page.clock.install()
    page.goto(f"/field/{shot.pk}/timer/")
    for name, value in (("delay", "3"), ("exposure", "14"), ("gap", "1"), ("frames", "40"), ("lamp", "2")):
        page.locator(f'[data-set="{name}"]').fill(value)
    page.get_by_role("button", name="Start").click()
    page.clock.run_for(60_000)
    page.reload()  # the browser threw the page away; it goes on by the clock
    page.clock.run_for(60_000)
    expect(page.locator("#phase")).to_have_text("Open")
    expect(page.locator("#count")).to_have_text("8 of 40")
    page.clock.fast_forward(120_000)  # a locked screen: no timers run
    page.clock.run_for(365_000)
    log = json.loads(page.locator("#timer").get_attribute("data-log"))
    late = [ms for phase, ms in log if phase in ("open", "gap", "done")]
    assert log[-1][0] == "done" and len(late) > 30
    fresh = sorted(late)[:-20]  # those of the locked minutes are caught up at once
    assert max(fresh) <= 200
    expect(page.locator("#left")).to_have_text("All frames are shot.")
