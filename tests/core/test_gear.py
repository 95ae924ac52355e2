"""Phones, sensors, focus and accessories against simulated truth and sums worked by hand."""

import json
import math
from dataclasses import replace

import numpy as np
import pytest
from fields import LENS

from vinter.core.camera.accessories import Clamp, Eyepiece, Tracker, charge, with_clip_on
from vinter.core.camera.exposure import expose
from vinter.core.camera.focus import fit_infinity
from vinter.core.camera.iso import choose_iso
from vinter.core.camera.phonefile import lens_from_photo, phone_text, read_phone
from vinter.core.camera.phones import SHIPPED, phone
from vinter.core.camera.projection import Pose
from vinter.core.camera.solved_lens import corrected, nearest
from vinter.core.errors import BadInput
from vinter.core.field.card import checks
from vinter.core.frames.adaptive_moments import shapes, trail_length
from vinter.core.frames.measuring import measure
from vinter.core.frames.reading import read_frame
from vinter.core.frames.sensor import measure_darks, measure_flats
from vinter.core.simulate.calibration_frames import HOT_SHARE, darks, flats, focus_sweep
from vinter.core.simulate.capture import Burst
from vinter.core.simulate.exposing import draw_trails
from vinter.core.sky.site import Site


def test_darks_give_back_the_read_noise_the_hot_pixels_and_the_glow(tmp_path):
    for iso, seconds in ((800, 10.0), (3200, 10.0)):
        frames = [read_frame(p) for p in darks(LENS, iso, seconds, 4, tmp_path / str(iso), seed=iso)]
        gain = LENS.full_scale(iso) / (frames[0].white - frames[0].black.mean())
        found = measure_darks(frames, gain)
        true = math.hypot(LENS.noise_at(iso), math.sqrt(LENS.dark_current * seconds))
        assert found.read_noise_e == pytest.approx(true, rel=0.05)
        assert found.hot_share == pytest.approx(HOT_SHARE, rel=0.05)
        assert found.amp_glow_place == "bottom right" and found.amp_glow_dn > 3


def test_flats_give_back_the_gain_and_the_full_well(tmp_path):
    frames = [read_frame(p) for p in flats(LENS, 100, 0.3, 3, tmp_path)]
    found = measure_flats(frames)
    span = frames[0].white - float(frames[0].black.mean())
    assert found.gain == pytest.approx(LENS.full_scale(100) / span, rel=0.05)
    assert found.white_e == pytest.approx(LENS.full_scale(100), rel=0.05)
    with pytest.raises(BadInput, match="5 and 85"):
        measure_flats([read_frame(p) for p in flats(LENS, 100, 0.01, 1, tmp_path / "dim")])


def test_a_focus_sweep_finds_the_true_infinity(tmp_path):
    site = Site(lat=37.702, lon=-8.772, tz="Europe/Lisbon", zenith=21.5)
    burst = Burst(site=site, lens=LENS, start=1812588300, pose=Pose(174, 30), iso=3200, shutter=4.0, count=1)
    sweep = focus_sweep(burst, [0, 2, 3, 5, 6, 8], tmp_path)
    widths = [measure(read_frame(path)).fwhm_px for _, path in sweep]
    fit = fit_infinity([t for t, _ in sweep], widths)
    assert fit.ticks == pytest.approx(LENS.infinity_ticks, abs=0.4) and fit.setting == 4
    with pytest.raises(BadInput, match="outside the sweep"):
        fit_infinity([0, 1, 2, 3], [((t - 6) ** 2 + 4) ** 0.5 for t in range(4)])
    with pytest.raises(BadInput, match="four different"):
        fit_infinity([0, 1, 1, 2], [4, 3, 3, 4])


@pytest.mark.parametrize("sigma", [1.3, 1.6, 2.5])
@pytest.mark.parametrize("length", [0, 6, 12, 20])
def test_widths_and_trails_of_drawn_stars(sigma, length):
    """Stars drawn with known widths and trails in all directions on a Bayer mosaic, measured on its half-size
    green plane."""
    rng = np.random.default_rng(round(sigma * 10) + length)
    mosaic, n = np.zeros((1200, 1600), np.float32), 90
    x, y, turn = rng.uniform(60, 1540, n), rng.uniform(60, 1140, n), rng.uniform(0, np.pi, n)
    dx, dy = length / 2 * np.cos(turn), length / 2 * np.sin(turn)
    draw_trails(mosaic, x - dx, y - dy, x + dx, y + dy, np.full((n, 3), 9000.0), np.full(n, sigma))
    plane = ((mosaic[0::2, 1::2] + mosaic[1::2, 0::2]) / 2 + rng.normal(0, 1.5, (600, 800))).astype(
        np.float32
    )
    width, long, _ = shapes(plane, (x - 0.5) / 2, (y - 0.5) / 2, -1)
    fwhm, stretch = float(np.nanmedian(width)), float(np.nanmedian(long))
    if length == 0:
        assert fwhm == pytest.approx(2.3548 * sigma, rel=0.09) and stretch < 1.15
    else:
        assert trail_length(fwhm, stretch, 1.06) == pytest.approx(length, rel=0.13)


