"""Trailing, photons, ISO and projection against worked examples."""

import math
import re
from dataclasses import replace

import numpy as np
import pytest

from vinter.core.camera import photons
from vinter.core.camera.exposure import OwnSettings, expose
from vinter.core.camera.frame_count import choose_frames
from vinter.core.camera.iso import choose_iso, iso_for_level
from vinter.core.camera.phones import SHIPPED, Lens
from vinter.core.camera.projection import Pose, east_north_up, project, unproject, view_of
from vinter.core.camera.shutter import USES
from vinter.core.camera.trailing import drift, drift_map, npf_full, npf_simple, pole_seen, rule_divisor
from vinter.core.errors import BadInput

MAIN = Lens(name="main", focal=5.6, f35=24, aperture=1.8, pitch=1.2, width=4032, height=3024)


@pytest.mark.parametrize(
    ("f35", "focal", "aperture", "pitch", "wanted"),
    [
        (24, 5.6, 1.8, 1.2, (20.8, 17.7, 9.7, 0.298)),
        (13, 2.13, 2.2, 1.12, (38.5, 51.9, 28, 0.121)),
        (70, 9, 2.4, 1.0, (7.1, 12.7, 7, 0.574)),
    ],
)
def test_rules_of_three_lenses(f35, focal, aperture, pitch, wanted):
    got = (
        rule_divisor(f35),
        npf_simple(aperture, pitch, focal),
        npf_full(aperture, pitch, focal, -29),
        drift(pitch, focal, -29),
    )
    assert got == pytest.approx(wanted, rel=0.01)


def test_drift_map_at_places_worked_by_hand():
    """A level camera at the equator of the sky, pole straight up: a star at (x, y) moves by known amounts."""
    f, rate = 3000.0, math.radians(15.041 / 3600)
    drifts = drift_map(f, 4001, 3001, pole_seen(0.0), steps=3)
    for i, y in enumerate((-1500, 0, 1500)):
        for j, x in enumerate((-2000, 0, 2000)):
            u, v = x / f, y / f
            # omega = (0, -1, 0) rate; omega x (u, v, 1) = (-1, 0, u) rate; image motion = (-1 - u u, -v u)
            # rate
            assert drifts.rate[i, j] == pytest.approx(f * rate * math.hypot(1 + u * u, u * v), rel=1e-9)
    assert drifts.rate[1, 1] == pytest.approx(f * rate)


def test_the_pole_in_the_picture_stands_still():
    drifts = drift_map(3000.0, 4001, 3001, pole_seen(90.0), steps=3)
    assert drifts.rate[1, 1] == pytest.approx(0, abs=1e-9)


def test_photons_of_the_worked_example():
    assert photons.sky_rate(MAIN, 21.7) == pytest.approx(0.171, rel=0.01)
    binned = Lens(name="binned", focal=5.6, f35=24, aperture=1.8, pitch=2.4, width=4032, height=3024)
    assert photons.sky_rate(binned, 21.7) * 15 == pytest.approx(10.2, rel=0.01)
    assert photons.sky_rate(binned, 19.5) * 15 == pytest.approx(77.7, rel=0.01)
    assert photons.sky_rate(MAIN, 21.6) / photons.sky_rate(MAIN, 21.7) == pytest.approx(1.10, abs=0.01)


@pytest.mark.parametrize(
    ("mag", "iso"), [(21.7, 2930), (21.1, 1690), (20.55, 1020), (19.8, 510), (18.25, 120)]
)
def test_iso_that_puts_the_sky_at_five_per_cent(mag, iso):
    assert iso_for_level(MAIN, photons.sky_rate(MAIN, mag), 30, 0.05) == pytest.approx(iso, rel=0.05)
    assert photons.encoded(0.05) == pytest.approx(0.25, abs=0.005)


def test_chosen_shutter_keeps_the_promise_and_reasons_name_figures():
    for phone in SHIPPED.values():
        for lens in phone.lenses.values():
            e = expose(lens, -29, 21.3)
            assert e.shutter.trail_px <= e.shutter.tolerance_px
            assert e.shutter.chosen <= lens.shutter_max
            assert lens.iso_min <= e.iso.chosen <= lens.iso_max
            assert f"{e.shutter.chosen:g} s" in e.reasons[0]
            assert e.frames.noise_gain == pytest.approx(math.sqrt(e.frames.count))


def test_a_bright_sky_asks_for_a_lower_iso_than_a_dark_one():
    assert choose_iso(MAIN, 18.0, 15).chosen < choose_iso(MAIN, 21.7, 15).chosen
    assert choose_iso(MAIN, 18.0, 15).sky_level_linear < 0.13


