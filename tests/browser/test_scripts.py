"""What the scripts compute, asked of them in the browser as pages import them; expected values by hand."""

import json
import math
from datetime import datetime
from zoneinfo import ZoneInfo

import pytest
from django.urls import reverse

pytestmark = pytest.mark.django_db(transaction=True)


@pytest.fixture
def ask(page):
    """Call a function of a script with plain arguments."""
    page.goto(reverse("sign-in"))

    def called(script, function, *arguments):
        given = ", ".join(json.dumps(a) for a in arguments)
        return page.evaluate(f"import('/static/js/{script}.js').then((m) => m.{function}({given}))")

    return called


def test_the_timer_counts_delay_frames_gaps_and_the_lamp(ask):
    run = {"delay": 3, "exposure": 10, "gap": 1.5, "frames": 2, "lamp": 4}
    assert ask("field/timer-moments", "moments", run) == [
        [0, "delay", 0],
        [3, "open", 1],
        [3.5, "lamp", 1],
        [7.5, "dark", 1],
        [13, "gap", 1],
        [14.5, "open", 2],
        [24.5, "done", 2],
    ]
    plain = ask("field/timer-moments", "moments", {**run, "lamp": 0, "frames": 0})
    assert [phase for _, phase, _ in plain] == ["delay", "open", "done"]  # one frame at least
    long = ask("field/timer-moments", "moments", {**run, "frames": 240})
    assert long[-1] == [3 + 239 * 11.5 + 10, "done", 240]  # nothing adds up along the way
    assert [ask("field/timer-moments", "clock", s) for s in (0, 59.9, 60, 3671)] == [
        "0:00",
        "0:59",
        "1:00",
        "61:11",
    ]


def test_a_horizon_is_edited_within_its_bounds(ask):
    points = [[10, 5], [350, 15]]
    assert ask("planning/horizon-profile", "moved", points, 0, [-20, 2]) == [[0, 7], [350, 15]]
    assert ask("planning/horizon-profile", "moved", points, 1, [20, 90]) == [[10, 5], [359.9, 40]]
    assert ask("planning/horizon-profile", "removed", points, 0) == [[350, 15]]
    # between 350 and 10 degrees the profile runs straight: halfway at north
    assert ask("planning/horizon-profile", "northAltitude", points) == 10
    # the middle of the drawing looks south; 270 units high hold -5 to 40 degrees
    assert ask("planning/horizon-profile", "directionAt", 576, 270 - 25 / 45 * 270) == [180, 20]
    path = ask("planning/horizon-profile", "hillsPath", points)
    assert path == "M0 180L32 210L1120 150L1152 180V270H0Z"
    assert ask("planning/horizon-profile", "hillsPath", []) == "M0 240H1152V270H0Z"


def test_the_skyline_lies_as_a_cylinder_round_the_stand(ask):
    view = {"width": 1200, "height": 490, "centre": 350, "span": 120}
    assert ask("planning/skyline-geometry", "xOf", 350, view) == 600
    assert ask("planning/skyline-geometry", "xOf", 10, view) == 800  # 20 degrees on, over north
    assert ask("planning/skyline-geometry", "xOf", 330, view) == 400
    assert ask("planning/skyline-geometry", "yOf", -8, view) == 490
    assert ask("planning/skyline-geometry", "highest", view) == 41
    assert ask("planning/skyline-geometry", "yOf", 41, view) == 0
    assert ask("planning/skyline-geometry", "highest", {**view, "height": 4900}) == 90
    assert ask("planning/skyline-geometry", "groundLine", []) == [
        [-720, 0],
        [-360, 0],
        [0, 0],
        [360, 0],
        [720, 0],
    ]
    line = ask("planning/skyline-geometry", "groundLine", [[20, 3], [200, 8]])
    assert [a for a, _ in line] == sorted(a for a, _ in line) and len(line) == 8


def test_the_strip_gives_the_nearest_sample_and_the_height_of_its_curve(ask):
    samples = [{"t": t} for t in (0, 300, 600)]
    assert [ask("planning/strip-geometry", "nearestSample", samples, t) for t in (-50, 149, 151, 9000)] == [
        0,
        0,
        1,
        2,
    ]
    curve = "M10.0 50.0L20.0 40.0L30.0 30.0 M100.0 20.0L110.0 10.0"
    assert ask("planning/strip-geometry", "heightAlong", curve, 21) == 40
    assert ask("planning/strip-geometry", "heightAlong", curve, 104) == 20
    assert (
        ask("planning/strip-geometry", "heightAlong", curve, 60) is None
    )  # the target is below the ground there


@pytest.mark.parametrize("zone", ["Europe/Lisbon", "Africa/Johannesburg", "America/Santiago"])
@pytest.mark.parametrize(("day", "minutes"), [(0, 0), (160, 615), (300, 1015)])
def test_a_row_of_the_season_sheet_is_wall_clock_time(ask, zone, day, minutes):
    there = datetime.fromtimestamp(
        ask("planning/season-clock", "unixOf", 2027, day, 16, minutes, zone), ZoneInfo(zone)
    )
    hour, minute = divmod(16 * 60 + minutes, 60)
    assert (there.hour, there.minute) == (hour % 24, minute)
    assert there.timetuple().tm_yday == day + 1 + hour // 24


def test_the_finish_draws_the_curve_that_the_core_applies(ask):
    from scipy.interpolate import PchipInterpolator

    points = [[0.2, 0.1], [0.5, 0.6], [0.8, 0.72]]
    drawn = ask("bench/finish-recipe", "curve", points, 40)
    wanted = PchipInterpolator([0, *(p[0] for p in points), 1], [0, *(p[1] for p in points), 1])
    assert [y for _, y in drawn] == pytest.approx([float(wanted(x)) for x, _ in drawn], abs=1e-9)
    assert ask("bench/finish-recipe", "curve", [], 4) == [[k / 4, pytest.approx(k / 4)] for k in range(5)]


