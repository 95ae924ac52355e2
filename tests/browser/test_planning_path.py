"""From a list of places to a stand at a minute: a person's path through planning, in a real browser."""

import re

import cv2
import gpxpy
import numpy as np
import pytest
from icalendar import Calendar
from playwright.sync_api import expect

GPX = """<?xml version="1.0"?><gpx version="1.1" creator="trip" xmlns="http://www.topografix.com/GPX/1/1">
<wpt lat="37.94" lon="-8.06"><ele>170</ele><name>Cork oak hill</name></wpt>
<wpt lat="37.55" lon="-8.05"><name>Reservoir</name></wpt></gpx>"""


@pytest.mark.django_db(transaction=True)
@pytest.mark.long("a person's path over seven planning pages, a cold year among them")
def test_from_places_to_a_stand(page, tmp_path, nerea):
    (tmp_path / "trip.gpx").write_text(GPX)
    page.goto("/")
    page.get_by_role("button", name="Enter as Nerea").click()

    # bring places; they stand on the map, with the sky under the pointer
    page.get_by_role("link", name="Sites", exact=True).click()
    page.wait_for_load_state("load")  # the script that sends it on has run
    with page.expect_navigation():
        page.locator("#file").set_input_files(tmp_path / "trip.gpx")
    expect(page.get_by_text("2 sites imported")).to_be_visible()
    expect(page.locator("#map .mark", has_text="Cork oak hill")).to_be_visible()
    expect(page.locator("#map .leaflet-glow-pane img")).to_have_count(1)
    page.locator("#map").click(position={"x": 620, "y": 300})
    expect(page.locator("#map .reads")).to_contain_text("mag/arcsec²")

    # draw a horizon with the pointer: a ridge over the south that hides the core
    page.locator("aside .rows").get_by_role("link", name="Cork oak hill").click()
    page.get_by_role("link", name="Draw it").click()
    page.wait_for_load_state("load")  # the script that draws has run
    box = page.locator("#horizon").bounding_box()
    scale = box["width"] / 1200

    def at(azimuth, altitude):
        x, y = azimuth / 360 * 1152, 270 - (altitude + 5) / 45 * 270
        return box["x"] + (x + 34) * scale, box["y"] + (y + 8) * scale

    for azimuth, altitude in ((90, 2), (168, 2), (170, 32), (178, 32), (180, 2), (270, 2)):
        page.mouse.click(*at(azimuth, altitude))
    expect(page.locator("#horizon circle")).to_have_count(6)
    page.get_by_role("button", name="Keep this horizon").click()
    expect(page.locator("#horizon circle")).to_have_count(6)

    # the best night of the sites within two hours, on a Friday or Saturday
    page.goto("/season/best/")
    page.get_by_text("Filters", exact=True).click()
    page.get_by_label("Fri").check()
    page.get_by_label("Sat").check()
    page.get_by_label("Drive at most, min").fill("180")
    page.get_by_role("button", name="Apply").click()
    rows = page.locator("table tbody tr")
    expect(rows).to_have_count(10)
    assert all(re.search(r"(Fri|Sat) ", text) for text in rows.all_inner_texts())
    expect(page.get_by_text("Over 3 sites")).to_be_visible()
    rows.first.get_by_role("link").first.click()
    expect(page.get_by_text(re.compile(r"From \d\d:\d\d, when"))).to_be_visible()
    expect(page.get_by_text("What to shoot, hour by hour")).to_be_visible()
    expect(page.get_by_role("link", name="Core of the galaxy").first).to_be_visible()
    with page.expect_download() as download:
        page.get_by_role("link", name="Into the calendar").click()
    events = Calendar.from_ical(download.value.path().read_bytes()).walk("VEVENT")
    assert events and all(e["DTSTART"].dt < e["DTEND"].dt and e.walk("VALARM") for e in events)

    # over the skyline: the frame follows the keys, time follows the strip
    page.get_by_role("link", name="See it over the skyline").click()
    page.wait_for_selector("#skyline[data-ready=yes][data-painted=yes]")
    before = page.locator("[data-f=frame]").inner_text()
    page.keyboard.press("Shift+ArrowRight")
    expect(page.locator("[data-f=frame]")).not_to_have_text(before)
    clock = page.locator("#clock").inner_text()
    page.keyboard.press(">")
    expect(page.locator("#clock")).not_to_have_text(clock)
    canvas = page.locator("#skyline canvas")
    picture = cv2.imdecode(np.frombuffer(canvas.screenshot(), np.uint8), cv2.IMREAD_COLOR)
    assert (picture.min(axis=2) > 230).sum() > 300  # the frame and the stars are drawn

    # where to stand: solved, carried away, seen over the skyline
    page.locator("#stand").click()
    page.get_by_label("Subject height, m").fill("8")
    page.get_by_label("Target above its top, °").fill("5")
    page.get_by_label("or bearing from the site, °").fill("170")
    page.get_by_label("and distance, m").fill("50")
    page.get_by_label("Stand within, m").fill("300")
    page.get_by_role("button", name="Solve").click()
    expect(page.locator("#stands .mark.stand").first).to_be_attached()
    with page.expect_download() as download:
        page.get_by_role("link", name="All of them as GPX").click()
    points = gpxpy.parse(download.value.path().read_text()).waypoints
    assert len(points) == page.locator("#stands .mark.stand").count() + 1
    page.get_by_role("link", name="skyline", exact=True).first.click()
    page.wait_for_selector("#skyline[data-ready=yes]")
    expect(page).to_have_url(re.compile("subject="))

    # and into a shot, with the frame as it was
    azimuth = re.search(r"az ([\d.]+)°", page.locator("[data-f=frame]").inner_text()).group(1)
    page.get_by_role("link", name="Plan a shot with this frame").click()
    expect(page.get_by_text(f"Point to azimuth {azimuth}°")).to_be_visible()
    page.get_by_role("button", name="Keep this shot").click()
    expect(page.get_by_role("link", name="Open the field card")).to_be_visible()
    assert page.faults == []