def test_frames_follow_the_sky_the_use_and_the_lens():
    """Enough that the band stands ten times above the noise of one pixel of the finished picture."""
    counts = {}
    for sky in (21.8, 21.3, 20.5):
        for use in USES.values():
            found = choose_frames(MAIN, sky, 10, 1600, output_px=use.output_px)
            single = photons.snr(MAIN, photons.sky_rate(MAIN, 21.0), photons.sky_rate(MAIN, sky), 10, 1600)
            averaged = max(4032 / use.output_px, 1)
            assert found.snr_output == pytest.approx(single * averaged * math.sqrt(found.count))
            if found.count == found.wanted:
                assert 10 <= found.snr_output < 10 * math.sqrt(found.count / max(found.count - 1, 1)) + 0.01
            counts[sky, use.name] = found.wanted
    names = [u.name for u in USES.values()]
    assert all(counts[21.8, u] <= counts[21.3, u] <= counts[20.5, u] for u in names)
    assert counts[21.8, names[2]] < counts[20.5, names[2]]
    assert all(counts[s, names[0]] < counts[s, names[1]] < counts[s, names[2]] for s in (21.8, 21.3, 20.5))


def test_where_no_count_helps_it_says_what_would():
    bright = expose(MAIN, -29, 16.0, 2.0, output_px=USES["print"].output_px)
    assert bright.frames.minutes <= 61 and any(
        "For 10 times no night is long enough: a darker site" in r for r in bright.stack_reasons
    )
    some = " ".join(expose(MAIN, -29, 18.5, 2.0, output_px=USES["print"].output_px).stack_reasons)
    assert re.search(
        r"For 10 times, \d+ frames \(\d\.\d h\) would be needed, more than an hour of frames", some
    )


def test_a_ratio_is_said_to_its_errors_first_figure():
    for sky in (17.0, 19.5, 20.5, 21.8):
        text = " ".join(expose(MAIN, -29, sky, output_px=USES["print"].output_px).stack_reasons)
        ratio, error = re.search(r"stands ([\d.]+) ± ([\d.]+) times", text).groups()
        assert float(error) > 0 and len(ratio.partition(".")[2]) == len(error.partition(".")[2])
    dark = expose(MAIN, -29, 21.8)
    assert not any("more than an hour of frames" in r for r in dark.stack_reasons)


def test_what_one_sets_oneself_is_planned_with_and_both_are_said():
    own = expose(MAIN, -29, 21.5, own=OwnSettings(iso=400, shutter=20.0, frames=12))
    advised = expose(MAIN, -29, 21.5)
    assert (own.iso.chosen, own.shutter.chosen, own.frames.count) == (400, 20.0, 12)
    assert own.shutter.trail_px == pytest.approx(20 * own.shutter.worst_px_s)
    text = " ".join(own.reasons)
    assert f"Your 20 s trail {own.shutter.trail_px:.1f} px" in text and "Your ISO 400" in text
    assert f"{advised.shutter.chosen:g} s would stay within" in text and "over the 4 px you allow" in text
    assert own.frames.snr_single == pytest.approx(
        photons.snr(MAIN, photons.sky_rate(MAIN, 21.0), photons.sky_rate(MAIN, 21.5), 20, 400)
    )


@pytest.mark.parametrize(
    ("own", "words"),
    [
        ({"iso": 20}, "ISO 20: this lens takes 50 to"),
        ({"iso": 999999}, "ISO 999999: this lens takes"),
        ({"shutter": 61.0}, "up to 30 s"),
        ({"frames": 0}, "1 to 2000"),
    ],
)
def test_what_the_lens_cannot_do_is_refused_with_its_range(own, words):
    with pytest.raises(BadInput, match=words):
        expose(MAIN, -29, 21.5, own=OwnSettings(**own))


def test_the_sky_peak_is_not_above_twelve_per_cent():
    """At an ISO whose sky peak would be at 15 % the noise is best, yet it is not taken."""
    noisy = replace(MAIN, read_noise=((50, 30.0), (100, 28.0), (200, 24.0), (400, 20.0), (800, 1.0)))
    rate = photons.sky_rate(noisy, 18.0)
    seconds = 0.15 * noisy.full_scale(800) / rate
    found = choose_iso(noisy, 18.0, seconds)
    assert found.chosen < 800 and found.sky_level_linear <= 0.12


def test_a_trail_spreads_the_light_of_a_star_along_itself():
    """Along a long trail the peak is the flux over the trail's length and the width across it."""
    m = photons.star_clipping(MAIN, 10, 1600, fwhm_px=2.355, trail_px=400)
    peak = photons.star_rate(MAIN, m) * 10 / (math.sqrt(2 * math.pi) * 400)
    assert peak == pytest.approx(MAIN.full_scale(1600), rel=0.01)
    assert photons.star_clipping(MAIN, 10, 1600, trail_px=8) < photons.star_clipping(MAIN, 10, 1600)


def test_a_star_of_the_clipping_magnitude_just_clips():
    m = photons.star_clipping(MAIN, 10, 1600, fwhm_px=2.355)
    peak = photons.star_rate(MAIN, m) * 10 / (2 * math.pi)
    assert peak == pytest.approx(MAIN.full_scale(1600), rel=1e-6)


