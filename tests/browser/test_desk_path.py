"""At the desk with hand on keys and pointer: what moves, what is kept, what comes back."""

import re

import pytest
from django.urls import reverse
from playwright.sync_api import expect

from tests.browser.waiting import until

pytestmark = pytest.mark.django_db(transaction=True)


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