def test_phone_files_go_out_and_come_back_and_bad_ones_are_named():
    for one in SHIPPED.values():
        assert read_phone(phone_text(one), "p.json") == one
    good = json.loads(phone_text(phone("marlet-7")))
    for change, message in (
        ({"kind": "other"}, "kind"),
        ({"lenses": {}}, "lenses"),
        ({"key": "a b"}, "key"),
        ({"colour": 1}, "colour"),
    ):
        with pytest.raises(BadInput, match=f"p.json.*{message}"):
            read_phone(json.dumps({**good, **change}), "p.json")
    good["lenses"]["main"]["speed"] = 3
    with pytest.raises(BadInput, match="speed"):
        read_phone(json.dumps(good), "p.json")
    with pytest.raises(BadInput, match="not a phone file"):
        read_phone("{", "p.json")


def test_a_lens_from_a_photo_has_the_pitch_of_its_equivalent_focal_length():
    """5.6 mm at 24 mm equivalent: a diagonal of 10.095 mm over 5040 px is 2.003 um."""
    lens = lens_from_photo("main", 5.6, 24, 1.8, 4032, 3024)
    assert lens.pitch == pytest.approx(2.003, abs=0.002)
    with pytest.raises(BadInput, match="35 mm equivalent and f-number"):
        lens_from_photo("main", 5.6, None, None, 4032, 3024)


def test_the_manual_limit_and_the_digital_limit_reach_the_choice():
    capped = replace(phone("marlet-7").lens("main"), iso_manual=800)
    assert choose_iso(capped, 21.5, 10).chosen <= 800
    assert any("end at ISO 800" in r for r in expose(capped, -29, 21.5).reasons)
    assert any(
        "only multiplies" in r
        for r in expose(replace(phone("marlet-7").lens("main"), iso_digital=400), -29, 21.5).reasons
    )
    assert any("no manual control" in r for r in expose(replace(capped, manual=False), -29, 21.5).reasons)


def test_accessories_by_hand():
    lens = phone("marlet-7").lens("main")
    wide = with_clip_on(lens, 0.6)
    assert wide.f35 == pytest.approx(14.4) and wide.focal_px == pytest.approx(0.6 * lens.focal_px)
    # 20' off the pole: 15.041"/s x 0.005818 rad = 0.0875"/s; 4 px of 73.67" less 40" leave 254.7": 2910 s
    assert Tracker(1000, 20, 40).longest(lens, 4.0) == pytest.approx(2910, rel=0.01)
    scope = Eyepiece(aperture=114, focal=900, eyepiece=10, field=50)
    assert (scope.magnification, scope.true_field) == (90, pytest.approx(0.5556, abs=1e-3))
    assert scope.exit_pupil == pytest.approx(1.267, abs=1e-3)
    focal, number = scope.effective(lens)
    assert focal == pytest.approx(504) and number == pytest.approx(
        504 / 114, rel=1e-6
    )  # the telescope's opening decides
    assert scope.counterweight(200, 150) == pytest.approx(380 * 250 / 150)
    assert (
        "side button" in Clamp(60, 90).problems(76, ((70, 80),))[0]
        and "opens" in Clamp(60, 70).problems(76)[0]
    )
    warm, cold = charge(90, 20), charge(90, -10)
    assert warm.used == pytest.approx(3.2 * 1.5 / 15) and cold.used > 1.4 * warm.used


def test_measured_figures_become_points_of_the_curve_and_turn_back():
    lens = phone("marlet-7").lens("main")
    for iso, others in ((100, (400, 3200)), (800, (50, 100, 400, 1600)), (1600, (100, 400, 6400))):
        better = lens.with_read_noise(iso, 1.234)
        assert better.noise_at(iso) == 1.23
        assert [better.noise_at(i) for i in others] == [lens.noise_at(i) for i in others]
    again = lens.with_read_noise(1500, 1.6).with_read_noise(1600, 1.4)
    assert again.noise_at(1600) == 1.4 and 1500 not in dict(again.read_noise)


