"""At the desk with hand on keys and pointer: what moves, what is kept, what comes back."""

import re

import pytest
from django.urls import reverse
from playwright.sync_api import expect

pytestmark = pytest.mark.django_db(transaction=True)


def until(page, script):
    """Wait until a script says yes; pages forbid what the library's own waiting needs."""
    for _ in range(200):
        if page.evaluate(script):
            return
        page.wait_for_timeout(50)
    raise AssertionError(f"never true: {script}")


@pytest.fixture
def entered(page):
    page.goto("/")
    page.get_by_role("button", name="Enter as Nerea").click()
    yield page
    assert page.faults == []


@pytest.fixture
def tide(nerea):
    return nerea.site_set.get(name="Tide mill")


def test_the_cursor_of_a_night_reads_and_its_minute_goes_into_the_plan(entered, tide):
    page = entered
    page.goto(reverse("night", args=[tide.pk, "2027-06-09"]))
    expect(page.locator("#at")).to_have_text("02:05")  # when the core stands best
    expect(page.locator('[data-f="core"]')).to_have_text("23° high, az 179°")
    page.keyboard.press("ArrowRight")
    expect(page.locator("#at")).to_have_text("02:10")
    page.keyboard.press("Shift+ArrowLeft")
    expect(page.locator("#at")).to_have_text("01:10")
    expect(page.locator('[data-f="bodies"]')).to_contain_text("−")  # the Sun is below the horizon
    expect(page).to_have_url(re.compile(r"[?&]t=18125862\d\d"))
    page.reload()
    expect(page.locator("#at")).to_have_text("01:10")
    line = page.locator("#night svg line.cursor").first
    before = float(line.get_attribute("x1"))
    strip = page.locator("#night svg").first.bounding_box()
    page.mouse.click(strip["x"] + strip["width"] * 0.7, strip["y"] + strip["height"] * 0.5)
    assert float(line.get_attribute("x1")) > before
    dot = page.locator("#night svg circle.cursor-dot")
    expect(dot).to_have_attribute("visibility", "visible")
    clock = page.locator("#at").inner_text()
    page.locator("#plan").click()
    expect(page.locator("h1")).to_contain_text(f"9 June 2027 into the 10th, at {clock}")
    page.go_back()
    page.keyboard.press("]")
    expect(page.locator("h1")).to_contain_text("Thursday 10 June 2027")


def test_where_the_target_is_below_the_ground_no_dot_stands_on_its_curve(entered, tide):
    page = entered
    page.goto(f"{reverse('night', args=[tide.pk, '2027-01-08'])}?t=1799453000")  # a winter evening
    expect(page.locator('[data-f="core"]')).to_contain_text("below")
    expect(page.locator("#night svg circle.cursor-dot")).to_have_attribute("visibility", "hidden")


def test_the_season_sheet_is_read_by_keys_and_opens_its_night(entered, tide):
    page = entered
    page.goto(reverse("season", args=[tide.pk, 2027]))
    for _ in range(3):
        page.keyboard.press("ArrowDown")
    expect(page.locator("#read")).to_contain_text("4 Jan")
    expect(page.locator("#read")).to_contain_text("00:00")
    page.keyboard.press("Shift+ArrowRight")
    expect(page.locator("#read")).to_contain_text("01:00")
    page.keyboard.press("ArrowUp")
    expect(page.locator("#read")).to_contain_text("3 Jan")
    page.keyboard.press("Enter")
    expect(page.locator("h1")).to_contain_text("Sunday 3 January 2027")


def test_preferences_move_the_night_and_come_back_to_it(entered, tide):
    page = entered
    page.goto(reverse("night", args=[tide.pk, "2027-06-09"]))
    usable = page.locator("aside .big").inner_text()
    page.get_by_role("link", name="Change thresholds").click()
    page.get_by_label("Target at least this high, °").fill("20")
    page.get_by_role("button", name="Save").click()
    expect(page.locator("h1")).to_contain_text("Wednesday 9 June 2027")
    assert page.locator("aside .big").inner_text() != usable
    expect(page.get_by_text("above, below 20°")).to_be_visible()
    page.get_by_role("link", name="Change thresholds").click()
    page.get_by_label("Target at least this high, °").fill("95")
    page.get_by_role("button", name="Save").click()
    assert page.get_by_label("Target at least this high, °").evaluate("e => e.validity.rangeOverflow")


