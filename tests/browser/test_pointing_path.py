"""The page that points, with the orientation that the browser is given."""

import re
import time
from datetime import UTC, datetime

import numpy as np
import pytest
from django.urls import reverse
from playwright.sync_api import expect

from tests.browser.abroad import PLACES, at
from vinter.core.camera.projection import Pose
from vinter.core.field.pointing import held, known_marks, turn_to
from vinter.core.ground.magnetic import declination
from vinter.web.shots.models import Shot

pytestmark = pytest.mark.django_db(transaction=True)


def opened(phone, shot):
    phone.turned(10, 80, 0)
    phone.goto(reverse("point", args=[shot.pk]))
    phone.get_by_role("button", name="Start", exact=True).click()
    phone.locator("body[data-sensor=yes]").wait_for()


def shown(phone, wanted):
    """The figures of the arrow once they stand still near those wanted."""
    end = time.monotonic() + 20
    while time.monotonic() < end:
        found = np.array([float(v) for v in (phone.locator("body").get_attribute("data-turn")).split()])
        if np.abs(found - wanted).max() < 0.1:
            return found
        phone.wait_for_timeout(50)
    raise AssertionError(f"{found} is not {wanted}")


@pytest.mark.long("the phone is turned to directions all over the sky, one after another")
@pytest.mark.parametrize("place", PLACES)
def test_the_arrows_figures_are_those_of_the_cores_geometry(phone, nerea, place):
    shot = at(place, nerea)
    north = declination(shot.site.lat, shot.site.lon, 0.0, shot.moment)
    opened(phone, shot)
    drawn = np.random.default_rng(len(place))
    for _ in range(12):
        angles = drawn.uniform(0, 360), drawn.uniform(40, 150), drawn.uniform(-50, 50)
        phone.turned(*angles)
        now = held(*angles)
        turn = turn_to(Pose(north.true(now.azimuth), now.altitude, now.roll), shot.pose)
        shown(phone, np.array([turn.right, turn.up, turn.clockwise]))


def test_one_aim_takes_out_what_the_compass_is_off_by_and_the_page_says_so(phone, nerea):
    shot = at("sheepfold", nerea)
    north = declination(shot.site.lat, shot.site.lon, 0.0, shot.moment)
    assert north.degrees == pytest.approx(-26, abs=1)
    mark = next(m for m in known_marks(shot.site.core(), shot.moment) if m.altitude < 60)
    opened(phone, shot)
    # held upright towards the mark, by a compass that shows 17 degrees too much
    alpha = -(north.compass(mark.azimuth) + 17) % 360
    phone.turned(alpha, 90 + mark.altitude, 0)
    expect(phone.locator("#compass")).to_contain_text("aim at something known")
    wanted = turn_to(Pose(mark.azimuth + 17, mark.altitude, 0), shot.pose)
    shown(phone, np.array([wanted.right, wanted.up, wanted.clockwise]))
    phone.get_by_label("The phone points at").select_option(mark.name)
    phone.get_by_role("button", name="I am aiming at it").click()
    turn = turn_to(Pose(mark.azimuth, mark.altitude, 0), shot.pose)
    shown(phone, np.array([turn.right, turn.up, turn.clockwise]))
    expect(phone.locator("#compass")).to_contain_text("17.0° off, by")
    # and where the arrow has led, it stands still
    there = -(north.compass(shot.pose.azimuth) + 17) % 360, 90 + shot.pose.altitude, 0
    phone.turned(*there)
    expect(phone.locator("#turn")).to_have_text("There")
    phone.reload()  # the aim is kept on the phone
    phone.get_by_role("button", name="Start", exact=True).click()
    phone.locator("body[data-sensor=yes]").wait_for()
    phone.turned(*there)
    expect(phone.locator("#turn")).to_have_text("There")


def test_without_sensors_the_star_and_the_hands_lead_and_at_a_desk_the_arrow_keys(phone, nerea):
    shot = Shot.objects.get(owner=nerea)
    phone.goto(reverse("point", args=[shot.pk]))
    expect(phone.locator("#hands")).to_contain_text("From ")
    expect(phone.locator("#turn")).to_contain_text("a compass shows")
    phone.keyboard.press("ArrowRight")
    before = float(phone.locator("body").get_attribute("data-turn").split()[0])
    phone.keyboard.press("Shift+ArrowRight")
    phone.wait_for_function(f"Math.abs(+document.body.dataset.turn.split(' ')[0] - {before - 10}) < 0.01")
    clock = phone.locator("#clock").inner_text()
    phone.locator("#when").focus()
    for _ in range(90):
        phone.keyboard.press("ArrowRight")
    assert phone.locator("#clock").inner_text() != clock
    assert phone.faults == []


def test_the_card_knows_the_minute_and_what_comes_next_also_as_one_file(phone, nerea, tmp_path):
    shot = Shot.objects.get(owner=nerea)
    night = shot.found_night()
    setting = night.moon["set"][0]
    phone.clock.set_fixed_time(datetime.fromtimestamp(setting - 3720, UTC))
    saved = tmp_path / "card.html"
    saved.write_bytes(phone.request.get(reverse("card-file", args=[shot.pk])).body())
    for address in (reverse("card", args=[shot.pk]), saved.as_uri()):
        phone.goto(address)
        minute = phone.get_by_label("The night by the minute")
        expect(minute).to_contain_text("Now, ")
        expect(minute).to_contain_text("Moon sets")
        expect(minute).to_contain_text("in 1 h 02")
        # an hour before it is at its best the core is aimed at farther east
        now = minute.locator("[data-minute=point]").inner_text()
        assert float(re.search(r"az (\d+)", now)[1]) < shot.pose.azimuth
        for _ in range(64):
            minute.locator("input").press("ArrowRight")
        expect(minute).not_to_contain_text("Moon sets")
        minute.get_by_role("button", name="Now").click()
        expect(minute).to_contain_text("in 1 h 02")
