"""A person's path from the next window to a picture in the ledger, in a real browser with the real worker."""

import re

import cv2
import numpy as np
import pytest
import tifffile
from PIL import Image
from playwright.sync_api import expect

LONG = 240_000


def stars_in(picture, places, reach=2, height=70):
    """Share of places at which a picture has a peak well above its surroundings within a few px."""
    grey = picture.mean(axis=2)
    found = 0
    for x, y in places:
        c, r = round(float(x)), round(float(y))
        near = grey[max(r - reach, 0) : r + reach + 1, max(c - reach, 0) : c + reach + 1]
        around = grey[max(r - 20, 0) : r + 21, max(c - 20, 0) : c + 21]
        found += near.max() > np.median(around) + height
    return found / len(places)


def noise_of(picture):
    patch = picture[100:300, 1400:1800, 1].astype(float)
    steps = patch[:, 4:] - patch[:, :-4]
    return 1.4826 * np.median(np.abs(steps - np.median(steps)))


@pytest.mark.long("from a night to an exported picture by a real worker")
@pytest.mark.django_db(transaction=True)
def test_from_a_night_to_a_picture(page, worker, tmp_path, shot, small_sensor):
    worker.start()
    # 1. in, and the next good window with its reasons
    page.goto("/")
    page.get_by_role("button", name="Enter as Nerea").click()
    expect(page.get_by_text("Next window worth driving for")).to_be_visible()
    expect(page.get_by_text(re.compile(r"From \d\d:\d\d, when"))).to_be_visible()

    # 2. a night: June is the best of the year; the cursor reads figures along the strip
    page.get_by_role("link", name=re.compile(r"\d Jun 2027")).first.click()
    expect(page.locator("h1")).to_contain_text("June 2027")
    page.wait_for_load_state("networkidle")  # the scripts are deferred
    before = page.locator("[data-f=core]").inner_text()
    page.keyboard.press("Shift+ArrowLeft")
    expect(page.locator("[data-f=core]")).not_to_have_text(before)
    expect(page).to_have_url(re.compile(r"\?t="))
    page.goto(f"/sites/{shot.site.pk}/night/2027-06-09/?t=1812588300")

    # 3. a shot from it
    page.get_by_role("link", name="Plan a shot for 01:45").click()
    expect(page.get_by_text("Shutter 20 s: stars drift")).to_be_visible()
    page.get_by_label("The picture is for").select_option("print")
    expect(page.get_by_text("Shutter 10 s: stars drift")).to_be_visible()
    page.get_by_label("The picture is for").select_option("screen")
    page.get_by_label("Frames").fill("4")
    page.get_by_label("Title").fill("Core over the mill")
    page.get_by_role("button", name="Keep this shot").click()
    expect(page.locator("h1")).to_have_text("Core over the mill")

    # 4. its card, on a phone
    page.get_by_role("link", name="Open the field card").click()
    page.set_viewport_size({"width": 390, "height": 844})
    page.screenshot(path=tmp_path / "card.png")
    pixels = np.asarray(Image.open(tmp_path / "card.png").convert("RGB")).astype(int)
    assert (np.maximum(pixels[..., 1], pixels[..., 2]) <= 0.12 * pixels[..., 0]).all() and pixels[
        ..., 0
    ].max() > 150
    # all that is set and where to point is on the first screen; cautions, the minute and notes close below
    assert page.locator("li:has([data-check])").last.bounding_box()["y"] + 44 <= 844
    assert page.evaluate("document.documentElement.scrollHeight") <= 844 + 260
    page.get_by_text("Flash off").click()
    page.reload()
    expect(page.get_by_label("Flash off, screen dim, no alerts")).to_be_checked()
    page.set_viewport_size({"width": 1280, "height": 800})
    page.get_by_role("link", name="Desk (bright)").click()

    # 5. the simulated phone shoots it
    page.get_by_role("button", name="Let the simulated phone shoot it").click()
    expect(page.get_by_role("progressbar")).to_be_visible()
    expect(page.get_by_role("button", name="Stack them")).to_be_visible(timeout=LONG)

    # 6. frames with measures; one is dropped by key and taken back
    expect(page.locator(".frame")).to_have_count(4)
    expect(page.get_by_text(re.compile(r"\d{3,4} stars")).first).to_be_visible()
    page.keyboard.press("ArrowRight")
    page.keyboard.press("d")
    expect(page.locator("#stackable")).to_have_text("3")
    page.keyboard.press("k")
    expect(page.locator("#stackable")).to_have_text("4")

    # 7. the stack, its report, before and after
    page.get_by_role("button", name="Stack them").click()
    expect(page.get_by_role("button", name="Finish it")).to_be_visible(timeout=LONG)
    expect(page.get_by_text("4 of 4", exact=True)).to_be_visible()
    gain = float(page.locator("aside .big").inner_text().split()[0])
    assert gain == pytest.approx(np.sqrt(4), rel=0.06)
    looks = {}
    for side in ("before", "after"):
        response = page.request.get(page.locator("#compare").get_attribute(f"data-{side}"))
        looks[side] = cv2.imdecode(np.frombuffer(response.body(), np.uint8), cv2.IMREAD_COLOR)
    # faint stars are in the patch as well, which do not grow less
    assert noise_of(looks["before"]) / noise_of(looks["after"]) > 0.8 * np.sqrt(4)

    # 8. the finish: a change shows at once and can be undone; exports open and hold the true stars
    page.get_by_role("button", name="Finish it").click()
    picture = page.locator("#picture[data-ready=full]")
    expect(picture).to_be_visible()
    first = picture.get_attribute("src")
    contrast = page.locator("[data-path='curve.sky.contrast']")
    contrast.focus()
    for _ in range(20):
        page.keyboard.press("ArrowRight")
    expect(page.locator("#picture")).not_to_have_attribute("src", first)
    expect(page.locator("#limits")).to_contain_text("sky")
    with page.expect_response(re.compile("/save/")):
        page.get_by_role("button", name="undo", exact=True).click()
    page.locator(".rung summary", has_text="Export").first.click()
    for kind in ("JPEG", "16-bit TIFF"):
        page.get_by_label("As", exact=True).select_option(label=kind)
        page.get_by_role("button", name="Export", exact=True).click()
        link = page.get_by_role("link", name=re.compile(f"^{kind}, 2016 × 1512 px"))
        expect(link).to_be_visible(timeout=LONG)
        with page.expect_download() as download:
            link.click()
        download.value.save_as(tmp_path / kind)
    jpeg = np.asarray(Image.open(tmp_path / "JPEG"))
    deep = tifffile.imread(tmp_path / "16-bit TIFF")
    assert deep.dtype == np.uint16 and deep.shape == jpeg.shape == (1512, 2016, 3)
    check_stars(jpeg)
    assert Image.open(tmp_path / "JPEG").getexif()[272] == "Marlet 7"

    # the ledger holds the whole, and every link in the head leads along it
    page.get_by_role("link", name="Ledger", exact=True).click()
    entry = page.locator("article").filter(has_text="Core over the mill")
    expect(entry.get_by_text("4 used")).to_be_visible()
    expect(entry.get_by_role("link", name=re.compile("JPEG, 2016"))).to_be_visible()
    entry.get_by_role("link", name="4 used").click()
    assert page.locator("nav a.reached").all_inner_texts() == [
        "Sites",
        "Night",
        "Skyline",
        "Shot",
        "Field",
        "Takes",
        "Stack",
    ]
    page.locator("nav a.reached", has_text="Stack").click()
    page.set_viewport_size({"width": 390, "height": 844})
    check_phone(page, "the stack")
    assert page.faults == []