def test_what_a_line_of_the_ladder_says_and_where_a_place_lies(ask):
    values = [
        {"value": 1.1, "rest": "0.0", "unit": "mag"},
        {"value": 0, "rest": "0.0", "unit": "EV"},
        {"value": -0.5, "rest": "0.0", "unit": "EV"},
        {"value": 0.3, "rest": "0.0", "unit": "%"},
    ]
    assert ask("bench/finish-recipe", "summary", values) == "1.10 mag · −0.50 EV · 1 more"
    assert ask("bench/finish-recipe", "summary", [{"value": "full", "rest": "full"}]) == "as it is"
    turned = [[0.001, -0.0002, 0.1], [0.0003, 0.0012, 0.05], [0, 0, 1]]
    there = ask("bench/finish-recipe", "toShares", turned, 300, 200)
    assert there == pytest.approx([0.3 - 0.04 + 0.1, 0.09 + 0.24 + 0.05])
    assert ask("bench/finish-recipe", "fromShares", turned, *there) == pytest.approx([300, 200])
    upright = [[0.001, -0.0002, 0.1], [0.0003, 0.0012, 0.05], [1e-5, 3e-4, 1]]
    there = ask("bench/finish-recipe", "toShares", upright, 300, 200)
    assert there == pytest.approx([0.36 / 1.063, 0.38 / 1.063])
    assert ask("bench/finish-recipe", "fromShares", upright, *there) == pytest.approx([300, 200])
    # a crop of a picture shown whole: in the middle the largest of its proportion, at the edge brought in
    whole = [[1 / 800, 0, 0.5 / 800], [0, 1 / 600, 0.5 / 600], [0, 0, 1]]
    square = {"ratio": "1:1", "aspect": 1.5, "size": 0.5, "x": 0.5, "y": 0.5}
    found = ask("bench/finish-recipe", "cropFrame", square, whole, [800, 600])
    assert [found[k] for k in "xywh"] == pytest.approx([400.5, 300.5, 300, 300], abs=2)
    edge = ask("bench/finish-recipe", "cropFrame", {**square, "x": 0.95}, whole, [800, 600])
    assert 640 < edge["x"] <= 652 and edge["w"] == pytest.approx(300, abs=2)
    free = ask(
        "bench/finish-recipe", "cropFrame", {**square, "ratio": "free", "aspect": 2.0}, whole, [800, 600]
    )
    assert free["w"] / free["h"] == pytest.approx(2.0) and free["w"] == pytest.approx(400, abs=2)
    # drawn aside, a frame as tall as a turned picture slides along its slanted edge instead of sticking
    c, k = math.cos(math.radians(3)), math.sin(math.radians(3))
    leaning = [
        [c / 800, -k / 800, 0.5 - (400 * c - 300 * k) / 800],
        [k / 600, c / 600, 0.5 - (400 * k + 300 * c) / 600],
    ]
    leaning = [*leaning, [0, 0, 1]]
    frame = ask("bench/finish-recipe", "cropFrame", {**square, "size": 1.0}, leaning, [800, 600])
    was, size = [frame["x"], frame["y"]], (frame["w"], frame["h"])
    for _ in range(5):
        now = ask("bench/finish-recipe", "slid", leaning, [was[0] - 12, frame["y"]], was, *size)
        assert now[0] == pytest.approx(was[0] - 12) and abs(now[1] - was[1]) < 2
        was = now
    assert ask("bench/finish-recipe", "holds", leaning, was, size[0] * 0.999, size[1] * 0.999)
    assert ask("bench/finish-recipe", "slid", leaning, [-900, -900], was, *size) == was
    # a horizon that falls to the right by 5 in 100 is turned back anticlockwise
    assert ask("bench/finish-recipe", "lean", 0, 0, 100, 5) == pytest.approx(-2.8624, abs=1e-3)
    assert ask("bench/finish-recipe", "lean", 100, 5, 0, 0) == pytest.approx(-2.8624, abs=1e-3)
    assert (
        ask("bench/finish-recipe", "text", {"b": 1, "a": [{"d": 2, "c": 3}]}) == '{"a":[{"c":3,"d":2}],"b":1}'
    )


def test_a_drawing_is_laid_out_anew_for_a_narrow_page(ask):
    """A plot of 800 units on 400: places halve, margins keep their distance, relative moves their size."""
    places = [ask("shared/drawings", "placed", x, 800, 400) for x in (-10, 0, 200, 800, 812)]
    assert places == [-10, 0, 100, 400, 412]
    # a plot that begins at 40: the words before it keep their distance from its edge
    begun = [ask("shared/drawings", "placed", x, 840, 440, 40) for x in (35, 40, 440, 840)]
    assert begun == [35, 40, 240, 440]
    assert ask("shared/drawings", "placedPath", "M100 20L300 -40H500V7h7m-3 2Z", 800, 400) == (
        "M50 20L150 -40H250V7h7m-3 2Z"
    )
    assert ask("shared/drawings", "placedPoints", "0,1 300,20.5 800,3", 800, 400) == "0,1 150,20.5 400,3"


def test_a_long_name_is_cut_where_it_fits(page):
    page.goto(reverse("sign-in"))
    cut = """([text, most]) => import('/static/js/field/point-geometry.js')
      .then((m) => m.beginning(text, (t) => t.length <= most))"""
    assert page.evaluate(cut, ["lamp by the yard", 16]) == "lamp by the yard"
    assert page.evaluate(cut, ["lamp by the yard", 9]) == "lamp by…"  # no blank before the dots
    assert page.evaluate(cut, ["lamp", 1]) == "l…"
