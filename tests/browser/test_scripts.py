"""What the scripts compute, asked of them in the browser as pages import them; expected values by hand."""

import json
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
    assert ask("timer-moments", "moments", run) == [
        [0, "delay", 0],
        [3, "open", 1],
        [3.5, "lamp", 1],
        [7.5, "dark", 1],
        [13, "gap", 1],
        [14.5, "open", 2],
        [24.5, "done", 2],
    ]
    plain = ask("timer-moments", "moments", {**run, "lamp": 0, "frames": 0})
    assert [phase for _, phase, _ in plain] == ["delay", "open", "done"]  # one frame at least
    long = ask("timer-moments", "moments", {**run, "frames": 240})
    assert long[-1] == [3 + 239 * 11.5 + 10, "done", 240]  # nothing adds up along the way
    assert [ask("timer-moments", "clock", s) for s in (0, 59.9, 60, 3671)] == [
        "0:00",
        "0:59",
        "1:00",
        "61:11",
    ]


def test_a_horizon_is_edited_within_its_bounds(ask):
    points = [[10, 5], [350, 15]]
    assert ask("horizon-profile", "moved", points, 0, [-20, 2]) == [[0, 7], [350, 15]]
    assert ask("horizon-profile", "moved", points, 1, [20, 90]) == [[10, 5], [359.9, 40]]
    assert ask("horizon-profile", "removed", points, 0) == [[350, 15]]
    # between 350 and 10 degrees the profile runs straight: halfway at north
    assert ask("horizon-profile", "northAltitude", points) == 10
    # the middle of the drawing looks south; 270 units high hold -5 to 40 degrees
    assert ask("horizon-profile", "directionAt", 576, 270 - 25 / 45 * 270) == [180, 20]
    path = ask("horizon-profile", "hillsPath", points)
    assert path == "M0 180L32 210L1120 150L1152 180V270H0Z"
    assert ask("horizon-profile", "hillsPath", []) == "M0 240H1152V270H0Z"


def test_the_skyline_lies_as_a_cylinder_round_the_stand(ask):
    view = {"width": 1200, "height": 490, "centre": 350, "span": 120}
    assert ask("skyline-geometry", "xOf", 350, view) == 600
    assert ask("skyline-geometry", "xOf", 10, view) == 800  # 20 degrees on, over north
    assert ask("skyline-geometry", "xOf", 330, view) == 400
    assert ask("skyline-geometry", "yOf", -8, view) == 490
    assert ask("skyline-geometry", "highest", view) == 41
    assert ask("skyline-geometry", "yOf", 41, view) == 0
    assert ask("skyline-geometry", "highest", {**view, "height": 4900}) == 90
    assert ask("skyline-geometry", "groundLine", []) == [[-720, 0], [-360, 0], [0, 0], [360, 0], [720, 0]]
    line = ask("skyline-geometry", "groundLine", [[20, 3], [200, 8]])
    assert [a for a, _ in line] == sorted(a for a, _ in line) and len(line) == 8


def test_the_strip_gives_the_nearest_sample_and_the_height_of_its_curve(ask):
    samples = [{"t": t} for t in (0, 300, 600)]
    assert [ask("strip-geometry", "nearestSample", samples, t) for t in (-50, 149, 151, 9000)] == [0, 0, 1, 2]
    curve = "M10.0 50.0L20.0 40.0L30.0 30.0 M100.0 20.0L110.0 10.0"
    assert ask("strip-geometry", "heightAlong", curve, 21) == 40
    assert ask("strip-geometry", "heightAlong", curve, 104) == 20
    assert ask("strip-geometry", "heightAlong", curve, 60) is None  # the target is below the ground there


@pytest.mark.parametrize("zone", ["Europe/Lisbon", "Africa/Johannesburg", "America/Santiago"])
@pytest.mark.parametrize(("day", "minutes"), [(0, 0), (160, 615), (300, 1015)])
def test_a_row_of_the_season_sheet_is_wall_clock_time(ask, zone, day, minutes):
    there = datetime.fromtimestamp(
        ask("season-clock", "unixOf", 2027, day, 16, minutes, zone), ZoneInfo(zone)
    )
    hour, minute = divmod(16 * 60 + minutes, 60)
    assert (there.hour, there.minute) == (hour % 24, minute)
    assert there.timetuple().tm_yday == day + 1 + hour // 24