def check_stars(jpeg):
    """The bright stars of the simulated sky stand in the exported picture where the truth says."""
    from vinter.core.simulate.phone import SimulatedPhone
    from vinter.web.shots.models import Shot
    from vinter.web.stacks.models import Stack

    one = Shot.objects.get(title="Core over the mill")
    camera = SimulatedPhone(one.burst(1))
    names = [row["file"] for row in Stack.objects.latest("id").report["frames"]]
    reference = sorted(names).index(Stack.objects.latest("id").report["reference"])
    _, x, y, v = camera.stars_at(reference)
    seen = v < 4.8
    places = np.c_[x, y][seen]
    assert len(places) > 25
    assert stars_in(jpeg, places) > 0.9
    # and the test itself can fail: the same places moved aside hold no stars
    assert stars_in(jpeg, places + np.array([25, 13])) < 0.4


@pytest.mark.long("frames are uploaded, measured and stacked by a real worker")
@pytest.mark.django_db(transaction=True)
def test_own_frames_are_brought_by_hand(page, worker, tmp_path):
    from starfield import Field, make

    worker.start()
    make(tmp_path, Field(count=3, width=800, height=600, stars=300, focal=600.0, streak=1))
    (tmp_path / "notes.jpg").write_text("not a picture")
    page.goto("/")
    page.get_by_role("button", name="Enter as Nerea").click()
    page.get_by_role("link", name="Takes").click()
    page.get_by_role("button", name="Add frames").click()
    page.locator("#files").set_input_files([*sorted(tmp_path.glob("*.dng")), tmp_path / "notes.jpg"])
    expect(page.get_by_role("button", name="Stack them")).to_be_visible(timeout=LONG)
    expect(page.locator(".frame")).to_have_count(3)
    expect(page.get_by_text("3 of 3 frames go into the stack")).to_be_visible()


