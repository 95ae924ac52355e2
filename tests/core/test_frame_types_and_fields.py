"""Sorting a memory card, solving a field, and the forms a stack is carried away in."""

from dataclasses import replace

import numpy as np
import pytest
import rawpy
from astropy.io import fits
from astropy.wcs import WCS
from fields import LENS, START

from vinter.core.camera.projection import Pose
from vinter.core.formats.fits import Taken, taken_cards, wcs_cards, write_fits
from vinter.core.formats.lineardng import write_linear_dng
from vinter.core.frames.frame_type import classify_take
from vinter.core.frames.measuring import clean, measure
from vinter.core.frames.reading import read_frame
from vinter.core.frames.stars import background, find_stars
from vinter.core.simulate.calibration_frames import darks, flats
from vinter.core.simulate.capture import Burst
from vinter.core.simulate.phone import SimulatedPhone
from vinter.core.simulate.shooting import shoot
from vinter.core.sky.catalogue import to_horizon
from vinter.core.sky.site import Site
from vinter.core.stack.plate_solve import solve, solve_around

SITE = Site(lat=37.702, lon=-8.772, tz="Europe/Lisbon", zenith=21.5)

BURST = Burst(
    site=SITE, lens=LENS, start=START, pose=Pose(174, 24), iso=1600, shutter=8.0, count=4, traffic=False
)


@pytest.fixture(scope="module")
def card(tmp_path_factory):
    """Measures of a card: a burst, a test shot, darks, bias, flats, a frame of the ground, a JPEG twin."""
    folder = tmp_path_factory.mktemp("card")
    made = {
        "sky": shoot(BURST, folder / "sky"),
        "test": shoot(replace(BURST, count=1, iso=6400, shutter=2.0, start=START - 300), folder / "test"),
        "dark": darks(LENS, 1600, 8.0, 2, folder / "dark"),
        "bias": darks(LENS, 1600, 0.001, 1, folder / "bias", glow=False),
        "flat": flats(LENS, 100, 0.4, 1, folder / "flat"),
        "ground": shoot(replace(BURST, count=1, pose=Pose(174, -35), start=START + 900), folder / "ground"),
    }
    return [(kind, measure(read_frame(p))) for kind, paths in made.items() for p in paths]


def test_every_file_is_taken_for_what_it_is(card):
    kinds, measures = zip(*card, strict=True)
    assert classify_take(measures) == list(kinds)


def test_twins_and_automatic_output_are_told_apart(card):
    sky = next(m for kind, m in card if kind == "sky")
    twin = replace(sky, file=sky.file.replace(".dng", ".jpg"), kind="picture", raw="processed")
    later = replace(twin, file="IMG_9.jpg", time=(sky.time or 0) + 1)
    alone = replace(twin, file="other.jpg", time=(sky.time or 0) + 5000)
    merged = replace(
        sky, file="auto.dng", kind="linear", raw="processed", exposure_s=240.0, time=(sky.time or 0) + 9000
    )
    assert classify_take([sky, twin, later, alone, merged]) == ["sky", "twin", "twin", "sky", "automatic"]


@pytest.mark.parametrize("off", [(0, 0, 0), (5, -3, 2), (-11, 6, -3)])
def test_a_field_is_solved_from_a_rough_pose(off):
    camera = SimulatedPhone(BURST)
    frame = read_frame_of(camera)
    stars = find_stars(frame, background(frame)).stars
    rough = replace(camera.view, pose=Pose(174 + off[0], 24 + off[1], off[2]))
    found = solve(stars.xy, rough, SITE, BURST.middle(0))
    assert found is not None and found.matched >= 50 and found.rms_px < 1.5
    from vinter.core.sky.catalogue import star_table

    index, x, y, v = camera.stars_at(0)
    bright = v < 4.5
    vectors = star_table()[0][index[bright].astype(int)]
    radec = np.degrees(
        np.stack([np.arctan2(vectors[:, 1], vectors[:, 0]) % (2 * np.pi), np.arcsin(vectors[:, 2])], axis=1)
    )
    px, py, front = found.pixels(radec)
    assert front.all() and np.median(np.hypot(px - x[bright], py - y[bright])) < 1.2
    assert "Core of the galaxy" in [t[0] for t in found.targets] and {"Scorpius", "Sagittarius"} <= set(
        found.constellations
    )


