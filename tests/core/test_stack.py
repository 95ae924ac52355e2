"""The stack on frames from a generator that shares no code with it, against that generator's truth."""

from pathlib import Path

import cv2
import numpy as np
import pytest
import tifffile
from inline import Inline
from scenes import Scene, overlap, star_errors
from scenes import make as make_scene
from stacked import combined, errors
from starfield import PATTERNS, Field, ground_pattern, horizon, make

from vinter.core.errors import BadInput
from vinter.core.parallel import Cancelled
from vinter.core.stack.pipeline import Settings, stack


def run(folder, out, **settings):
    return stack([folder], out, Settings(**settings), pool=Inline())


@pytest.fixture(scope="module")
def plain(tmp_path_factory):
    folder = tmp_path_factory.mktemp("plain")
    spec = Field()
    truth, _, flux = make(folder, spec)
    result = run(folder, folder.parent / "plain.tif")
    return spec, truth, result, tifffile.imread(result.picture), folder, flux


def test_registration_is_within_a_tenth_of_a_pixel(plain):
    spec, truth, result, *_ = plain
    assert result.report["frames_used"] == spec.count
    for row, error in zip(result.report["frames"], errors(result.report, truth, spec), strict=True):
        assert np.sqrt((error**2).mean()) < 0.1, row["file"]
        assert error.max() < 0.25


def test_noise_falls_with_the_root_of_the_count(plain):
    spec, _, result, picture, folder, _ = plain
    assert result.report["noise_gain"] == pytest.approx(np.sqrt(spec.count), rel=0.06)
    one = stack([folder / "IMG_0002.dng"], folder.parent / "one.tif", Settings(), pool=Inline())
    single = tifffile.imread(one.picture)

    def noise(p):
        flat = p[200:700, 200:1400, 1]
        d = flat[:, 3:] - flat[:, :-3]
        return 1.4826 * np.median(np.abs(d - np.median(d)))

    # measured from outside, an aligned frame has been interpolated, which only ever lowers its noise
    assert noise(single) / noise(picture) > 0.94 * np.sqrt(spec.count)


def test_the_streak_is_gone_and_the_map_shows_where_it_was(plain):
    spec, _, result, picture, *_ = plain
    t = np.linspace(0.05, 0.95, 900)
    y, x = (150 + spec.height / 2.4 * t).astype(int), (100 + spec.width / 1.25 * t).astype(int)
    on = np.median(picture[y, x, 1])
    beside = np.median(picture[y + 12, x, 1])
    unit = 1 / 15871  # one digital number of the 14-bit frames
    assert abs(on - beside) < 4 * unit < 2500 * unit / spec.count
    left_out = cv2.imread(str(result.picture.with_suffix(".left-out.png")), cv2.IMREAD_GRAYSCALE)
    near = cv2.dilate(left_out, np.ones((9, 9), np.uint8))[y, x]
    assert np.median(near) >= 255 * np.sqrt(1 / spec.count) - 1 and (left_out > 0).mean() < 0.05


def test_the_ground_is_as_sharp_as_in_one_frame(plain):
    spec, _, _, picture, *_ = plain
    low = int(horizon(spec).max()) + 30
    land = picture[low:1180, 20:1580, 1] * 15871
    truth = ground_pattern(spec)[low:1180, 20:1580]
    # slope of measured against true contrast: blur by a pixel or more of drift would flatten the 8 px checks
    demosaiced = cv2.GaussianBlur(truth, (0, 0), 0.6)
    slope = np.polyfit(demosaiced.ravel(), land.ravel(), 1)[0]
    assert slope == pytest.approx(1.0, abs=0.06)


def test_the_mask_is_the_true_sky(plain):
    spec, _, result, *_ = plain
    mask = cv2.imread(str(result.mask), cv2.IMREAD_GRAYSCALE) > 127
    truth = np.mgrid[: spec.height, : spec.width][0] <= horizon(spec)[None, :]
    assert (mask & truth).sum() / (mask | truth).sum() > 0.98


def test_stars_keep_width_and_light(plain):
    _, _, result, *_ = plain
    assert result.report["fwhm_stack"] == pytest.approx(result.report["fwhm_frame"], rel=0.03)


@pytest.mark.parametrize("pattern", [p for p in PATTERNS if p != "RGGB"])
def test_colours_are_right_for_every_mosaic(tmp_path, pattern):
    spec = Field(
        count=3, width=800, height=600, pattern=pattern, streak=None, ground=False, stars=300, focal=600.0
    )
    make(tmp_path, spec)
    picture = tifffile.imread(run(tmp_path, tmp_path.parent / f"{pattern}.tif").picture)
    red, green, blue = (np.median(picture[..., c]) for c in range(3))
    assert (red / green, blue / green) == pytest.approx((0.5, 0.7), abs=0.02)


def test_a_lens_with_two_per_cent_distortion_is_found_from_its_stars(tmp_path):
    spec = Field(
        count=12, k1=-0.02 / (800**2 + 600**2) * 1250**2, angle=0.25, ground=False, streak=None, stars=1200
    )
    make(tmp_path, spec)
    report = run(tmp_path, tmp_path.parent / "lens.tif").report
    assert report["model"] == "rotation"
    assert report["lens"]["focal_px"] == pytest.approx(spec.focal, rel=0.01)
    assert report["lens"]["k1"] == pytest.approx(spec.k1, rel=0.1)


