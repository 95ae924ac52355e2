"""How the ground of a frame lies, on drawn grounds that were moved by known turns; and which frames then give
the ground."""

from dataclasses import replace
from pathlib import Path

import cv2
import numpy as np
import pytest

from vinter.core.frames.measure import Measure
from vinter.core.frames.mosaic import PEDESTAL, half_plane
from vinter.core.stack.foreground.alignment import (
    HELD_PX,
    CameraShift,
    GroundView,
    _followed,
    _turned_camera,
    _windows,
    camera_shift,
)
from vinter.core.stack.foreground.composition import foreground_of_sky_frames
from vinter.core.stack.ingest import Ingested
from vinter.core.stack.registration.geometry import small_turn
from vinter.core.stack.settings import Settings

WIDTH, HEIGHT, FOCAL = 1000, 720, 800.0
K = np.array([[FOCAL, 0, (WIDTH - 1) / 2], [0, FOCAL, (HEIGHT - 1) / 2], [0, 0, 1]])
RGGB = np.array([[0, 1], [1, 2]])


def through(homography, xy):
    h = np.c_[xy, np.ones(len(xy))] @ homography.T
    return h[:, :2] / h[:, 2:]


def turned(right, down, roll=0.0):
    """Homography from the moved frame's ground to the reference's for a camera that turned by so many px and
    degrees."""
    return K @ small_turn(np.array([down / FOCAL, -right / FOCAL, np.radians(roll)])) @ np.linalg.inv(K)