@pytest.mark.django_db(transaction=True)
def test_the_page_fits_a_phone(page, shot):
    page.goto("/")
    page.get_by_role("button", name="Enter as Nerea").click()
    page.set_viewport_size({"width": 390, "height": 844})
    site = f"/sites/{shot.site.pk}"
    for address in (
        "/",
        f"{site}/night/2027-06-09/",
        f"{site}/season/2027/",
        f"{site}/horizon/",
        f"{site}/skyline/",
        f"/shots/{shot.pk}/",
        "/ledger/",
    ):
        page.goto(address)
        check_phone(page, address)


# Drawn words that are seen, with their height on the screen, smallest first
DRAWN_WORDS = """() => [...document.querySelectorAll("svg text")]
  .filter((t) => t.getClientRects().length && t.textContent.trim())
  .map((t) => [parseFloat(getComputedStyle(t).fontSize) * Math.abs(t.getScreenCTM().d), t.textContent.trim()])
  .sort((a, b) => a[0] - b[0])"""

# Drawings wider than the page, or with words beyond it; the horizon alone slides, for its points need room
CUT_DRAWINGS = """() => [...document.querySelectorAll("svg.chart:not(.horizon)")]
  .filter((svg) => svg.getClientRects().length)
  .filter((svg) => [svg, ...svg.querySelectorAll("text")]
    .some((e) => e.getBoundingClientRect().right > innerWidth))
  .map((svg) => svg.getAttribute("aria-label"))"""


def check_phone(page, address):
    """Nothing reaches beyond a phone's width, and no drawn word is under 11 px on it."""
    assert page.evaluate("document.documentElement.scrollWidth") <= 391, address
    small = [(px, words) for px, words in page.evaluate(DRAWN_WORDS) if px < 10.99]
    assert not small, (address, small[:5])
    cut = page.evaluate(CUT_DRAWINGS)
    assert not cut, (address, cut)
    tables = page.locator("main table").evaluate_all(
        "t => t.map((one) => [one.scrollWidth, one.clientWidth])"
    )
    assert all(within <= seen + 1 for within, seen in tables), (address, tables)


@pytest.mark.django_db(transaction=True)
def test_a_whole_night_stands_on_a_phone(page, shot):
    page.goto("/")
    page.get_by_role("button", name="Enter as Nerea").click()
    page.goto(f"/sites/{shot.site.pk}/night/2027-06-09/")
    wide = page.locator("#night svg").first
    before, words = wide.locator("[data-part=sky]").bounding_box(), wide.locator("text").all_inner_texts()
    page.set_viewport_size({"width": 390, "height": 844})
    sky = page.locator("#night [data-part=sky]").bounding_box()
    assert sky["x"] >= 0 and sky["width"] > 300 and sky["x"] + sky["width"] < 390
    assert sky["height"] == pytest.approx(220, abs=1)  # as high as it was made, not shrunk with its width
    bracket = page.locator("#night .bracket").first.bounding_box()
    assert sky["x"] < bracket["x"] and bracket["x"] + bracket["width"] < sky["x"] + sky["width"]
    # a thumb in the middle of the strip reads the middle of the night there
    first, last = (float(page.locator("#night").get_attribute(f"data-{end}")) for end in ("start", "end"))
    page.mouse.click(sky["x"] + sky["width"] / 2, sky["y"] + 40)
    expect(page).to_have_url(re.compile(r"[?&]t=\d"))
    read = float(page.url.split("t=")[1].split("&")[0])
    assert abs(read - (first + last) / 2) < 600
    page.set_viewport_size({"width": 1280, "height": 800})
    assert wide.locator("[data-part=sky]").bounding_box() == before  # and back, as the server drew it
    assert wide.locator("text").all_inner_texts() == words
    page.set_viewport_size({"width": 390, "height": 844})
    # figures stand with the names of their columns
    page.goto("/")
    first = page.locator("table.lines tbody tr").first
    names = first.locator("td").evaluate_all(
        "cells => cells.map((c) => getComputedStyle(c, '::before').content)"
    )
    assert '"sky at the core" " "' in names or '"sky at the core "' in names, names
    page.go_back()
    # and the first screen says what the night is worth, and leads on
    short = page.locator("#short")
    expect(short).to_contain_text(
        re.compile(r"\d\d:\d\d–\d\d:\d\d.* usable,\s+\d+\s%\s+of\s+the best night of\s+2027", re.S)
    )
    button = short.get_by_role("link", name="Plan a shot").bounding_box()
    assert button["y"] + button["height"] < 844
