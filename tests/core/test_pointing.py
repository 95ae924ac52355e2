"""Pointing a phone: its rotation against an independent formula, hands, and the minutes of a card."""

from dataclasses import replace
from datetime import date
from itertools import pairwise

import numpy as np
import pytest
from fields import LENS as SMALL
from scipy.spatial.transform import Rotation

from vinter.core.camera.phones import phone
from vinter.core.camera.projection import Pose, view_of
from vinter.core.field.aimed import aimed
from vinter.core.field.minutes import card_minutes, coming
from vinter.core.field.pointing import Mark, by_hand, hands, held, known_marks, turn_to
from vinter.core.planning.picture import Wish, plan_picture
from vinter.core.simulate.capture import Burst
from vinter.core.simulate.phone import SimulatedPhone
from vinter.core.sky.ephemeris import separation
from vinter.core.sky.nights import nights
from vinter.core.sky.site import Site
from vinter.core.sky.targets import CORE
from vinter.core.stack.single import Given, solve_picture

MILL = Site(lat=37.7, lon=-8.78, tz="Europe/Lisbon", zenith=21.5)
LENS = phone("marlet-7").lens("main")


@pytest.mark.parametrize("screen", [0, 90, 270])
def test_a_phone_that_is_held_points_where_a_library_of_rotations_says(screen):
    drawn = np.random.default_rng(screen)
    for _ in range(60):
        alpha, beta, gamma = drawn.uniform(0, 360), drawn.uniform(-180, 180), drawn.uniform(-90, 90)
        turned = Rotation.from_euler("ZXY", [alpha, beta, gamma], degrees=True)
        pose = held(alpha, beta, gamma, screen)
        forward, top = (
            turned.apply([0, 0, -1]),
            turned.apply(Rotation.from_euler("z", -screen, degrees=True).apply([0, 1, 0])),
        )
        right, down, axis = view_of(LENS, pose).axes
        assert axis == pytest.approx(forward, abs=1e-9)  # the camera model looks the same way
        assert -down == pytest.approx(top, abs=1e-6) or abs(pose.altitude) > 89.99
        assert right == pytest.approx(np.cross(forward, top), abs=1e-6)


@pytest.mark.parametrize(
    ("angles", "pose"),
    [
        ((0, 90, 0), (0, 0, 0)),  # upright, its back to the north
        ((90, 90, 0), (270, 0, 0)),  # turned anticlockwise by a quarter: to the west
        ((0, 110, 0), (0, 20, 0)),  # leaned back: the camera looks up
        ((180, 70, 0), (180, -20, 0)),
    ],
)
def test_simple_ways_to_hold_it(angles, pose):
    found = held(*angles)
    assert (found.azimuth % 360, found.altitude, found.roll) == pytest.approx(pose, abs=1e-9)


def test_on_its_side_the_picture_lies():
    """Held as wide as it is, its right edge up, the screen turned along: no lean is left."""
    found = held(
        *Rotation.from_matrix(np.array([[0, -1, 0], [0, 0, -1], [1, 0, 0]])).as_euler("ZXY", True), 90
    )
    assert (found.altitude, found.roll) == pytest.approx((0, 0), abs=1e-6)


def test_turning_goes_the_short_way_and_is_said():
    turn = turn_to(Pose(350, 10, 3), Pose(2, 13, 2))
    assert (turn.right, turn.up, turn.clockwise) == (12, 3, -1)
    assert turn.words == "right 12.0°, up 3.0°, level 1.0° anticlockwise"
    assert "planned" in turn_to(Pose(5, 5, 0), Pose(5.01, 5, 0)).words


@pytest.mark.parametrize(
    ("degrees", "words"),
    [(0.3, ""), (1.2, "one little finger"), (2.8, "three little fingers"), (5, "three fingers"),
     (10, "one fist"), (15, "one and a half fists"), (21, "two fists")],
)  # fmt: skip
def test_hands_at_arms_length(degrees, words):
    assert hands(degrees) == words


def test_a_direction_is_said_from_the_brightest_thing_near_it():
    marks = [Mark("the Moon", 10, 50), Mark("Antares", 195, 25), Mark("Shaula", 182, 20)]
    assert by_hand(Pose(179, 27), marks) == "From Antares: one and a half fists left, two little fingers up."
    assert by_hand(Pose(90, 5), marks) == ""


def test_known_things_stand_where_the_library_puts_them():
    from skyfield.api import Star, wgs84

    from vinter.core.sky import ephemeris as eph

    unix = 1812588300.0
    marks = {m.name: m for m in known_marks(MILL, unix)}
    _, bodies = eph._kernel()
    place = bodies["earth"] + wgs84.latlon(MILL.lat, MILL.lon)
    t = eph.skyfield_time(np.array([unix]))
    for name, body in (
        ("Antares", Star(ra_hours=247.352 / 15, dec_degrees=-26.432)),
        ("Jupiter", bodies["jupiter barycenter"]),
        ("the Moon", bodies["moon"]),
    ):
        alt, az, _ = place.at(t).observe(body).apparent().altaz(temperature_C=10, pressure_mbar=1010)
        if alt.degrees[0] < 6:
            assert name not in marks or marks[name].altitude < 7
            continue
        off = separation(
            np.array(marks[name].altitude), np.array(marks[name].azimuth), alt.degrees[0], az.degrees[0]
        )
        assert off < 0.1