def test_a_field_far_from_its_plan_is_found_and_noise_is_not():
    camera = SimulatedPhone(BURST)
    frame = read_frame_of(camera)
    stars = find_stars(frame, background(frame)).stars
    for azimuth, altitude in ((174 + 32, 24), (174 - 88, 10)):
        found = solve_around(
            stars.xy, replace(camera.view, pose=Pose(azimuth, altitude)), SITE, BURST.middle(0)
        )
        assert found is not None and found.matched > 60 and found.rms_px < 1
    noise = np.random.default_rng(3).uniform(0, 1500, (200, 2))
    assert solve_around(noise, camera.view, SITE, START) is None


def read_frame_of(camera):
    """The half-size plane of a simulated frame."""
    import tempfile
    from pathlib import Path

    with tempfile.TemporaryDirectory() as folder:
        return clean(read_frame(camera.write(0, Path(folder))))[1]


def test_noise_is_no_field():
    rng = np.random.default_rng(1)
    xy = rng.uniform(0, 1500, (200, 2))
    found = solve(xy, SimulatedPhone(BURST).view, SITE, START)
    assert found is None or found.matched < 40


def radec_of(index):
    from vinter.core.sky.catalogue import star_table

    x, y, z = star_table()[0][index.astype(int)].T
    return np.c_[np.degrees(np.arctan2(y, x)) % 360, np.degrees(np.arcsin(z))]


@pytest.mark.parametrize("altitude", [24, 12])
def test_the_fits_coordinates_hold_down_to_the_horizon_by_astropy(tmp_path, altitude):
    camera = SimulatedPhone(replace(BURST, pose=Pose(174, altitude)))
    plane = read_frame_of(camera)
    found = solve(find_stars(plane, background(plane)).stars.xy, camera.view, SITE, BURST.middle(0))
    assert found is not None and found.rms_px < 0.6
    picture = np.zeros((LENS.height, LENS.width, 3), np.float32)
    picture[100, 200, 0] = 0.5
    taken = Taken(
        unix=START,
        exposure=8.0,
        frames=4,
        camera="Märlet 7",
        lens="main",
        iso=1600,
        site=(SITE.lat, SITE.lon, 3.0),
    )
    write_fits(tmp_path / "a.fits", picture, taken_cards(taken) | wcs_cards(found))
    with fits.open(tmp_path / "a.fits") as file:
        file.verify("exception")
        header, data = file[0].header, file[0].data
    assert data.shape == (3, LENS.height, LENS.width) and data[0, LENS.height - 1 - 100, 200] == 0.5
    assert header["DATE-OBS"] == "2027-06-10T00:45:00.000" and header["EXPTIME"] == 8.0
    assert header["INSTRUME"] == "Marlet 7" and header["ISOSPEED"] == 1600 and header["NCOMBINE"] == 4
    assert header["SITELAT"] == SITE.lat and header["SITELONG"] == SITE.lon

    # where the simulated lens and air really put the stars, low ones included
    index, x, y, v = camera.stars_at(0)
    radec = radec_of(index)
    up = np.degrees(np.arcsin(np.clip(vectors_of(radec) @ to_horizon(SITE, BURST.middle(0))[2], -1, 1)))
    bright = (v < 9) & (up > 1)  # as dim as the thick air there makes them
    assert up[bright].min() < (12 if altitude == 24 else 3)
    fx, fy = WCS(header, naxis=2).all_world2pix(radec[bright], 0, maxiter=60, tolerance=1e-3).T
    off = np.hypot(fx - x[bright], (LENS.height - 1 - fy) - y[bright])
    assert off.max() < 1.0, (off.max(), up[bright][off.argmax()])


def vectors_of(radec):
    a, d = np.radians(radec).T
    return np.c_[np.cos(d) * np.cos(a), np.cos(d) * np.sin(a), np.sin(d)]


def test_a_linear_dng_opens_in_a_raw_reader(tmp_path):
    rng = np.random.default_rng(2)
    picture = rng.uniform(0, 0.5, (240, 320, 3)).astype(np.float32)
    write_linear_dng(tmp_path / "a.dng", picture, (0.5, 1.0, 0.7), np.eye(3))
    with rawpy.imread(str(tmp_path / "a.dng")) as raw:
        data = raw.raw_image.reshape(240, 320, -1)[..., :3].astype(float)
    assert (data - 2048) / (65535 - 2048) == pytest.approx(picture, abs=2e-5)
