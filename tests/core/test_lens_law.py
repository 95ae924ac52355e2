"""The one lens law, its inverse and what follows from it: properties that hold for any lens, places by
hand."""

import math
from dataclasses import replace

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from vinter.core.camera.focus import blur_px, hyperfocal
from vinter.core.camera.phones import SHIPPED, Lens
from vinter.core.camera.projection import (
    Pose,
    View,
    east_north_up,
    in_front,
    project,
    radial_pixels,
    radial_rays,
    unproject,
    view_of,
)
from vinter.core.camera.trailing import drift_map, pole_seen
from vinter.core.constants import SIDEREAL_ARCSEC
from vinter.core.errors import BadInput
from vinter.core.planning.shot import aim, declination, field_of_view
from vinter.core.sky.refraction import refraction
from vinter.core.sky.site import Site

LENSES = [(p.key, name) for p in SHIPPED.values() for name in p.lenses]
SQUARE = Lens(name="x", focal=5.0, f35=24, aperture=1.8, pitch=2.0, width=4001, height=3001)
MILL = Site(lat=37.7, lon=-8.78, tz="Europe/Lisbon")


@given(
    k1=st.floats(-0.08, 0.2),
    x=st.floats(-0.75, 0.75),
    y=st.floats(-0.6, 0.6),
    focal=st.floats(500, 6000),
)
def test_pixels_and_rays_are_inverse_for_any_lens_that_does_not_fold(k1, x, y, focal):
    ray = np.array([x, y, 1.0]) / math.sqrt(x * x + y * y + 1)
    xy = radial_pixels(ray, focal, k1, (2000.0, 1500.0))
    assert radial_rays(xy, focal, k1, (2000.0, 1500.0)) == pytest.approx(ray, abs=1e-9)


def test_the_law_by_hand():
    """A ray at 45 degrees to the right has tangent 1: it lands f (1 + k1) from the axis."""
    ray = np.array([1.0, 0.0, 1.0])
    assert radial_pixels(ray, 1000.0, -0.05, (10.0, 20.0)) == pytest.approx([960.0, 20.0])
    assert radial_pixels(7 * ray, 1000.0, 0.1, (0.0, 0.0)) == pytest.approx([1100.0, 0.0])  # of any length


def test_behind_the_lens_and_beyond_its_fold_nothing_is_shown():
    rays = np.array([[0, 0, 1.0], [0, 0, -1.0], [1, 0, 0.01], [0.6, 0, 0.8]])
    rays /= np.linalg.norm(rays, axis=1)[:, None]
    assert in_front(rays, 0.0).tolist() == [True, False, False, True]
    # 1 + 3 k1 r^2 falls below a tenth at r^2 = 0.3 / -k1: with k1 = -0.6 from a tangent of 0.71 on
    assert in_front(rays, -0.6).tolist() == [True, False, False, False]


@settings(max_examples=60)
@given(
    azimuth=st.floats(0, 360),
    altitude=st.floats(-20, 89),
    roll=st.floats(-45, 45),
    portrait=st.booleans(),
    which=st.sampled_from(LENSES),
)
def test_the_axis_stands_in_the_middle_of_every_picture(azimuth, altitude, roll, portrait, which):
    lens = SHIPPED[which[0]].lenses[which[1]]
    view = view_of(lens, Pose(azimuth, altitude, roll), portrait)
    x, y, front = project(view, east_north_up(np.array([altitude]), np.array([azimuth])))
    assert front.all() and (x[0], y[0]) == pytest.approx(view.centre, abs=1e-6)
    assert view.axes @ view.axes.T == pytest.approx(np.eye(3), abs=1e-12)
    assert np.linalg.det(view.axes) == pytest.approx(1, abs=1e-12)  # right-handed


@pytest.mark.parametrize(("phone", "lens"), LENSES)
def test_corners_of_every_shipped_lens_come_back(phone, lens):
    view = view_of(SHIPPED[phone].lenses[lens], Pose(123, 31, -4))
    x, y = (
        np.array([0.0, view.width - 1, 0, view.width - 1]),
        np.array([0.0, 0, view.height - 1, view.height - 1]),
    )
    back = project(view, unproject(view, x, y))
    assert back[2].all() and np.abs(back[0] - x).max() < 1e-5 and np.abs(back[1] - y).max() < 1e-5


