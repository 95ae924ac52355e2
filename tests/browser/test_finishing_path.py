"""A finish at the desk: steered by keys and pointer, painted, kept, and shown as its window is."""

import re

import pytest
from django.urls import reverse
from playwright.sync_api import expect

from tests.browser.waiting import until

pytestmark = pytest.mark.django_db(transaction=True)


def rung(page, name):
    """A move of the ladder, opened."""
    found = page.locator(".rung", has=page.locator("summary b", has_text=re.compile(f"^{name}$")))
    if found.get_attribute("open") is None:
        found.locator("summary").first.click()
    return found


def saved(page, act):
    """The recipe that is kept after an act."""
    with page.expect_response(re.compile("/save/")) as answer:
        act()
    return answer.value.request.post_data_json


def test_an_edit_is_steered_undone_and_kept(entered, small_stack):
    page = entered
    page.goto(reverse("stack", args=[small_stack.pk]))
    page.get_by_role("button", name="Finish it").click()
    expect(page.locator("#picture[data-ready=full]")).to_be_visible()
    rung(page, "Level")
    level = page.locator("[data-path='geometry.level']")
    level.focus()
    with page.expect_response(re.compile("/save/")):
        for _ in range(5):
            page.keyboard.press("ArrowRight")
    expect(page.locator("output[for='geometry.level']")).to_have_text("+0.5 °")
    rung(page, "Crop")
    saved(page, lambda: page.locator("[data-path='geometry.ratio']").select_option("1:1"))
    expect(page.locator("#marks .kept")).to_be_visible()  # the frame, over the whole picture
    left = page.locator("[data-path='geometry.x']")
    box, was = page.locator("#picture").bounding_box(), left.input_value()
    middle = box["x"] + box["width"] / 2, box["y"] + box["height"] / 2
    page.mouse.move(*middle)
    page.mouse.down()
    page.mouse.move(middle[0] - 30, middle[1])
    saved(page, page.mouse.up)
    assert float(left.input_value()) < float(was)
    page.locator(".rung[data-line=Crop] summary").click()  # shut: the picture is cut
    until(
        page,
        "(({naturalWidth: w, naturalHeight: h}) => w > 0 && w === h)(document.querySelector('#picture'))",
    )
    expect(page.locator(".rung[data-line=Crop] .at")).to_contain_text("1:1")
    with page.expect_response(re.compile("before=1")):
        page.keyboard.press("b")
    rung(page, "Core and areas")
    page.get_by_role("button", name="Click the picture to place the ellipse").click()
    placed = saved(page, lambda: page.locator("#picture").click(position={"x": 60, "y": 50}))["core"]
    assert 0 <= placed["x"] < 0.5 and 0 <= placed["y"] < 0.5
    undo, redo = (page.get_by_role("button", name=n, exact=True) for n in ("undo", "redo"))
    for _ in range(3):
        saved(page, undo.click)
    expect(page.locator("[data-path='geometry.ratio']")).to_have_value("full")
    saved(page, redo.click)
    expect(page.locator("[data-path='geometry.ratio']")).to_have_value("1:1")
    # the way back survives leaving
    page.goto(reverse("finishes"))
    page.go_back()
    expect(page.locator("[data-path='geometry.ratio']")).to_have_value("1:1")
    saved(page, undo.click)
    expect(page.locator("[data-path='geometry.ratio']")).to_have_value("full")
    rung(page, "Level")
    page.locator("[data-path='geometry.level']").focus()
    saved(page, lambda: page.keyboard.press("0"))
    expect(page.locator("output[for='geometry.level']")).to_have_text("0.0 °")


def brightness(page):
    """Mean light of the shown picture over its halves, left and right."""
    return page.evaluate(
        """() => {
      const i = document.querySelector('#picture'), c = document.createElement('canvas');
      c.width = i.naturalWidth; c.height = i.naturalHeight;
      const p = c.getContext('2d'); p.drawImage(i, 0, 0);
      const mean = (x, w) => { const d = p.getImageData(x, 0, w, c.height).data; let s = 0;
        for (let k = 0; k < d.length; k += 4) s += d[k + 1]; return s / (d.length / 4); };
      const half = Math.floor(c.width / 2); return [mean(0, half), mean(half, half)]; }"""
    )


