"""Drawings as they stand in the page: places worked by hand, read out of the SVG."""

import re
from datetime import date
from itertools import pairwise
from types import SimpleNamespace
from xml.etree import ElementTree

import numpy as np
import pytest
from django.template import engines

from vinter.core.forecast import Hour
from vinter.core.sky.glow import bearing_distance, glow
from vinter.core.sky.nights import nights
from vinter.core.sky.site import Site
from vinter.web.nights.dome import RADIUS, dome
from vinter.web.nights.drawing import draw, embers, tones
from vinter.web.nights.templatetags.nights_drawings import bracket_path
from vinter.web.stacks.templatetags.stacks_drawings import CAPTIONS

MILL = Site(lat=37.702, lon=-8.772, tz="Europe/Lisbon", zenith=21.5)
JUNE = date(2027, 6, 9)


def svg(source, **context):
    """The drawing that a piece of template makes, as a tree without namespaces."""
    text = engines["django"].from_string(source).render(context)
    return ElementTree.fromstring(text.strip())


def words(tree):
    return [" ".join(t.text.split()) for t in tree.iter("text")]


def numbers(path):
    return np.array([float(v) for v in re.findall(r"-?[\d.]+", path)])


@pytest.fixture(scope="module")
def night():
    return nights(MILL, JUNE, JUNE)[0]


def test_a_bracket_closes_on_both_sides():
    assert bracket_path(10, 50, -8, 228, 7) == "M10 -8m7 0h-7V228h7M50 -8m-7 0h7V228h-7"


def test_the_strip_holds_its_window_between_brackets(night):
    strip = draw(MILL, night)
    tree = svg(
        "{% load nights_drawings %}{% night_strip strip tz 'x' at_x=100 %}", strip=strip, tz="Europe/Lisbon"
    )
    brackets = [p for p in tree.iter("path") if p.get("class") == "bracket"]
    assert len(brackets) == len(night.windows) == 1
    span = numbers(brackets[0].get("d"))
    width = strip.end - strip.start
    for edge in (night.best.start, night.best.end):
        assert np.abs(span - (edge - strip.start) / width * 860).min() < 0.01
    texts = words(tree)
    assert {"23:02", "04:19"} <= set(texts) and "01" in texts and "40°" in texts
    assert (
        tree.find("rect").get("data-part") == "sky"
        and float(tree.find("line[@class='cursor']").get("x1")) == 100
    )
    bare = svg(
        "{% load nights_drawings %}{% night_strip strip tz 'x' bare=True %}", strip=strip, tz="Europe/Lisbon"
    )
    assert "40°" not in words(bare) and bare.find("line[@class='cursor']") is None


def test_the_core_is_drawn_as_high_as_it_stands(night):
    strip = draw(MILL, night)
    tree = svg("{% load nights_drawings %}{% night_strip strip tz 'x' %}", strip=strip, tz="Europe/Lisbon")
    core = next(p for p in tree.iter("path") if p.get("data-part") == "core")
    points = numbers(core.get("d")).reshape(-1, 2)
    top = points[np.argmin(points[:, 1])]
    # 220 units hold 45 degrees; the core culminates at 90 - 37.70 - 29.01 = 23.3 degrees, plus refraction's
    # 0.04
    assert (220 - top[1]) / 220 * 45 == pytest.approx(23.3, abs=0.2)


def test_dark_is_dark_and_the_red_strip_holds_no_other_colour(night):
    colours, red = tones(night.strip), embers(night.strip)
    middle = np.argmin(np.abs(night.strip.t - night.best.best.t))
    assert colours[middle].sum() < 0.4 * colours[0].sum()
    assert (red[:, 1:] == 0).all() and red[middle, 0] < 40 < red[0, 0]
    strip = draw(MILL, night, 350, 34, red=True)
    tree = svg("{% load nights_drawings %}{% red_strip strip tz %}", strip=strip, tz="Europe/Lisbon")
    for e in tree.iter():
        for key in ("fill", "stroke", "stop-color"):
            colour = e.get(key, "none")
            assert (
                colour == "none" or colour.startswith("url") or re.fullmatch(r"#[0-9a-f]{2}0000", colour)
            ), colour


