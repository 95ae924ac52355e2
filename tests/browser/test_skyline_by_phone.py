"""The skyline tapped with the phone held along it: by its compass, its declination and an aim, without
signal, and home in the site's horizon once."""

import numpy as np
import pytest
from django.urls import reverse
from playwright.sync_api import expect

from tests.browser.abroad import at
from vinter.core.ground.magnetic import declination
from vinter.web.sites.models import Site, StrayLight

pytestmark = pytest.mark.django_db(transaction=True)
LINE = [(100.0, 3.0), (118.0, 12.0), (150.0, 12.0), (151.0, 2.0), (170.0, 1.0)]  # azimuth and altitude, true


def along(phone, compass_of, azimuth, altitude):
    """Turn the phone to a direction and wait until the page shows it."""
    phone.turned(-compass_of(azimuth) % 360, 90 + altitude, 0)
    expect(phone.locator("#turn")).to_contain_text(f"az {azimuth:.0f}°", timeout=20_000)
    phone.wait_for_timeout(250)  # the reading follows calmly: let it stand


def opened(phone, shot):
    phone.goto(reverse("card", args=[shot.pk]))
    phone.locator("html[data-kept=yes]").wait_for(timeout=20_000)
    phone.turned(10, 80, 0)
    phone.goto(reverse("field-skyline", args=[shot.pk]))
    phone.locator("html[data-kept=yes]").wait_for(timeout=20_000)


@pytest.mark.long("a person's path by the phone's sensors, whose readings are followed calmly")
def test_a_tapped_skyline_is_the_sites_horizon_and_what_it_does_not_cover_stays(phone, nerea):
    shot = at("sheepfold", nerea)
    site = shot.site
    site.horizon = [[0.0, 5.0], [90.0, 4.0], [130.0, 30.0], [200.0, 6.0]]
    site.landmarks = [["mast", 140.0, 8.0]]
    site.save()
    north = declination(site.lat, site.lon, 0.0, shot.moment)
    off = 9.0  # by which this phone's compass shows too much

    def compass_of(azimuth):
        return north.compass(azimuth) + off

    opened(phone, shot)
    phone.context.set_offline(True)
    phone.reload()
    phone.get_by_role("button", name="Start", exact=True).click()
    phone.locator("body[data-sensor=yes]").wait_for()
    phone.turned(-compass_of(140.0) % 360, 98, 0)
    expect(phone.locator("#turn")).to_contain_text("az 149°", timeout=20_000)  # before the aim
    phone.wait_for_timeout(300)
    phone.get_by_role("button", name="I am aiming at it").click()
    expect(phone.locator("#compass")).to_contain_text("9.0° off, by mast")
    for azimuth, altitude in LINE:
        along(phone, compass_of, azimuth, altitude)
        phone.get_by_role("button", name="Corner here").click()
    expect(phone.locator("#turn")).to_contain_text("5 corners")
    phone.reload()  # what was tapped is still there
    phone.get_by_role("button", name="Start", exact=True).click()
    phone.locator("body[data-sensor=yes]").wait_for()
    expect(phone.locator("body")).to_have_attribute("data-corners", "5")
    phone.get_by_role("button", name="Keep skyline").click()
    along(phone, compass_of, 118.0, 12.0)
    phone.get_by_label("What stands or shines here").fill("chapel")
    phone.get_by_role("button", name="Landmark here").click()
    phone.get_by_label("What stands or shines here").fill("yard lamp")
    phone.get_by_role("button", name="Lamp here").click()
    expect(phone.locator("#waits")).to_contain_text("wait on this phone")
    phone.context.set_offline(False)
    phone.evaluate("dispatchEvent(new Event('online'))")
    expect(phone.locator("#waits")).to_be_hidden(timeout=20_000)

    site = Site.objects.get(pk=site.pk)
    found = np.array(site.horizon)
    traced = found[(found[:, 0] > 95) & (found[:, 0] < 175)]
    assert np.abs(traced - np.array(LINE)).max() < 0.3  # and the old peak at 130 degrees is gone
    assert [90.0, 4.0] in site.horizon and [200.0, 6.0] in site.horizon
    _, azimuth, altitude = next(row for row in site.landmarks if row[0] == "chapel")
    assert abs(azimuth - 118) < 0.3 and abs(altitude - 12) < 0.3
    assert StrayLight.objects.get(site=site).words == "yard lamp"
    phone.goto(reverse("point", args=[shot.pk]))
    assert "chapel" in phone.locator("#mark").inner_text()  # to aim at by night