def test_the_picture_has_the_pixels_that_its_window_shows(entered, small_stack):
    page = entered
    page.set_viewport_size({"width": 560, "height": 620})
    page.goto(reverse("stack", args=[small_stack.pk]))
    page.get_by_role("button", name="Finish it").click()
    expect(page.locator("#picture[data-ready=full]")).to_be_visible()
    shown = page.evaluate("(p => [p.clientWidth, p.naturalWidth])(document.querySelector('#picture'))")
    assert shown[0] <= shown[1] == 600
    tag = page.locator("#tag")
    expect(tag).to_have_text(f"finished · {round(100 * shown[0] / 800)} %")
    page.set_viewport_size({"width": 1280, "height": 800})
    until(page, "document.querySelector('#picture').naturalWidth === 800")  # all that there is
    wide = page.evaluate("document.querySelector('#picture').clientWidth")
    expect(tag).to_have_text(f"finished · {round(100 * wide / 800)} %")


def test_drafts_have_fewer_pixels_where_they_come_too_slowly(entered, small_stack):
    page = entered
    page.goto(reverse("stack", args=[small_stack.pk]))
    page.get_by_role("button", name="Finish it").click()
    expect(page.locator("#picture[data-ready=full]")).to_be_visible()
    page.evaluate("""() => {
      const send = window.fetch;
      window.asked = [];
      window.fetch = async (address, options) => {
        const draft = /size=draft&wide=(\\d+)/.exec(address);
        if (draft) {
          window.asked.push(Number(draft[1]));
          await new Promise((done) => setTimeout(done, 150));
        }
        return send(address, options);
      };
    }""")
    rung(page, "Level")
    slider = page.locator("[data-path='geometry.level']")
    box = slider.bounding_box()
    row = box["y"] + box["height"] / 2
    page.mouse.move(box["x"] + box["width"] * 0.4, row)
    page.mouse.down()
    for k in range(400):
        page.mouse.move(box["x"] + box["width"] * (0.4 + 0.2 * (k % 10) / 10), row)
        asked = page.evaluate("window.asked")
        if 500 in asked:
            break
    assert asked[0] == 800 and set(asked) == {800, 700, 600, 500} and asked == sorted(asked, reverse=True)
    page.mouse.up()
    until(page, "document.querySelector('#picture').naturalWidth > 550")  # held still, it has them all