def test_frames_are_marked_where_they_were_shot(night):
    strip = draw(MILL, night, 420, 30)
    tree = svg(
        "{% load nights_drawings %}{% frames_strip strip tz 3 marks %}",
        strip=strip,
        tz="Europe/Lisbon",
        marks=[10.0, 200.5],
    )
    assert [float(line.get("x1")) for line in tree.iter("line")] == [10.0, 200.5]
    first, last = (60 * int(c[:2]) + int(c[3:]) for c in words(tree))
    # the drawing begins before the Sun sets (20:56 at the mill) and ends after it has risen (06:13)
    assert 30 > 20 * 60 + 56 - first > 0 < last - (6 * 60 + 13) < 30


def test_costs_stand_on_each_other_from_the_top(night):
    strip = draw(MILL, night)
    tree = svg("{% load nights_drawings %}{% night_costs strip %}", strip=strip)
    names = [p.get("class") for p in tree.iter("path")]
    assert names == ["c-towns", "c-moon", "c-twilight"]
    lines = [line for line in tree.iter("line") if line.get("stroke") == "#c3cbd3"]
    assert [float(line.get("y1")) for line in lines] == [37.5, 75, 112.5, 150]
    areas = [numbers(p.get("d")).reshape(-1, 2) for p in tree.iter("path")]
    n = len(areas[0]) // 2
    for above, below in pairwise(areas):
        assert above[n:][::-1][:, 1] == pytest.approx(
            below[:n, 1], abs=0.11
        )  # one ends where the next begins


def test_the_dome_shows_the_sky_from_below(night):
    found = dome(MILL, night)
    core = numbers(found.core).reshape(-1, 2)
    assert (core[:, 1] > 0).all()  # the core stays south: below the middle
    assert core[0, 0] < 0 < core[-1, 0]  # it rises in the east, on the left, and sets in the west
    radius = np.hypot(*core.T)
    assert radius.max() == pytest.approx(RADIUS, abs=8) and radius.min() == pytest.approx(
        (90 - 23.3) / 90 * RADIUS, abs=0.6
    )
    town = glow(MILL.lat, MILL.lon).towns[0]
    x, y, name = found.towns[0]
    assert name == town.name and np.degrees(np.arctan2(-x, -y)) % 360 == pytest.approx(town.azimuth, abs=0.5)
    tree = svg("{% load nights_drawings %}{% sky_dome dome %}", dome=found)
    assert words(tree) == ["N", "S", "E", "W"]
    assert len(list(tree.iter("title"))) == 3 * 24


def test_glow_is_strongest_towards_the_nearest_city():
    """Forty kilometres south of a city of half a million the brightest wedge of the lowest ring looks
    north."""
    lisbon = (38.72, -9.14)
    site = Site(lat=lisbon[0] - 0.36, lon=lisbon[1], tz="Europe/Lisbon")
    assert bearing_distance(site.lat, site.lon, *lisbon)[0] % 360 == pytest.approx(0, abs=1)
    found = dome(site, nights(site, JUNE, JUNE)[0])
    lowest = found.glow[:24]
    brightest = min(range(24), key=lambda i: lowest[i][2])
    assert brightest in (23, 0)


def test_no_dome_and_no_strip_where_the_sun_never_sets():
    north = Site(lat=78.2, lon=15.6, tz="Arctic/Longyearbyen")
    night = nights(north, date(2027, 6, 21), date(2027, 6, 21))[0]
    assert dome(north, night) is None and draw(north, night) is None


