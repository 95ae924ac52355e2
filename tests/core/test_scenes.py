"""The places of the simulated phone: drawn on the site's horizon, lit as physics says, faults where asked
for."""

from dataclasses import replace

import cv2
import numpy as np
import pytest

from vinter.core.camera.phones import phone
from vinter.core.camera.projection import Pose, east_north_up, project
from vinter.core.errors import BadInput
from vinter.core.finish.star_field import found_stars, star_field
from vinter.core.frames.mosaic import PEDESTAL, SPAN
from vinter.core.frames.preview import linear_of
from vinter.core.simulate.capture import Burst, faults_from
from vinter.core.simulate.mishaps import flare
from vinter.core.simulate.phone import SimulatedPhone, row_noise
from vinter.core.simulate.scenes import SCENES, place_seed, scene_for
from vinter.core.simulate.starlight import FRINGE
from vinter.core.sky.horizon import Horizon
from vinter.core.sky.site import Site

SITE = Site(lat=37.7, lon=-8.78, tz="Europe/Lisbon", zenith=21.5)
MAIN = phone("marlet-7").lens("main")
SMALL = replace(MAIN, width=1008, height=756, pitch=MAIN.pitch * 4)
HORIZON = Horizon(((0, 2), (168, 2), (172, 9), (184, 9), (188, 2), (359, 2)))


def camera(**changes):
    told = {
        "site": SITE,
        "lens": SMALL,
        "start": 1812589930.0,
        "pose": Pose(176, 14),
        "iso": 1600,
        "shutter": 10.0,
        "count": 2,
        "traffic": False,
    }
    return SimulatedPhone(Burst(**{**told, **changes}))