def test_painting_mending_and_seeing(entered, small_stack):
    page = entered
    page.goto(reverse("stack", args=[small_stack.pk]))
    page.get_by_role("button", name="Finish it").click()
    expect(page.locator("#picture[data-ready=full]")).to_be_visible()
    left, right = brightness(page)

    # a stroke down the left half makes it lighter, the right stays
    rung(page, "Core and areas")
    page.locator("#area-amount").fill("1")
    page.locator("#area-radius").fill("0.15")
    page.get_by_role("button", name="Paint", exact=True).click()
    box = page.locator("#picture").bounding_box()

    def stroke():
        page.mouse.move(box["x"] + 0.2 * box["width"], box["y"] + 0.1 * box["height"])
        page.mouse.down()
        page.mouse.move(box["x"] + 0.25 * box["width"], box["y"] + 0.8 * box["height"], steps=10)
        page.mouse.up()

    kept = saved(page, stroke)["areas"]["list"]
    assert len(kept) == 1 and len(kept[0]["points"]) > 3 and kept[0]["effect"] == "light"
    until(page, "document.querySelector('#picture').dataset.ready === 'full'")
    page.wait_for_load_state("networkidle")
    lit = brightness(page)
    assert lit[0] > 1.15 * left and abs(lit[1] - right) < 0.03 * right
    expect(page.locator(".rung[data-line='Core and areas'] .at")).to_contain_text("1 painted")
    page.keyboard.press("Escape")

    # an ellipse of colour, and a spot mended
    page.locator("#area-shape").select_option("ellipse")
    page.locator("#area-effect").select_option("colour")
    page.get_by_role("button", name="Paint", exact=True).click()
    assert [a["shape"] for a in saved(page, stroke)["areas"]["list"]] == ["brush", "ellipse"]
    rung(page, "Repair")
    page.get_by_role("button", name="Click what to remove").click()
    spots = saved(page, lambda: page.locator("#picture").click(position={"x": 200, "y": 120}))["repair"][
        "spots"
    ]
    assert len(spots) == 1 and 0.2 < spots[0]["x"] < 0.5
    expect(page.locator(".rung[data-line=Repair] .at")).to_have_text("1 mended")
    page.keyboard.press("Escape")

    # a point on the curve by a click, moved by keys
    rung(page, "Dark and light")
    curve = page.locator("#curve")
    points = saved(page, lambda: curve.click(position={"x": 90, "y": 60}))["curve"]["sky"]["points"]
    assert len(points) == 1
    page.locator("#curve circle").focus()
    moved = saved(page, lambda: page.keyboard.press("ArrowUp"))["curve"]["sky"]["points"]
    assert moved[0][1] > points[0][1]

    # the divider, two, a part at 100 % that moves, one zone
    with page.expect_response(re.compile("before=1")):
        page.keyboard.press("d")
    expect(page.locator("#split")).to_be_visible()
    page.keyboard.press("t")
    expect(page.locator("#stage.two")).to_be_visible()
    page.keyboard.press("t")
    with page.expect_response(re.compile(r"[?&]x=0\.5")):
        page.keyboard.press("2")
    expect(page.locator("#stage.part")).to_be_visible()
    expect(page.locator("#tag")).to_have_text("finished · 100 %")
    until(page, "document.querySelector('#picture').naturalWidth === 800")  # all of a small file
    with page.expect_response(re.compile("show=mask")):
        page.keyboard.press("m")
    page.keyboard.press("m")
    page.keyboard.press("1")
    expect(page.locator("#stage.part")).to_have_count(0)

    # a look, and two of one picture beside each other
    rung(page, "Start from")
    cool = saved(page, lambda: page.get_by_role("button", name="Cool, a touch of magenta").click())
    assert len(cool["areas"]["list"]) == 2 and cool["colour"]["sky"]["saturation"] > 0.2
    page.locator(".rung", has_text="of this picture").locator("summary").first.click()
    page.get_by_role("button", name="Begin another from here").click()
    expect(page.locator("#picture[data-ready=full]")).to_be_visible()
    page.locator(".rung", has_text="2 of this picture").locator("summary").first.click()
    page.get_by_role("link", name="Side by side", exact=True).click()
    expect(page.locator(".looks img")).to_have_count(2)
    until(page, "[...document.querySelectorAll('.looks img')].every((i) => i.naturalWidth > 200)")
    assert page.faults == []


def test_a_finish_in_two_windows_loses_nothing(entered, small_stack):
    one = entered
    one.goto(reverse("stack", args=[small_stack.pk]))
    one.get_by_role("button", name="Finish it").click()
    expect(one.locator("#picture[data-ready=full]")).to_be_visible()
    two = one.context.new_page()
    two.goto(one.url)
    expect(two.locator("#picture[data-ready=full]")).to_be_visible()
    for page in (one, two):
        rung(page, "Crop")

    def choose(page, ratio):
        with page.expect_response(re.compile("/save/")) as saved:
            page.locator("[data-path='geometry.ratio']").select_option(ratio)
        return saved.value.status

    assert choose(one, "1:1") == 200
    assert choose(two, "16:9") == 409
    expect(two.get_by_text("This finish was changed in another window.")).to_be_visible()
    expect(two.locator("[data-path='geometry.ratio']")).to_have_value("16:9")
    with two.expect_response(re.compile("/save/")):
        two.get_by_role("button", name="Take the other").click()
    expect(two.locator("[data-path='geometry.ratio']")).to_have_value("1:1")
    with two.expect_response(re.compile("/save/")):
        two.get_by_role("button", name="undo", exact=True).click()  # what was chosen here is not lost
    expect(two.locator("[data-path='geometry.ratio']")).to_have_value("16:9")
    one.reload()
    expect(one.locator("[data-path='geometry.ratio']")).to_have_value("16:9")
    two.close()