def test_a_horizon_is_drawn_with_keys_alone(entered, tide):
    page = entered
    page.goto(reverse("horizon", args=[tide.pk]))
    points = page.locator("#horizon #points circle")
    expect(points).to_have_count(16)
    page.get_by_role("button", name="Make it flat").click()
    expect(points).to_have_count(0)
    page.locator("#horizon").focus()
    page.keyboard.press("Enter")
    expect(page.locator("#said")).to_have_text("azimuth 180.0°, altitude 5.0°")
    for key in ("ArrowRight", "ArrowRight", "ArrowUp"):
        page.keyboard.press(key)
    expect(page.locator("#said")).to_have_text("azimuth 182.0°, altitude 5.5°")
    expect(points.first).to_have_class("chosen")
    page.keyboard.press("Enter")
    expect(points).to_have_count(2)
    page.keyboard.press("Delete")
    expect(points).to_have_count(1)
    page.keyboard.press("Control+z")
    expect(points).to_have_count(2)
    page.get_by_role("button", name="Undo").click()
    expect(points).to_have_count(1)
    page.get_by_role("button", name="Keep this horizon").click()
    expect(points).to_have_count(1)
    tide.refresh_from_db()
    assert tide.horizon == [[182.0, 5.5]]


def test_a_pack_list_is_ticked_and_grows(entered, shot):
    page = entered
    page.set_viewport_size({"width": 390, "height": 844})
    page.goto(reverse("pack", args=[shot.pk]))
    boots = page.locator("li", has_text="Boots")
    expect(boots).to_contain_text("tide or water")
    boots.locator("button.tick").click()
    expect(page.locator("li", has_text="Boots").locator("button.tick")).to_have_attribute(
        "aria-pressed", "true"
    )
    page.get_by_label("Something of your own").fill("Thermos")
    page.get_by_role("button", name="Add").click()
    expect(page.locator("li", has_text="Thermos")).to_contain_text("yours")
    page.get_by_role("button", name="Leave out Lens cloth").click()
    expect(page.locator("li", has_text="Lens cloth")).to_have_count(0)
    expect(page.locator("li", has_text="whistle")).to_have_count(1)
    page.get_by_role("button", name="I am not going alone").click()
    expect(page.locator("li", has_text="whistle")).to_have_count(0)
    expect(page.locator("li", has_text="Boots").locator("button.tick")).to_have_attribute(
        "aria-pressed", "true"
    )


def test_dangers_of_a_site_are_chosen_and_reach_card_and_plan(entered, tide, shot):
    page = entered
    page.goto(reverse("site", args=[tide.pk]))
    expect(page.get_by_label("tide or water")).to_be_checked()
    page.get_by_label("edge or drop").check()
    page.get_by_label("private ground").uncheck()
    page.get_by_role("button", name="Keep this site").click()
    page.goto(reverse("card", args=[shot.pk]))
    expect(page.get_by_text("Known here: tide or water, edge or drop.")).to_be_visible()
    page.goto(reverse("night-plan", args=[tide.pk, "2027-06-09"]))
    expect(page.get_by_text("Known here: tide or water, edge or drop.")).to_be_visible()
    page.goto(reverse("pack", args=[shot.pk]))
    expect(page.get_by_text("The ground walked once by day")).to_be_visible()


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


def test_two_pictures_side_by_side_move_together(entered, small_stack):
    page = entered
    frame = small_stack.take.frame_set.first()
    page.goto(f"{reverse('compare')}?a=stack:{small_stack.pk}&b=frame:{frame.pk}")
    images = page.locator("#pair .viewer img")
    expect(images).to_have_count(2)
    until(page, "[...document.querySelectorAll('#pair img')].every((i) => i.naturalWidth > 0)")
    lefts = [i.evaluate("e => parseFloat(e.style.left)") for i in images.all()]
    page.locator("#pair").focus()
    page.keyboard.press("ArrowRight")
    moved = [i.evaluate("e => parseFloat(e.style.left)") for i in images.all()]
    assert all(b - a == pytest.approx(-60, abs=6) for a, b in zip(lefts, moved, strict=True))
    page.keyboard.press("+")
    expect(page.locator("#magnified")).to_contain_text("125 %")
    page.keyboard.press("0")
    assert [i.evaluate("e => parseFloat(e.style.left)") for i in images.all()] == pytest.approx(lefts, abs=1)
    first = images.first.get_attribute("src")
    page.keyboard.press("f")
    assert images.first.get_attribute("src") != first


def test_the_keys_of_a_page_are_named_on_it(entered, tide):
    page = entered
    page.goto(reverse("season", args=[tide.pk, 2027]))
    page.keyboard.press("?")
    expect(page.get_by_role("dialog")).to_contain_text("Open the night")
    page.keyboard.press("Escape")
    expect(page.get_by_role("dialog")).to_have_count(0)