def test_a_roll_turns_the_picture_about_its_middle():
    level, rolled = (View(4001, 3001, 2500.0, 0.0, Pose(180, 0, roll)) for roll in (0.0, 30.0))
    up = east_north_up(np.array([10.0]), np.array([180.0]))
    x, y, _ = project(rolled, up)
    reach = 2500 * math.tan(math.radians(10))
    flat = project(level, up)
    assert (flat[0][0] - 2000, flat[1][0] - 1500) == pytest.approx((0, -reach))
    assert math.hypot(x[0] - 2000, y[0] - 1500) == pytest.approx(reach)
    # the camera turned clockwise, so the picture of what stands upright leans the other way
    assert math.degrees(math.atan2(x[0] - 2000, -(y[0] - 1500))) == pytest.approx(-30)


def test_fields_of_view_by_hand():
    w, h = field_of_view(SQUARE, portrait=False)
    assert w == pytest.approx(2 * math.degrees(math.atan(4001 / 2 / 2500)))
    assert field_of_view(SQUARE, portrait=True) == pytest.approx((h, w))


@pytest.mark.parametrize(("altitude", "wanted"), [(10, 0.34), (20, 0.34), (60, None)])
def test_a_shot_is_aimed_with_a_strip_of_ground_until_the_target_would_be_cut(altitude, wanted):
    height = field_of_view(SQUARE, False)[1]
    pose = aim(SQUARE, False, altitude, 175.0)
    assert pose.azimuth == 175.0
    if wanted:
        assert pose.altitude == pytest.approx(wanted * height, abs=0.06)  # 16 % of the height shows ground
    else:
        assert pose.altitude == pytest.approx(altitude - 0.3 * height, abs=0.06)
    # wherever it points, the target stands in the frame
    _, y, front = project(
        view_of(SQUARE, pose), east_north_up(np.array([float(altitude)]), np.array([175.0]))
    )
    assert front.all() and 0 <= y[0] < SQUARE.height


@pytest.mark.parametrize(
    ("altitude", "azimuth", "wanted"),
    [(37.7, 0, 90.0), (90, 0, 37.7), (0, 180, -52.3), (0, 90, 0.0), (0, 0, 52.3), (52.3, 180, 0.0)],
)
def test_declination_of_directions_at_the_mill(altitude, azimuth, wanted):
    assert declination(MILL, altitude, azimuth) == pytest.approx(wanted, abs=1e-6)


def test_trails_are_longest_on_the_celestial_equator_and_nothing_at_the_pole():
    towards_pole = drift_map(3000.0, 3001, 3001, np.array([0.0, 0.0, 1.0]), steps=3)
    across = drift_map(3000.0, 3001, 3001, pole_seen(0.0), steps=3)
    sidereal = math.radians(SIDEREAL_ARCSEC / 3600) * 3000
    assert towards_pole.rate[1, 1] == pytest.approx(0, abs=1e-9)
    assert across.rate[1, 1] == pytest.approx(sidereal, rel=1e-4)
    assert towards_pole.rate[0, 1] == pytest.approx(sidereal * 1500 / 3000, rel=1e-3)


def test_air_lifts_by_what_tables_say():
    # Meeus, Astronomical Algorithms, example 16.a: 24.618' at a true altitude of 0.5541 degrees
    assert float(refraction(0.5541)) * 60 == pytest.approx(24.618, rel=1e-3)
    # the common tables, at true altitudes: 5.4' at 10, 2.7' at 20, 1.0' at 45 degrees
    for altitude, minutes in ((10, 5.4), (20, 2.7), (45, 1.0)):
        assert float(refraction(altitude)) * 60 == pytest.approx(minutes, abs=0.05)
    assert refraction(np.array([-2.1, -10.0, -90.0])).tolist() == [0.0, 0.0, 0.0]
    assert float(refraction(90.0)) == pytest.approx(0, abs=2e-4)


def test_sharpness_to_infinity_by_hand():
    # 5 mm at f/1.8 with 2 um pixels, two of them of blur: 25 / (1.8 * 0.004) mm + 5 mm
    assert hyperfocal(SQUARE) == pytest.approx((25 / (1.8 * 0.004) + 5) / 1000)
    assert blur_px(SQUARE, hyperfocal(SQUARE)) == pytest.approx(2.0, rel=0.01)
    assert blur_px(SQUARE, 2.0) == pytest.approx(blur_px(SQUARE, 4.0) * 2)


@pytest.mark.parametrize(
    ("field", "value"),
    [("focal", 0), ("f35", 4), ("aperture", 0), ("pitch", 0.1), ("width", 10), ("height", 0), ("iso_min", 0)],
)
def test_a_lens_that_cannot_be_is_refused(field, value):
    with pytest.raises(BadInput):
        replace(SQUARE, **{field: value})