@pytest.mark.django_db(transaction=True)
def test_the_season_sheet_is_read_by_keys_and_opens_a_night(page, nerea):
    page.goto("/")
    page.get_by_role("button", name="Enter as Nerea").click()
    page.goto(f"/sites/{nerea.site_set.get(name='Tide mill').pk}/season/2027/")
    page.locator("#season").hover(position={"x": 380, "y": 260})
    expect(page.locator("#read")).to_contain_text("sky there")
    told = page.locator("#read").inner_text()
    page.keyboard.press("ArrowDown")
    page.keyboard.press("Shift+ArrowRight")
    expect(page.locator("#read")).not_to_have_text(told)
    evening = re.match(r"\w{3} (\d+ \w{3})", page.locator("#read").inner_text()).group(1)
    page.keyboard.press("Enter")
    expect(page.locator("h1")).to_contain_text(evening.split()[1])
    assert page.faults == []


@pytest.mark.long("many pages are opened at a phone's width")
@pytest.mark.django_db(transaction=True)
def test_planning_fits_a_phone(page, nerea):
    page.goto("/")
    page.get_by_role("button", name="Enter as Nerea").click()
    page.set_viewport_size({"width": 390, "height": 844})
    mill = nerea.site_set.get(name="Tide mill").pk
    for address in (
        "/sites/",
        f"/sites/{mill}/",
        f"/sites/{mill}/skyline/?t=1812588300",
        f"/sites/{mill}/stand/?height=8&gap=5&bearing=180&metres=50",
        "/season/best/",
        f"/sites/{mill}/season/2027/",
        f"/sites/{mill}/forecast/",
        f"/sites/{mill}/horizon/",
        "/preferences/",
    ):
        page.goto(address)
        page.wait_for_load_state("networkidle")
        assert page.evaluate("document.documentElement.scrollWidth") <= 391, address
    assert page.faults == []


@pytest.mark.django_db(transaction=True)
def test_the_phones_position_makes_a_site_with_its_error(page):
    page.goto("/")
    page.get_by_role("button", name="Enter as Nerea").click()
    page.goto("/sites/new/")
    page.get_by_role("button", name="Where I stand now").click()
    expect(page.locator("#here-said")).to_contain_text("not allowed")
    page.context.grant_permissions(["geolocation"])
    page.context.set_geolocation({"latitude": 37.70213, "longitude": -8.77204, "accuracy": 8.4})
    page.get_by_label("Notes").fill("Gate is closed in winter.")
    page.get_by_role("button", name="Where I stand now").click()
    expect(page.locator("#here-said")).to_have_text("± 8 m; fill in the elevation.")
    page.get_by_label("Name", exact=True).fill("The dyke")
    page.get_by_label("Elevation").fill("3")
    page.get_by_role("button", name="Keep this site").click()
    expect(page.locator("h1")).to_have_text("The dyke")
    from vinter.web.sites.models import Site

    kept = Site.objects.get(name="The dyke")
    assert (kept.lat, kept.lon, kept.elevation) == (37.70213, -8.77204, 3)
    assert kept.notes.splitlines() == ["Gate is closed in winter.", "Position by the phone, ± 8 m"]


@pytest.mark.django_db(transaction=True)
def test_the_phones_position_makes_a_stand_with_its_error(page, shot):
    page.goto("/")
    page.get_by_role("button", name="Enter as Nerea").click()
    page.context.grant_permissions(["geolocation"])
    page.context.set_geolocation({"latitude": 37.70185, "longitude": -8.77205, "accuracy": 4.2})
    page.goto(
        f"/sites/{shot.site.pk}/stand/?day=2027-06-05&height=9&gap=6&lat=37.7012&lon=-8.7723&farthest=400"
    )
    page.get_by_role("button", name="Where I stand now").click()
    expect(page.locator("main")).to_contain_text("From where you stand (± 4 m) the subject is 76 m away")
    expect(page.locator(".leaflet-container")).to_contain_text("you")
    assert page.locator("#stand-form [name=here_lat]").input_value() == "37.701850"
