"""Moonlight, cloud, a bent field and multiplied numbers in the simulated frames."""

from dataclasses import replace

import numpy as np
import pytest

from vinter.core.camera.phones import phone
from vinter.core.camera.projection import Pose, project, view_of
from vinter.core.frames.measuring import clean, measure
from vinter.core.frames.reading import read_frame
from vinter.core.simulate.capture import Burst
from vinter.core.simulate.ground import EYE, Ground, Standing
from vinter.core.simulate.moonlight import cast, cast_on_wall, moonlit, shadows, solid, wall_shadows
from vinter.core.simulate.phone import SimulatedPhone
from vinter.core.sky.horizon import Horizon
from vinter.core.sky.site import Site

LENS = replace(phone("marlet-7").lens("main"), width=1008, height=756, pitch=8.0)
FOLD = Site(lat=-32.4, lon=20.7, tz="Africa/Johannesburg", zenith=21.8)
FULL_MOON = 1813276800.0 + 3 * 3600  # 17 June 2027: the Moon 24 degrees high in the west-south-west


def burst(**changes):
    return Burst(
        **{
            "site": FOLD,
            "lens": LENS,
            "start": FULL_MOON,
            "pose": Pose(252, 0),
            "iso": 100,
            "shutter": 4.0,
            "count": 1,
            "scene": "sheepfold",
            "traffic": False,
            **changes,
        }
    )


def post(azimuth, away, tall):
    """A post of a height in m, so far away: a line of azimuths and altitudes."""
    foot, top = -EYE, tall - EYE
    return Standing(np.degrees([[np.radians(azimuth), np.arctan(h / away)] for h in (foot, top)]), away, 0.5)


@pytest.mark.parametrize("moon", [(180.0, 45.0), (90.0, 20.0), (300.0, 60.0)])
def test_a_shadow_is_as_long_as_the_moon_is_low_and_points_away_from_it(moon):
    one = post(180.0, 20.0, 3.0)
    foot, tip = cast(solid(one), *moon)
    assert foot == pytest.approx([0, -20, -EYE], abs=1e-9)
    assert np.hypot(*(tip - foot)[:2]) == pytest.approx(3.0 / np.tan(np.radians(moon[1])))
    away = np.degrees(np.arctan2(*(tip - foot)[:2])) % 360
    assert (away - moon[0]) % 360 == pytest.approx(180)


def test_shadows_lie_where_the_sums_put_them_and_are_cut_beside_the_lens():
    view = view_of(LENS, Pose(180, -5), False)
    ground = Ground(np.ones((756, 1008), np.float32), np.zeros((756, 1008, 3), np.uint8))
    ground.standing = [post(175.0, 12.0, 3.0)]
    moon = (200.0, 35.0)
    dark = shadows(view, ground, *moon)
    line = cast(solid(ground.standing[0]), *moon)
    for share in (0.2, 0.5, 0.8):
        place = line[0] + share * (line[1] - line[0])
        x, y, front = project(view, place[None] / np.linalg.norm(place))
        assert front[0] and dark[round(float(y[0])), round(float(x[0]))] > 150
        assert dark[round(float(y[0])), round(float(x[0])) - 30] < 20
    ground.standing = [post(180.0, 8.0, 30.0)]  # its shadow runs under the lens and on behind it
    under = shadows(view, ground, 180.0, 20.0)
    assert under[-10, 504] > 200 and under[:300].max() == 0


def test_a_face_is_lit_with_the_moon_at_ones_back_and_dark_against_it():
    view = view_of(LENS, Pose(180, 0), False)
    ground = Ground(np.ones((756, 1008), np.float32), np.zeros((756, 1008, 3), np.uint8))
    ground.upright = np.zeros((756, 1008), np.uint8)
    ground.upright[300:400, 400:500] = 255
    level = np.sin(np.radians(30))
    for azimuth, face in ((0.0, 0.9 * np.cos(np.radians(30)) + 0.1 * level), (180.0, 0.1 * level)):
        light = moonlit(view, ground, azimuth, 30.0)
        assert light[350, 450] == pytest.approx(face, abs=1e-3)
        assert light[700, 100] == pytest.approx(level, abs=1e-3)