def scene(rough, seed=1):
    """Brightness above black of sky and rough ground, larger than the frame by 100 px all round, and where
    the ground is."""
    drawn = np.random.default_rng(seed)
    y, x = np.mgrid[-100 : HEIGHT + 100, -100 : WIDTH + 100].astype(np.float32)
    ground = y > 0.72 * HEIGHT + 18 * np.sin(x / 60) + 25 * ((x // 170) % 2)
    texture = cv2.GaussianBlur(drawn.normal(0, 1, y.shape).astype(np.float32), (0, 0), 2.5)
    land = 500 + rough * texture / texture.std()
    return np.where(ground, land, 3000 + 0.4 * x).astype(np.float32), ground


def frame(folder, name, picture, homography, noise=40.0, seed=0):
    """A clean mosaic on disk of the scene as a camera sees it whose ground ``homography`` brings back."""
    back = np.array([[1, 0, 100], [0, 1, 100], [0, 0, 1.0]]) @ homography
    seen = cv2.warpPerspective(picture, back, (WIDTH, HEIGHT), flags=cv2.INTER_CUBIC | cv2.WARP_INVERSE_MAP)
    noisy = seen + np.random.default_rng(seed).normal(0, noise, seen.shape)
    path = folder / f"{name}.npy"
    np.save(path, np.clip(noisy + PEDESTAL, 1, 65535).astype(np.uint16))
    return GroundView(path, RGGB, (WIDTH, HEIGHT), FOCAL)


def mask_file(folder, ground):
    path = folder / "mask.npy"
    np.save(path, np.where(ground[100:-100, 100:-100], 0, 255).astype(np.uint8))
    return path


PLACES = np.array([[80.0, 680], [500, 620], [920, 690]])


@pytest.mark.parametrize(("rough", "within"), [(120, 0.25), (0, 0.7)])
@pytest.mark.parametrize("move", [(0, 0, 0), (1.3, -0.6, 0), (-4.2, 2.5, 0.1), (9.0, 3.0, -0.15)])
def test_a_turn_of_the_camera_is_found_from_texture_and_less_well_from_the_skyline(
    tmp_path, rough, within, move
):
    picture, ground = scene(rough)
    true = turned(*move)
    base, moved = (
        frame(tmp_path, "a", picture, np.eye(3), seed=5),
        frame(tmp_path, "b", picture, true, seed=6),
    )
    found = camera_shift(moved, base, mask_file(tmp_path, ground), np.eye(3))
    assert found.known
    off = np.hypot(*(through(found.homography, PLACES) - through(true, PLACES)).T)
    assert off.max() < within + 0.02 * np.hypot(*move[:2])
    assert (found.moved_px > HELD_PX) == (np.hypot(*move[:2]) > 0)
    if rough:
        assert off.mean() < 1.5 * found.error_px + 0.05  # the stated error is no boast
    # the mean over all the ground's width and the strip above it
    assert found.shift == pytest.approx(
        tuple((through(true, PLACES) - PLACES).mean(axis=0)), rel=0.25, abs=0.4
    )


def test_a_first_guess_of_a_knock_is_made_exact(tmp_path):
    picture, ground = scene(120)
    true, guess = turned(60, -25, 0.8), turned(58.5, -24, 0.8)
    base, moved = (
        frame(tmp_path, "a", picture, np.eye(3), seed=5),
        frame(tmp_path, "b", picture, true, seed=6),
    )
    found = camera_shift(moved, base, mask_file(tmp_path, ground), guess)
    off = np.hypot(*(through(found.homography, PLACES) - through(true, PLACES)).T)
    assert (
        found.known
        and off.max() < 0.5
        and off.max() < 0.4 * np.hypot(*(through(guess, PLACES) - through(true, PLACES)).T).min()
    )


def test_grounds_that_have_nothing_in_common_are_not_compared(tmp_path):
    (one, ground), (other, _) = scene(400, 1), scene(400, 2)
    flat = np.full_like(one, 3000)
    base = frame(tmp_path, "a", np.where(ground, one, flat), np.eye(3))
    strange = frame(tmp_path, "b", np.where(ground, flat + np.roll(other, 333, axis=1), flat / 3), np.eye(3))
    assert not camera_shift(strange, base, mask_file(tmp_path, ground), np.eye(3)).known
    everywhere = tmp_path / "sky.npy"
    np.save(everywhere, np.full((HEIGHT, WIDTH), 255, np.uint8))
    assert not camera_shift(base, base, everywhere, np.eye(3)).known


def test_windows_share_the_ground_out_and_stay_in_the_frame():
    inside = np.zeros((360, 500), np.uint8)
    inside[300:, :] = 1
    inside[200:, 380:] = 1
    rows_columns = _windows(inside)
    assert len(rows_columns) == 3
    middles = [(c.start + c.stop) / 2 for _, c in rows_columns]
    assert middles == sorted(middles)
    for rows, columns in rows_columns:
        assert 0 <= rows.start < rows.stop <= 360 and 0 <= columns.start < columns.stop <= 500
        assert inside[rows, columns].sum() > 1500
    assert _windows(np.zeros_like(inside)) == []
    few = np.zeros_like(inside)
    few[340:, :50] = 1
    assert _windows(few) == []


def test_a_part_is_followed_to_where_the_guess_puts_it_and_no_farther_than_the_frame():
    rows, columns = slice(200, 300), slice(50, 210)
    move = np.array([[1, 0, 33.4], [0, 1, -12.6], [0, 0, 1.0]])
    assert _followed(rows, columns, move, (360, 500)) == (slice(187, 287), slice(83, 243))
    far = np.array([[1, 0, 900.0], [0, 1, 900.0], [0, 0, 1.0]])
    assert _followed(rows, columns, far, (360, 500)) == (slice(260, 360), slice(340, 500))
    assert _followed(rows, columns, np.linalg.inv(far), (360, 500)) == (slice(0, 100), slice(0, 160))


def test_the_turn_nearest_to_places_is_the_turn_that_moved_them():
    view = GroundView(Path("none"), RGGB, (WIDTH, HEIGHT), FOCAL)
    true = turned(12, -7, 0.9)
    assert _turned_camera(PLACES, through(true, PLACES), view) == pytest.approx(true, abs=1e-7)
    noisy = through(true, PLACES) + np.random.default_rng(3).normal(0, 0.05, PLACES.shape)
    assert (
        np.hypot(*(through(_turned_camera(PLACES, noisy, view), PLACES) - through(true, PLACES)).T).max()
        < 0.15
    )


def test_half_a_mosaic_and_half_a_picture_lie_on_the_same_places():
    y, x = np.mgrid[:40, :60].astype(float)
    level = 5000 + 20 * x + 7 * y
    picture = np.repeat(level[..., None], 3, axis=2).round().astype(np.uint16)
    from_mosaic, from_picture = half_plane(level.round().astype(np.uint16), RGGB), half_plane(picture, None)
    assert from_mosaic.shape == from_picture.shape == (20, 30)
    assert from_mosaic == pytest.approx(from_picture, abs=1)
    hy, hx = np.mgrid[:20, :30]
    assert from_mosaic == pytest.approx(5000 + 20 * (2 * hx + 0.5) + 7 * (2 * hy + 0.5) - PEDESTAL, abs=1)


def frames(count):
    measure = Measure(
        file="",
        kind="bayer",
        width=WIDTH,
        height=HEIGHT,
        iso=800,
        exposure_s=10.0,
        time=None,
        stars=300,
        fwhm_px=3.0,
        elongation=1.0,
        trail_px=0.0,
        background=0.01,
        noise=0.002,
        clipped_fraction=0.0,
        streaks=0,
        raw="sensor",
        raw_reasons=[],
    )
    return [
        Ingested(
            path=Path(f"IMG_{i}.dng"),
            spill=Path(f"{i}.npy"),
            pattern=RGGB,
            measure=replace(measure, file=f"IMG_{i}.dng"),
        )
        for i in range(count)
    ]


def chosen(shifts, group=None, ground="auto"):
    n = len(shifts)
    mask = np.zeros((4, 4), np.uint8)
    made = foreground_of_sky_frames(
        Settings(ground=ground), frames(n), list(range(n)), dict(enumerate(shifts)), group or [0] * n, mask
    )
    return [int(s.spill.stem) for s in made.foreground.sources], made


MOVED = CameraShift(homography=turned(5, 0), moved_px=5.0, shift=(5.0, 0.0))
UNKNOWN = CameraShift(known=False)


def test_frames_that_stood_still_give_the_ground():
    assert chosen([CameraShift()] * 4)[0] == [0, 1, 2, 3]
    which, made = chosen([CameraShift(), MOVED, CameraShift(), CameraShift()])
    assert which == [0, 2, 3]
    assert [made.summary[k] for k in ("way", "frames", "moved", "laid")] == ["mean", 3, 1, 0]


def test_unknown_frames_count_as_still_unless_one_of_their_stand_moved():
    assert chosen([CameraShift(), UNKNOWN, UNKNOWN, CameraShift()])[0] == [0, 1, 2, 3]
    assert chosen([CameraShift(), UNKNOWN, MOVED, CameraShift(), CameraShift()])[0] == [0, 3, 4]
    # what moved with a bump says nothing of the stand before it
    bumped = [CameraShift(), UNKNOWN, UNKNOWN, MOVED]
    assert chosen(bumped, group=[0, 0, 0, 1])[0] == [0, 1, 2]


def test_when_most_have_slipped_their_grounds_are_laid_back():
    which, made = chosen([MOVED, MOVED, CameraShift(), MOVED, UNKNOWN])
    assert which == [2, 0, 1, 3] and made.summary["laid"] == 3
    assert all(np.array_equal(s.homography, MOVED.homography) for s in made.foreground.sources[1:])
    assert np.array_equal(made.foreground.sources[0].homography, np.eye(3))


def test_one_named_frame_gives_it_alone_and_a_wrong_name_is_told():
    from vinter.core.errors import BadInput

    which, made = chosen([CameraShift(), MOVED, CameraShift()], ground="IMG_1.dng")
    assert (
        which == [1]
        and made.summary["name"] == "IMG_1.dng"
        and np.array_equal(made.foreground.sources[0].homography, MOVED.homography)
    )
    with pytest.raises(BadInput, match=r"IMG_9\.dng"):
        chosen([CameraShift()], ground="IMG_9.dng")
    assert chosen([CameraShift()], ground="none")[0] == []