def test_frames_that_do_not_fit_are_left_out_with_the_reason(tmp_path):
    spec = Field(count=6, width=800, height=600, stars=300, streak=None, ground=False, focal=600.0)
    make(tmp_path, spec)
    other = Field(count=1, width=640, height=480, stars=200, streak=None, ground=False, focal=500.0)
    (tmp_path / "other").mkdir()
    make(tmp_path / "other", other)
    (tmp_path / "other" / "IMG_0000.dng").rename(tmp_path / "IMG_0099.dng")
    (tmp_path / "IMG_0050.dng").write_bytes((tmp_path / "IMG_0001.dng").read_bytes()[:9000])
    (tmp_path / "IMG_0051.dng").write_bytes(b"")
    blank = Field(count=1, width=800, height=600, stars=0, streak=None, ground=False, seed=9)
    (tmp_path / "blank").mkdir()
    make(tmp_path / "blank", blank)
    (tmp_path / "blank" / "IMG_0000.dng").rename(tmp_path / "IMG_0052.dng")
    report = run(tmp_path, tmp_path.parent / "rest.tif").report
    rows = {r["file"]: r for r in report["frames"]}
    assert report["frames_used"] == 6
    assert "another size" in rows["IMG_0099.dng"]["reason"]
    assert "IMG_0050.dng" in rows["IMG_0050.dng"]["reason"]
    assert "empty" in rows["IMG_0051.dng"]["reason"]
    assert "stars" in rows["IMG_0052.dng"]["reason"]


def test_every_method_and_trails(tmp_path):
    spec = Field(count=5, width=800, height=600, stars=300, streak=None, ground=True, focal=600.0, angle=0.4)
    make(tmp_path, spec)
    pictures = {
        m: tifffile.imread(run(tmp_path, tmp_path.parent / f"{m}.tif", method=m).picture)
        for m in ("mean", "median", "trails")
    }
    assert np.median(pictures["mean"]) == pytest.approx(np.median(pictures["median"]), rel=0.02)
    bright = [(p[..., 1] > 0.25).mean() for p in (pictures["mean"], pictures["trails"])]
    assert bright[1] > 3 * bright[0]


def test_cancel_and_bad_settings(tmp_path):
    make(tmp_path, Field(count=3, width=800, height=600, stars=200, focal=600.0, streak=None))
    with pytest.raises(Cancelled):
        stack([tmp_path], tmp_path.parent / "never.tif", Settings(), pool=Inline(), stop=lambda: True)
    with pytest.raises(BadInput, match="method"):
        Settings(method="magic")
    with pytest.raises(BadInput, match="reference"):
        run(tmp_path, tmp_path.parent / "x.tif", reference="nobody.dng")
    with pytest.raises(BadInput, match="no such file"):
        stack([Path("/nowhere")], tmp_path / "x.tif")


def test_clipping_leaves_out_an_outlier_and_nothing_else():
    rng = np.random.default_rng(1)
    cube = np.clip(rng.normal(6000, 90, (10, 120, 120, 3)), 1, 65535).astype(np.uint16)
    cube[4, 10, 10] = 30000
    out, count, noise = combined(cube)
    assert (count[10, 10] == 9).all() and abs(out[10, 10] - 6000).max() < 150
    assert (count == 10).mean() > 0.985  # what one colour leaves out, all do
    assert np.sqrt(noise[:, 0]) == pytest.approx(90, rel=0.2)


def test_by_default_a_sample_five_deviations_off_is_left_out():
    rng = np.random.default_rng(7)
    cube = np.clip(rng.normal(6000, 90, (10, 120, 120, 3)), 1, 65535).astype(np.uint16)
    cube[3, ::8, ::8] = 6000 + 5 * 90
    _, count, _ = combined(cube)
    assert (count[::8, ::8] < 10).mean() > 0.85


def test_pictures_of_an_automatic_mode_minutes_apart_are_laid_on_one_another(tmp_path):
    """Five JPEGs of a mode that takes four minutes for each: the sky has turned by a degree between them."""
    spec = Scene(
        width=1344, height=1008, focal=933.0, count=5, shutter=12.0, gap=228.0, stars=4000, ground="hills"
    )
    sky = make_scene(tmp_path / "auto", spec, "jpeg")
    result = stack([tmp_path / "auto"], tmp_path / "auto.tif", Settings(workers=1), pool=Inline())
    assert result.report["frames_used"] == 5
    errors = star_errors(spec, result.report, sky)
    assert np.median(errors) < 0.06 and np.percentile(errors, 95) < 0.2
    mask = cv2.imread(str(result.mask), cv2.IMREAD_GRAYSCALE)
    assert overlap(mask, sky)[0] > 0.98
    assert result.report["noise_gain"] == pytest.approx(np.sqrt(5), rel=0.1)


@pytest.mark.long("frames are drawn and stacked")
def test_a_lamp_in_some_frames_neither_leads_the_others_nor_hides_the_ground(tmp_path):
    """What a lamp lights is as bright as the sky and full of specks: frames would be laid on them, and the
    ground be taken for sky, were a lit frame the reference or part of the mean that the mask is found in."""
    lit = (2, 3, 6, 8, 10)
    spec = Scene(width=1344, height=1008, focal=933.0, stars=4000, lamp=dict.fromkeys(lit, 1.6))
    sky = make_scene(tmp_path / "lamp", spec)
    result = stack([tmp_path / "lamp"], tmp_path / "o.tif", Settings(workers=1), pool=Inline())
    assert result.report["reference"] not in {f"F{i:03d}.dng" for i in lit}
    mask = cv2.imread(str(result.mask), cv2.IMREAD_GRAYSCALE)
    heaven, ground = overlap(mask, sky)
    assert heaven > 0.98 and ground > 0.97
    assert np.median(star_errors(spec, result.report, sky)) < 0.06