def wish(**changed):
    day = date(2027, 6, 9)
    night = nights(MILL, day, day)[0]
    window = night.windows[0]
    return replace(Wish(site=MILL, unix=window.start + 3600, lens=LENS, target=CORE, night=night), **changed)


def test_every_ten_minutes_the_card_says_what_a_plan_for_that_minute_would():
    given = wish()
    planned = plan_picture(given).plan.pose
    rows = card_minutes(given, planned, False)
    window = given.night.windows[0]
    assert rows[0].t <= window.start - 2100 and rows[-1].t >= window.end + 2100
    assert {round(b.t - a.t) for a, b in pairwise(rows)} == {600}
    for row in rows[4:30:6]:
        again = plan_picture(replace(given, unix=row.t))
        assert (row.settings.iso, row.settings.shutter) == (again.mode_plan.iso, again.mode_plan.shutter)
        assert row.pose == again.plan.pose
        assert row.brightness == pytest.approx(again.plan.at.brightness, abs=0.02)
    kept = card_minutes(given, Pose(170, 25, 2), True)
    assert {m.pose for m in kept} == {Pose(170, 25, 2)}  # a pose of one's own stays


def test_what_comes_next_is_in_order_and_of_this_night():
    night = wish().night
    found = coming(wish())
    assert [c.t for c in found] == sorted(c.t for c in found)
    words = {c.words: c.t for c in found}
    assert words["Moon sets"] == pytest.approx(night.moon["set"][0])
    assert words["the window opens"] < words["Core at its best, 23° up"] <= words["the window closes"]
    assert words["dawn: the Sun is 18° down"] == pytest.approx(night.sun["astronomical_dawn"][0])
    # over the horizon when its altitude is nought, to the step of five minutes
    rises = night.strip.t[np.argmax(night.strip.alt > 0)]
    assert abs(words["Core comes over the horizon"] - rises) <= 300


def solved_shot(folder, pose, unix=1812588300.0, site=MILL):
    burst = Burst(
        site=site, lens=SMALL, start=unix, pose=pose, iso=1600, shutter=10.0, count=1, traffic=False
    )
    path = SimulatedPhone(burst).write(0, folder)
    given = Given(place=(site.lat, site.lon), elevation=site.elevation, zone=site.tz, f35=SMALL.f35)
    return solve_picture(path, given)


@pytest.mark.parametrize("seed", range(3))
def test_a_test_shot_says_how_to_turn_the_phone_to_a_tenth_of_a_degree(seed, tmp_path):
    drawn = np.random.default_rng(seed)
    planned = Pose(179.0, 24.0, 0.0)
    off = drawn.uniform(-14, 14), drawn.uniform(-6, 14), drawn.uniform(-6, 6)
    pose = Pose(planned.azimuth + off[0], planned.altitude + off[1], off[2])
    solved = solved_shot(tmp_path, pose)
    found = aimed(solved, wish(unix=1812588300.0), planned, True)
    assert (found.turn.right, found.turn.up, found.turn.clockwise) == pytest.approx(
        (-off[0], -off[1], -off[2]), abs=0.1
    )
    assert found.words.startswith(f"Turn {'left' if off[0] > 0 else 'right'} {abs(off[0]):.0f}"[:9])
    followed = aimed(solved, wish(unix=1812580000.0), planned, False)  # planned for another hour
    assert followed.wanted == plan_picture(wish(unix=1812588300.0)).plan.pose


def test_a_picture_that_says_nothing_says_what_it_lacks():
    unsolved = {"pose": None, "why": "no pose: time not known", "time": None}
    assert aimed(unsolved, wish(), Pose(0, 0), True).words == (
        "Where it points is not known: no pose: time not known."
    )
    pose = {"azimuth": 180.0, "altitude": 20.0, "roll": 0.0}
    late = {"pose": pose, "why": "", "time": "2027-07-20T01:00:00Z"}
    assert "another night" in aimed(late, wish(), Pose(0, 0), True).words
    there = {"pose": pose, "why": "", "time": "2027-06-10T01:00:00Z", "direction": 197.0}
    found = aimed(there, wish(), Pose(180.2, 20.1, 0.1), True)
    assert found.there and "as planned" in found.words and found.compass == pytest.approx(17)
    by_needle = aimed(there | {"magnetic": True}, wish(), Pose(180.2, 20.1, 0.1), True)
    assert by_needle.compass == pytest.approx(16.3, abs=0.4)  # there the needle stands 0.7 west of north