def test_read_noise_is_a_curve_through_its_points():
    lens = phone("marlet-7").lens("main")
    assert [lens.noise_at(iso) for iso in (25, 50, 400, 1600, 6400, 12800)] == [3.2, 3.2, 2.0, 1.5, 1.3, 1.3]
    assert lens.noise_at(800) == pytest.approx(1.75) and lens.noise_at(3200) == pytest.approx(1.4)
    steps = replace(lens, read_noise=((0, 4.0), (1600, 2.0)))  # a file that begins at ISO 0
    assert steps.noise_at(50) == 4.0 and 2.0 < steps.noise_at(400) < 4.0


def test_white_levels_turn_back():
    lens = phone("marlet-7").lens("main")
    for iso in (25, 50, 1600):  # below base ISO the white level is that of base ISO
        assert lens.with_white_at(iso, 640.0).full_scale(iso) == pytest.approx(640.0, rel=0.01)


def test_the_sky_of_a_developed_picture_is_made_linear():
    from vinter.core.field.check import sky_level

    m = replace(measure_stub(), background=0.5)
    assert sky_level(m, linear=True) == 0.5
    assert sky_level(m, linear=False) == pytest.approx(0.214, rel=0.05)  # where the sRGB curve has one half


def measure_stub():
    from vinter.core.frames.measure import Measure

    return Measure(
        file="a.jpg",
        kind="picture",
        width=8,
        height=8,
        iso=None,
        exposure_s=None,
        time=None,
        stars=0,
        fwhm_px=0.0,
        elongation=1.0,
        trail_px=0.0,
        background=0.0,
        noise=0.0,
        clipped_fraction=0.0,
        streaks=0,
        raw="unknown",
        raw_reasons=[],
    )


def test_infinity_that_nobody_found_is_not_said_to_be_at_the_end_mark():
    lens = replace(phone("marlet-7").lens("main"), infinity_ticks=0, infinity_known=False)
    assert lens.infinity_words == "not known yet: find it"
    assert "not known yet" in checks(lens, 800, 10, 5, Pose(180, 20))[3][0]
    assert replace(lens, infinity_known=True).infinity_words == "the end mark"
    assert replace(lens, measured="infinity at 0.2 ± 0.4 ticks, 9 Jun 2027").infinity_words == "the end mark"
    assert replace(lens, infinity_ticks=4).infinity_words == "4 ticks back"


def test_an_equivalent_focal_length_that_does_not_fit_is_said():
    lens = phone("marlet-7").lens("main")
    for made in SHIPPED.values():
        assert all(one.f35_fits for one in made.lenses.values()), made.name
    wrong = replace(lens, f35=40)
    assert not wrong.f35_fits and any("do not fit" in r for r in expose(wrong, -29, 21.5).reasons)
    assert not any("do not fit" in r for r in expose(lens, -29, 21.5).reasons)


def test_a_lens_is_corrected_by_a_solved_field_and_only_when_it_is_worth_it():
    lens = phone("marlet-7").lens("main")
    px = lens.focal_px
    found = corrected(lens, px * 1.012, 0.4, 4032, "by 300 stars of Mill")
    assert found.focal_px == pytest.approx(px * 1.012, rel=1e-5) and found.f35 == pytest.approx(24.288)
    assert found.measured.endswith("focal length by 300 stars of Mill")
    again = corrected(found, px, 0.4, 4032, "by 200 stars of Fold")
    assert again.measured.count("focal length") == 1 and again.f35 == pytest.approx(24, abs=0.01)
    half = corrected(lens, px * 1.012 / 2, 0.2, 2016, "x")  # a picture at half the size
    assert half.focal == pytest.approx(found.focal)
    assert corrected(lens, px * 1.002, 0.1, 4032, "x") is None  # within what does not matter
    assert corrected(lens, px * 1.012, px * 0.006, 4032, "x") is None  # not sure enough
    assert corrected(lens, px * 1.8, 0.4, 4032, "x") is None  # another lens
    lenses = phone("marlet-7").lenses.values()
    assert nearest(lenses, phone("marlet-7").lens("ultra-wide").focal_px * 1.03, 4032).name == "ultra-wide"
    assert nearest([], 1000.0, 4032) is None