def test_a_post_throws_its_shadow_on_a_wall_behind_it():
    """The Moon behind the photographer, 20 degrees to the right of his back: the shadow lies to the left."""
    view = view_of(LENS, Pose(180, 0), False)
    ground = Ground(np.ones((756, 1008), np.float32), np.zeros((756, 1008, 3), np.uint8))
    one = post(180.0, 10.0, 2.5)
    wall = Standing(np.array([[165.0, -4.0], [165.0, 12.0], [195.0, 12.0], [195.0, -4.0]]), 20.0)
    ground.standing = [wall, one]
    ground.upright = np.full((756, 1008), 255, np.uint8)
    moon = (340.0, 10.0)
    tip = cast_on_wall(solid(one), *moon, 20.0)[1]
    assert np.hypot(*tip[:2]) == pytest.approx(20.0)
    # by hand: the ray from (0, -10) towards azimuth 160 meets the circle of 20 m
    t = -10 * np.cos(np.radians(20)) + np.sqrt((10 * np.cos(np.radians(20))) ** 2 + 300)
    assert tip == pytest.approx(
        [t * np.sin(np.radians(20)), -10 - t * np.cos(np.radians(20)), 0.9 - t * np.tan(np.radians(10))]
    )
    dark = wall_shadows(view, ground, *moon)
    seen = tip - [0, 0, 0.3]  # just under the tip
    x, y, _ = project(view, seen[None] / np.linalg.norm(seen))
    assert dark[round(float(y[0])), round(float(x[0]))] > 150
    assert dark[round(float(y[0])), round(float(x[0])) + 40] == 0
    assert dark[:, 500:].max() == 0  # nothing on the Moon's side
    light = moonlit(view, ground, *moon)
    assert light[round(float(y[0])), round(float(x[0]))] < 0.5 * light[round(float(y[0])), 300]
    ground.standing = [wall]
    assert wall_shadows(view, ground, *moon).max() == 0


def test_the_moon_behind_a_hill_lights_nothing():
    assert SimulatedPhone(burst()).moon.light(0).max() > 1000
    hills = replace(FOLD, horizon=Horizon(((0, 40), (180, 40))))
    assert SimulatedPhone(burst(site=hills)).moon.light(0) is None
    assert SimulatedPhone(burst(start=FULL_MOON + 6 * 3600)).moon.light(0) is None  # it has set


def test_a_wall_darkens_the_plain_before_it_when_the_moon_stands_behind():
    """In the frame itself: of the plain under the wall, the part in shadow is darker than that beyond it."""
    camera = SimulatedPhone(burst())
    dark = shadows(camera.view, camera.ground, *camera.moon.where(0)[:2])
    plain = (camera.ground.sky < 0.01) & (camera.ground.upright == 0)
    light = camera.electrons(0) / np.maximum(camera.ground.reflectance, 0.02)
    within, beside = np.median(light[plain & (dark > 250)]), np.median(light[plain & (dark == 0)])
    assert (plain & (dark > 250)).sum() > 300 and within < 0.65 * beside


def test_thin_cloud_covers_its_share_and_dims_the_stars_there():
    clear = burst(start=1812589930.0, pose=Pose(180, 45), iso=1600, shutter=10.0)
    plain = SimulatedPhone(clear).electrons(0)
    changed = []
    for share in (0.2, 0.6):
        cloudy = SimulatedPhone(replace(clear, cloud=share)).electrons(0)
        veiled = np.abs(cloudy / plain - 1) > 0.01
        changed.append(veiled.mean())
        level = np.median(plain[::16, ::16])
        stars = plain > 20 * level
        assert stars.sum() > 20 and (cloudy[stars & veiled] < plain[stars & veiled]).all()
    assert changed[0] == pytest.approx(0.2, abs=0.12) and changed[1] == pytest.approx(0.6, abs=0.15)


def test_middle_and_corners_are_sharpest_at_other_ticks(tmp_path):
    lens = replace(phone("marlet-7").lens("main"), width=2016, height=1512, pitch=4.0)
    wider = {}
    for error in (-2.0, 2.0):
        camera = SimulatedPhone(
            burst(lens=lens, pose=Pose(180, 50), start=1812589930.0, iso=1600, focus_error=error, shutter=2.0)
        )
        frame = read_frame(camera.write(0, tmp_path))
        cells = measure(frame, clean(frame)).shapes
        lowest = max(c.row for c in cells)
        edge = [c.fwhm for c in cells if c.column in (0, 3) and c.row in (0, lowest)]
        middle = [c.fwhm for c in cells if c.column in (1, 2)]
        wider[error] = np.median(edge) - np.median(middle)
    assert wider[2.0] > wider[-2.0] + 0.15


def test_from_an_iso_on_numbers_are_only_multiplied():
    digital = replace(LENS, iso_digital=800)
    plain = SimulatedPhone(burst(lens=digital, iso=800, start=1812589930.0)).frame(0)
    twice = SimulatedPhone(burst(lens=digital, iso=3200, start=1812589930.0)).frame(0)
    levels = [np.bincount(f.ravel(), minlength=4096)[256:296] for f in (plain, twice)]
    assert (levels[0] > 0).mean() > 0.9 and (levels[1] > 0).mean() == pytest.approx(0.25, abs=0.03)
    sky = np.s_[:300]
    assert twice[sky].mean() - 256 == pytest.approx(4 * (plain[sky].mean() - 256), rel=0.05)