def test_a_trail_map_is_as_dark_as_trails_are_long():
    cells = [[0.0, 2.0, 4.0], [8.0, 16.0, 4.0]]
    tree = svg("{% load shots_drawings %}{% trail_map cells grid 4.0 %}", cells=cells, grid=[[1.5, 2.5]])
    inks = [float(r.get("fill-opacity")) for r in tree.iter("rect")]
    assert inks == [0.08, 0.29, 0.5, 0.92, 0.92, 0.5]  # full at twice the 4 px allowed
    assert [float(r.get("x")) for r in tree.iter("rect")] == [0, 90, 180, 0, 90, 180]
    assert words(tree) == ["1.5", "2.5"]
    assert [t.text.strip() for t in tree.iter("title")][:2] == ["0.0 px", "2.0 px"]


def test_hours_are_dark_as_far_as_the_sky_is_free():
    calm = {"cloud_mid": 0, "cloud_high": 0, "humidity": 0.5, "dew_point": 5, "wind": 1, "temperature": 12}
    hours = [Hour(t=1812585600.0 + 3600 * i, cloud_low=c, **calm) for i, c in enumerate((0.0, 0.5, 1.0))]
    tree = svg("{% load forecast_drawings %}{% sky_chance hours tz %}", hours=hours, tz="UTC")
    free = [float(g.findall("rect")[1].get("height")) for g in tree.iter("g")]
    assert free == pytest.approx([50 * h.clear for h in hours], abs=0.05) and free[0] > free[1] > free[2]
    assert words(tree) == ["02:00"]  # every third hour: midnight, one, two
    row = svg("{% load forecast_drawings %}{% free_hours hours tz %}", hours=hours, tz="UTC")
    assert len(row.findall("svg")) == 3 and "00:00" in row.get("aria-label")


def test_star_shapes_lean_as_the_stars_do():
    measure = {
        "shapes": [{"column": 1, "row": 2, "fwhm": 3.0, "elongation": 1.5, "angle": 30.0}],
        "shapes_say": "long towards the corner",
    }
    tree = svg("{% load takes_drawings %}{% star_shapes measure %}", measure=measure)
    (ellipse,) = tree.iter("ellipse")
    assert (ellipse.get("cx"), ellipse.get("cy")) == ("1.5", "2.5")
    ratio = float(ellipse.get("rx")) / float(ellipse.get("ry"))
    assert ratio == pytest.approx(1.5**2, rel=0.01) and "rotate(30.0 1.5 2.5)" in ellipse.get("transform")
    assert tree.get("aria-label") == "Star shapes: long towards the corner"


@pytest.mark.parametrize("what", sorted(CAPTIONS))
def test_a_strip_of_bars_says_what_it_shows(what):
    strip = {"bars": [{"x": 1, "y": 2, "width": 3, "height": 4}], "most": 2.345}
    tree = svg(
        "{% load stacks_drawings %}{% frame_bars what strip breaks line_y=9.5 %}",
        what=what,
        strip=strip,
        breaks=[40.0],
    )
    caption = CAPTIONS[what]
    assert tree.get("aria-label") == caption.label
    texts = words(tree)
    assert texts == [f"{2.345:.{caption.digits}f} {caption.unit}", "0", caption.words]
    dashed, knocked = tree.findall("line")
    assert (
        dashed.get("y1") == "9.5" and knocked.get("x1") == "40.0" and "knocked" in knocked.find("title").text
    )


def test_the_season_sheet_asks_for_what_it_shows():
    sheet = SimpleNamespace(
        year=2027,
        days=365,
        months=[(0.0, "Jan"), (51.0, "Feb")],
        hours=[(91.8, "18")],
        brackets=[{"x0": 100.0, "x1": 300.0, "y0": 200.0, "y1": 220.0}],
    )
    tree = svg(
        "{% load nights_drawings %}{% season_sheet site sheet 'target=moon' %}",
        site=SimpleNamespace(pk=7, tz="Europe/Lisbon"),
        sheet=sheet,
    )
    assert tree.find("image").get("href") == "/sites/7/season/2027.png?target=moon"
    assert tree.get("data-read") == "/sites/7/season/minute.json" and tree.get("data-days") == "365"
    assert tree.find("path").get("d") == "M100 200m6 0h-6V220h6M300 200m-6 0h6V220h-6"
    assert words(tree) == ["Jan", "Feb", "18", "1"]