def test_projection_there_and_back_with_distortion():
    view = view_of(SHIPPED["marlet-7"].lens("main"), Pose(180, 20, 3))
    x, y = np.array([0.0, 2015.5, 4031.0, 100.0]), np.array([0.0, 1511.5, 3023.0, 2900.0])
    back = project(view, unproject(view, x, y))
    assert np.abs(back[0] - x).max() < 1e-3 and np.abs(back[1] - y).max() < 1e-3


def test_projection_by_hand():
    """A pinhole looking south at the horizon: 10 degrees up on the axis lies f tan 10 above the centre."""
    lens = Lens(name="x", focal=5.0, f35=24, aperture=1.8, pitch=2.0, width=4001, height=3001)
    view = view_of(lens, Pose(180, 0))
    x, y, front = project(view, east_north_up(np.array([10.0, 0.0]), np.array([180.0, 190.0])))
    assert front.all()
    assert (x[0], y[0]) == pytest.approx((2000, 1500 - 2500 * math.tan(math.radians(10))))
    assert (x[1], y[1]) == pytest.approx(
        (2000 + 2500 * math.tan(math.radians(10)), 1500)
    )  # west is to the right when facing south


def test_bad_figures_name_the_field():
    with pytest.raises(BadInput, match="aperture"):
        Lens(name="x", focal=5.6, f35=24, aperture=0, pitch=1.2, width=4032, height=3024)
    with pytest.raises(BadInput, match="declination"):
        expose(MAIN, 120, 21)
    with pytest.raises(BadInput, match="tolerance"):
        expose(MAIN, 0, 21, tolerance_px=-1)
    with pytest.raises(BadInput, match="no lens 'periscope'"):
        SHIPPED["marlet-7"].lens("periscope")


def test_every_iso_of_the_dial_can_win_under_some_sky():
    chosen = {expose(MAIN, -29, sky).iso.chosen for sky in (18.0, 19.0, 19.5, 20.0, 20.5, 21.5)}
    assert {800, 1600, 3200} <= chosen and min(chosen) <= 200


def test_every_count_says_how_far_it_may_be_off():
    found = expose(MAIN, -29, 21.5)
    low, high = found.frames.wanted_range
    assert low < found.frames.wanted < high and 1.3 / 0.7 < high / low < (1.3 / 0.7) ** 2  # read noise adds
    assert found.iso.level_range[0] < found.iso.sky_level_encoded < found.iso.level_range[1]
    assert "±" in found.reasons[1] and "±" in found.stack_reasons[-1]
    assert [length.seconds for length in found.lengths] == sorted({15.0, 30.0, found.shutter.chosen})
    longer = found.lengths[-1]
    assert longer.trail_px == pytest.approx(30 * found.shutter.worst_px_s) and not longer.within


def test_an_ultra_wide_has_two_shutters_and_the_use_says_which():
    """13 mm on a tripod level to the south: a star's place in the frame is f tan of its angle, so its speed
    grows with the square of the secant; asked of two places by stepping a sphere, not by our derivative."""
    lens = SHIPPED["marlet-7"].lens("ultra-wide")
    drifts = drift_map(lens.focal_px, lens.width, lens.height, pole_seen(-10))

    def stepped(share):
        """px/s of a star in the lower corner of that share of the frame, by turning the sky for a second."""
        pole = pole_seen(-10) / np.linalg.norm(pole_seen(-10))
        x, y = share * lens.width / 2, share * lens.height / 2
        fastest = 0.0
        for sx in (-1, 1):
            for sy in (-1, 1):
                ray = np.array([sx * x, sy * y, lens.focal_px])
                angle = np.radians(15.041 / 3600)
                turned = (
                    ray * np.cos(angle)
                    + np.cross(pole, ray) * np.sin(angle)
                    + pole * (pole @ ray) * (1 - np.cos(angle))
                )
                moved = turned[:2] / turned[2] * lens.focal_px - ray[:2]
                fastest = max(fastest, float(np.hypot(*moved)))
        return fastest

    assert drifts.worst == pytest.approx(stepped(1.0), rel=0.02)
    assert drifts.inner == pytest.approx(stepped(0.8), rel=0.06)
    by_middle, by_corner = (
        expose(lens, -10, 21.5, drifts=drifts, corners=corners) for corners in (False, True)
    )
    assert by_middle.shutter.chosen > by_corner.shutter.chosen
    assert by_middle.shutter.chosen * stepped(0.8) <= 4.0 * 1.06
    assert any("in the middle 80 % of the frame" in r and "as on a print" in r for r in by_middle.reasons)
    assert any("the middle 80 % of the frame alone would bear" in r for r in by_corner.reasons)
    main = expose(MAIN, -29, 21.5, corners=False).shutter
    assert main.by_middle == 0 and main.chosen == expose(MAIN, -29, 21.5).shutter.chosen
    assert USES["print"].corners and not USES["screen"].corners