@pytest.mark.parametrize("name", SCENES)
def test_every_scene_stands_on_the_ground_and_leaves_the_sky_free(name):
    made = camera(scene=name).ground
    assert made.sky.min() == 0 and made.sky.max() == 1
    assert made.sky[: made.sky.shape[0] // 3].mean() > 0.75 and made.sky[-5:].mean() < 0.1
    ground = made.sky < 0.01
    assert 0.01 < made.reflectance[ground].mean() < 0.3
    edge = (made.sky > 0.02) & (made.sky < 0.98)
    assert edge.any() and edge.mean() < 0.08  # borders are smooth, and narrow
    again = camera(scene=name).ground
    assert np.array_equal(made.colour, again.colour)


def test_a_place_looks_the_same_on_another_night_and_another_place_does_not():
    here, there = place_seed(37.702, -8.772), place_seed(37.702, -8.782)
    assert here != there and place_seed(-89.9996, -179.9996) >= 0
    one, same, other = (
        camera(scene="sheepfold", seed=seed, ground_seed=place)
        for seed, place in ((1, here), (2, here), (1, there))
    )
    assert np.array_equal(one.ground.colour, same.ground.colour)
    assert not np.array_equal(one.frame(0), same.frame(0))  # its noise is its own
    assert not np.array_equal(one.ground.colour, other.ground.colour)


def test_the_building_stands_where_the_site_says_and_hides_the_sky_there():
    one = camera(scene="mill", site=replace(SITE, horizon=HORIZON))
    for azimuth, altitude, is_sky in ((178, 5, False), (178, 20, True), (160, 8, True), (178, -3, False)):
        x, y, _ = project(one.view, east_north_up(np.array([float(altitude)]), np.array([float(azimuth)])))
        assert (one.ground.sky[round(y[0]), round(x[0])] > 0.5) == is_sky, (azimuth, altitude)


def test_water_gives_back_the_sky_above_it():
    """What a place in the water shows is the sky's light as far above the horizon, less what goes into it."""
    one = camera(scene="mill", shutter=10.0)
    assert one.ground.water is not None
    light = one.electrons(0) / one.vignetting
    rows = np.flatnonzero((one.ground.water > 250).mean(axis=1) > 0.6)
    row = int(rows[len(rows) // 2])
    columns = np.flatnonzero(one.ground.water[row] > 250)
    in_water = np.median(light[row - row % 2 + 1, columns])
    on_land = np.median(light[-3, one.ground.water[-3] < 5])
    assert in_water > 2 * on_land
    # a brighter sky is a brighter water, in proportion
    town = camera(scene="mill", shutter=10.0, site=replace(SITE, zenith=20.0))
    there = np.median((town.electrons(0) / town.vignetting)[row - row % 2 + 1, columns])
    horizon = int(np.flatnonzero(one.ground.sky[:, 20] > 0.5)[-1])
    above = 2 * horizon - row  # as far above the horizon
    part = np.s_[above - above % 2 : above - above % 2 + 6 : 2, 1::2]
    sky = [np.median((c.electrons(0) / c.vignetting)[part]) for c in (one, town)]
    assert there / in_water == pytest.approx(sky[1] / sky[0], rel=0.2)


def test_a_lamp_falls_with_distance_squared_and_lights_its_frame_alone():
    one = camera(scene="ridge", faults=(("lamp", (1,)),), pose=Pose(176, 0))
    dark, lit = (one.electrons(i)[1::2, ::2] for i in (0, 1))  # frames 0 and 1, green
    reflect, free = one.ground.reflectance[1::2, ::2], one.ground.sky[1::2, ::2]
    per = (lit - dark) / np.maximum(reflect, 0.01)
    middle = per.shape[1] // 2
    down = []
    for row in (-4, -60):
        angle = np.arctan(
            (per.shape[0] / 2 + row - 0 - per.shape[0] / 2 + per.shape[0] / 2) * 2 / SMALL.focal_px
        )
        patch = np.s_[row - 2 : row + 3, middle - 40 : middle + 40]
        down.append((np.tan(angle) ** 2, np.median((per / one.vignetting[1::2, ::2])[patch])))
    assert (free[-70:] < 0.02).all()
    assert down[0][1] / down[1][1] == pytest.approx(down[0][0] / down[1][0], rel=0.2)
    assert np.median((lit - dark)[:60]) == pytest.approx(0, abs=1)


def test_the_moon_lights_the_land_more_than_stars_do():
    moonless, moonlit = (camera(scene="sheepfold", start=t) for t in (1812589930.0, 1813190000.0))
    on_ground = [np.median(c.electrons(0)[-60:-20:2, 1::2]) for c in (moonless, moonlit)]
    assert on_ground[1] > 5 * on_ground[0]


def test_faults_are_read_and_refused_by_name():
    assert faults_from("lamp:5+7, sway") == [("lamp", (5, 7)), ("sway", ())]
    with pytest.raises(BadInput, match="'fog' is not one of lamp"):
        faults_from("fog:1")
    with pytest.raises(BadInput, match="numbers joined"):
        faults_from("lamp:x")
    assert [scene_for(d, z) for d, z in ((["water"], 21.5), (["animals"], 21.9), ([], 18.6), ([], 21.5))] == [
        "mill",
        "sheepfold",
        "garden",
        "ridge",
    ]


def test_leaves_sway_from_frame_to_frame_and_stones_do_not():
    one = camera(scene="ridge", faults=(("sway", ()),))
    first, second = one.ground_of(0).sky, one.ground_of(1).sky
    assert 20 < (np.abs(first - second) > 0.2).sum() < 0.05 * first.size
    still = camera(scene="ridge")
    assert still.ground_of(0) is still.ground_of(1)


def test_shaken_and_dewed_frames_lose_their_points():
    one = camera(scene="ridge", faults=(("shake", (1,)), ("dew", (2,)), ("cloud", (3,))), count=4)
    skies = [one.electrons(i)[1:500:2, ::2] for i in range(3)]
    peaks = [float(np.percentile(sky, 99.98) - np.median(sky)) for sky in skies]
    assert peaks[1] < 0.8 * peaks[0] and peaks[2] < 0.8 * peaks[0]
    clouded, clear = one.electrons(3)[1:400:2, ::2], one.electrons(0)[1:400:2, ::2]
    ratio = cv2.medianBlur(np.ascontiguousarray(clouded / clear), 5)
    assert np.percentile(ratio, 5) < 1.01 and np.percentile(ratio, 95) > 1.1  # somewhere none, somewhere much
    stars = clear > np.percentile(clear, 99.9)
    assert np.median((clouded / clear)[stars]) < np.median(ratio)  # it is their light that it takes


def part(lens_width=2016, **changes):
    """A burst of the upper left quarter of what the phone sees, by a smaller sensor of the same pixels."""
    lens = replace(phone("marlet-7").lens("main"), width=lens_width, height=lens_width * 3 // 4)
    return Burst(
        **{
            "site": Site(lat=37.7, lon=-8.78, tz="Europe/Lisbon", zenith=21.5),
            "lens": lens,
            "start": 1812589930.0,
            "pose": Pose(180, 35),
            "iso": 1600,
            "shutter": 10.0,
            "count": 2,
            "traffic": False,
            **changes,
        }
    )


def test_red_and_blue_lie_beside_green_as_the_lens_draws_them():
    """Measured by what the finish uses: stars' middles in three colours."""
    burst = part(shutter=4.0)
    camera = SimulatedPhone(burst)
    electrons = camera.electrons(0)
    mosaic = np.clip(electrons * (SPAN / 4000.0) + PEDESTAL, 0, 65535).astype(np.uint16)
    rgb = np.asarray(linear_of(mosaic, np.array([[0, 1], [1, 2]])), np.float32)
    found = star_field(rgb, np.asarray(camera.ground.sky, np.float32), *found_stars(rgb))
    here = camera.view.corner_px / 2520  # of a 12 MP frame's corner
    assert found.red == pytest.approx(here * FRINGE[0], abs=0.05)
    assert found.blue == pytest.approx(here * FRINGE[2], abs=0.05)


def test_rows_and_black_drift_a_little_below_the_read_noise():
    rng = np.random.default_rng(3)
    rows = np.concatenate([row_noise(1500, 2.0, rng) for _ in range(60)], axis=1)
    assert rows.std(axis=0).mean() == pytest.approx(0.06 * 2.0, rel=0.05)
    assert rows.mean(axis=0).std() == pytest.approx(0.03 * 2.0, rel=0.3)


@pytest.mark.parametrize("fault", ["meteor", "person", "screen"])
def test_who_and_what_passes_is_in_the_frames_that_were_named(fault):
    clean, struck = (SimulatedPhone(part(1008, faults=f)) for f in ((), ((fault, (1,)),)))
    assert np.array_equal(clean.frame(0), struck.frame(0))
    before, after = clean.electrons(1), struck.electrons(1)
    more = after - before
    assert more.max() > (4 if fault == "meteor" else 8) * np.median(before)
    share = float((np.abs(more) > 0.5 * np.median(before)).mean())
    assert 1e-4 < share < 0.35
    if fault == "meteor":
        (streak,) = struck.streaks(1)
        assert streak.swelling and not clean.streaks(1)
        y, x = np.unravel_index(int(np.argmax(more)), more.shape)
        way = np.array([streak.x1 - streak.x0, streak.y1 - streak.y0])
        off = np.cross(way / np.hypot(*way), [x - streak.x0, y - streak.y0])
        assert abs(off) < 4  # on its line, and brightest past its middle
        assert ((x - streak.x0) * way[0] + (y - streak.y0) * way[1]) / (way @ way) > 0.5


def test_a_lamp_in_the_frame_leaves_a_veil_and_a_ghost():
    light = np.zeros((300, 400, 3), np.float32)
    light[200:206, 300:306] = 1e6
    mosaic = np.full((300, 400), 10.0, np.float32)
    flare(mosaic, light)
    ghost, about, far = mosaic[96:104, 94:102].mean(), mosaic[190:196, 300:306].mean(), mosaic[10, 390]
    assert ghost > 1.2 * far and about > ghost and far < 11
    still = np.full((300, 400), 10.0, np.float32)
    flare(still, None)
    assert (still == 10).all()
