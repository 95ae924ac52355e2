"""Fields solved from their stars alone: drawn from the catalogue through a lens of its own, at any turn, with
stars missing and others false."""

import json

import numpy as np
import pytest
from fields import LENS, SITE, START
from scipy.spatial.transform import Rotation

from vinter.cli import main
from vinter.core.camera.projection import Pose
from vinter.core.simulate.capture import Burst
from vinter.core.simulate.phone import SimulatedPhone
from vinter.core.sky.catalogue import stars_to
from vinter.core.stack.blind_solve import solve_blind
from vinter.core.stack.single import Given, hours_off, position_angle, solve_picture

SIZE = (1600, 1200)


def drawn(rng, across, false=0.3):
    """Stars of a field so many degrees across, brightest first (px), with the turn and focal length (px)."""
    vectors, v, _ = stars_to(8.0)
    turn = Rotation.random(random_state=rng).as_matrix()
    focal = SIZE[0] / 2 / np.tan(np.radians(across / 2))
    rays = vectors @ turn.T
    front = rays[:, 2] > 0.05
    xy = focal * rays[:, :2] / np.where(front, rays[:, 2], 1)[:, None]
    r2 = (xy**2).sum(axis=1) / (np.array(SIZE) ** 2 / 4).sum()
    front &= r2 < 1.5  # farther out the lens would fold back
    xy = xy * (1 - 0.012 * r2)[:, None] + (np.array(SIZE) - 1) / 2
    seen = (
        front
        & (xy > 0).all(axis=1)
        & (xy < [SIZE[0], 0.85 * SIZE[1]]).all(axis=1)
        & (rng.random(len(v)) > 0.1)
    )
    xy, mag = xy[seen] + rng.normal(0, 0.4, (seen.sum(), 2)), v[seen] + rng.normal(0, 0.3, seen.sum())
    extra = int(false * min(len(xy), 300))
    xy = np.r_[xy, rng.uniform(0, SIZE, (extra, 2))]
    mag = np.r_[mag, rng.choice(mag, extra)]
    return xy[np.argsort(mag)[:600]], turn, focal


@pytest.mark.long("the whole sky is searched")
@pytest.mark.parametrize("across", [12, 17, 30, 45, 60, 72, 90])
def test_a_field_of_any_usual_lens(across):
    xy, turn, focal = drawn(np.random.default_rng(across), across)
    found = solve_blind(xy, SIZE)
    # too few stars in a narrow field to tell how the lens bends: its length takes that in
    assert found is not None and found.focal_px == pytest.approx(focal, rel=1e-3 if across > 15 else 6e-3)
    assert np.degrees(np.arccos(np.clip(np.array(found.rotation)[2] @ turn[2], -1, 1))) < 0.05


def test_the_error_of_a_focal_length_is_what_fields_scatter_by():
    off = []
    for seed in range(12):
        xy, _, focal = drawn(np.random.default_rng(seed), 60)
        found = solve_blind(xy, SIZE)
        off.append((found.focal_px - focal) / found.focal_error)
        assert found.focal_error < 1e-3 * focal  # a tenth of a per cent
    assert 0.2 < np.sqrt(np.mean(np.square(off))) < 1.6, off


def test_a_lens_that_is_named_seven_per_cent_wrong():
    xy, _, focal = drawn(np.random.default_rng(8), 65)
    found = solve_blind(xy, SIZE, focal * 1.06)
    assert found is not None and found.focal_px == pytest.approx(focal, rel=1e-3)


def test_what_is_no_sky_is_not_solved():
    rng = np.random.default_rng(1)
    assert solve_blind(rng.uniform(0, SIZE, (40, 2)), SIZE, 1200.0) is None
    assert solve_blind(np.empty((0, 2)), SIZE) is None


@pytest.fixture(scope="module")
def frame(tmp_path_factory):
    """A frame of the simulated phone, turned by 7 degrees."""
    folder = tmp_path_factory.mktemp("frame")
    burst = Burst(
        site=SITE,
        lens=LENS,
        start=START,
        pose=Pose(170.0, 24.0, 7.0),
        iso=1600,
        shutter=10.0,
        count=1,
        traffic=False,
    )
    return SimulatedPhone(burst).write(0, folder)


@pytest.mark.parametrize("lens", [None, 24.0])
@pytest.mark.parametrize("place", [None, (SITE.lat, SITE.lon)])
@pytest.mark.parametrize("unix", [None, START])
def test_it_is_solved_whatever_is_known_and_what_lacks_is_named(frame, lens, place, unix):
    found = solve_picture(frame, Given(place=place, unix=unix, f35=lens))
    assert found["solved"] and found["f35"] == pytest.approx(24.04, abs=0.05)
    assert found["time"] == "2027-06-10T00:45:00Z"
    if place is None:
        assert found["pose"] is None and found["why"] == "no pose: place not known"
    else:
        assert found["pose"]["azimuth"] == pytest.approx(170.0, abs=0.1)
        assert found["pose"]["altitude"] == pytest.approx(24.0, abs=0.1)
        assert found["roll"] == pytest.approx(7.0, abs=0.1) and found["notes"] == []


def test_a_clock_of_another_zone_is_noticed(frame):
    found = solve_picture(frame, Given(place=(SITE.lat, SITE.lon), unix=START + 3 * 3600))
    assert found["solved"] and any("earlier" in note and "zone" in note for note in found["notes"])


def test_position_angle_is_that_of_the_pole(frame):
    """North is up where the pole is: of a picture towards the south the pole lies above, turned by the
    roll."""
    from vinter.core.stack.examination import Circumstances, field_of
    from vinter.core.stack.single import read_picture

    picture = read_picture(frame)
    field = field_of(picture.xy, picture.size, Circumstances())
    above = field.directions(np.array([[1007.5, 700.0], [1007.5, 755.5]]))
    north = np.degrees(np.arcsin(above[:, 2]))
    angle = np.radians(position_angle(field))
    assert (north[0] > north[1]) == (np.cos(angle) > 0)
    ra = np.unwrap(np.arctan2(above[:, 1], above[:, 0]))
    assert ((ra[0] - ra[1]) > 0) == (np.sin(angle) > 0)
    assert hours_off(field, SITE, START + 5.0) == []


def test_from_the_shell(frame, capsys):
    assert (
        main(["solve", str(frame), "--lat", str(SITE.lat), "--lon", str(SITE.lon), "--tz", "Europe/Lisbon"])
        == 0
    )
    found = json.loads(capsys.readouterr().out)
    assert found["time_source"] == "the zone written in the file" and found["matched"] > 100
    assert main(["solve", str(frame), "--lat", "38"]) == 2 and "--lon" in capsys.readouterr().err
    assert main(["solve", "/nowhere.jpg"]) == 2 and "nowhere.jpg" in capsys.readouterr().err
