"""The rehearsal gives back what was set, and the coach sees what goes wrong; field advice and packing."""

from dataclasses import replace
from functools import cache

import numpy as np
import pytest

from vinter.core.camera.iso import IsoCosts, choose_iso
from vinter.core.camera.phones import phone
from vinter.core.camera.photons import encoded, sky_rate
from vinter.core.field.check import advise
from vinter.core.field.packing import Outing, pack_list
from vinter.core.frames.measuring import measure
from vinter.core.rehearse.coach import Judgement, as_frame, histogram, judge_exercise, worst_drift
from vinter.core.rehearse.exercises import LADDER, Exercise, exercise
from vinter.core.rehearse.outcome import Outcome, after_leaving, after_press
from vinter.core.simulate.modes import PhoneSettings, developed, loupe, press
from vinter.core.simulate.phone import SimulatedPhone

RIGHT = {
    "first": PhoneSettings(iso=1600, shutter=10, ticks=4),
    "infinity": PhoneSettings(iso=1600, shutter=10, ticks=4),
    "finger": PhoneSettings(iso=6400, shutter=2, ticks=4),
    "thirty": PhoneSettings(iso=1600, shutter=10, ticks=4),
    "ultra-wide": PhoneSettings(iso=1600, shutter=20, ticks=0),
    "suburb": PhoneSettings(iso=200, shutter=6, ticks=4),
    "automatic": PhoneSettings(iso=1600, shutter=10, ticks=4),
}
SAYS = {
    "first": "read noise",
    "infinity": "focus is off",
    "finger": "shook",
    "thirty": "trail",
    "ultra-wide": "read noise",
    "suburb": "headroom",
    "automatic": "merged 16 frames",
    "mist": "same veil",
}


@pytest.fixture(scope="module")
def standing():
    cameras = {}

    def of(one):
        key = (one.site, one.the_lens)
        if key not in cameras:
            cameras[key] = SimulatedPhone(one.burst())
            _ = cameras[key].ground
        return cameras[key]

    return of


@pytest.mark.parametrize("key", [e.key for e in LADDER])
def test_the_ladder_teaches_what_it_says(key, standing, monkeypatch):
    """On the middle of the sensor, whose pixels are as they are and a quarter as many."""

    def middle(self):
        whole = phone(self.phone).lens(self.lens)
        return replace(whole, width=whole.width // 2, height=whole.height // 2)

    monkeypatch.setattr(Exercise, "the_lens", property(middle))
    one = exercise(key)
    first = judge_exercise(press(one.burst(), one.start, standing(one), 3), one)
    assert not first.passed and SAYS[key] in first.sentence and any(c.isdigit() for c in first.sentence)
    if key in RIGHT:
        assert judge_exercise(press(one.burst(), RIGHT[key], standing(one), 4), one).passed
    else:
        assert one.leave


def test_a_press_measures_as_it_was_set(standing):
    """Background, noise, star width and trail within 10 % of what the settings give."""
    one = exercise("first")
    camera = standing(one)
    shown = press(one.burst(), PhoneSettings(iso=1600, shutter=20.0, ticks=4), camera, 5)
    m = measure(as_frame(shown))
    phone = SimulatedPhone(shown.burst)
    phone.__dict__["ground"] = camera.ground
    dark = one.the_lens.dark_current * 20
    level = float(np.median(phone.electrons(0)[0::2, 1::2])) - dark
    scale = one.the_lens.full_scale(1600)
    assert m.background == pytest.approx(level / scale, rel=0.10)
    assert m.noise == pytest.approx(
        np.sqrt(level + dark + one.the_lens.noise_at(1600) ** 2) / scale, rel=0.10
    )
    _, x, y, v = phone.stars_at(0)
    cx, cy = phone.view.centre
    off = np.hypot(x - cx, y - cy)[v < 6] / np.hypot(cx, cy)
    sigma2 = float(np.median((1.15 * (1 + 0.15 * off**2)) ** 2))
    ends = SimulatedPhone(replace(shown.burst, count=2, shutter=10.0, gap=10.0))
    a, b = ends.stars_at(0), ends.stars_at(1)
    _, i, j = np.intersect1d(a[0], b[0], return_indices=True)
    trail = float(np.median(np.hypot(a[1][i] - b[1][j], a[2][i] - b[2][j])))  # 20 s of drift
    assert m.trail_px == pytest.approx(trail, rel=0.12)
    # stars of a real sky stand close; some are taken for one, and those towards the corner are brighter and
    # wider
    assert m.fwhm_px == pytest.approx(2.3548 * np.sqrt(sigma2 + trail**2 / 24), rel=0.16)
    assert worst_drift(shown) * 20 > trail


def test_pictures_show_what_was_done(standing):
    one = exercise("first")
    plain, lit, cool, warm = (
        developed(press(one.burst(), s, standing(one), 3)).astype(float)
        for s in (
            PhoneSettings(iso=1600, shutter=10, ticks=4),
            PhoneSettings(iso=1600, shutter=10, ticks=4, lamp=2.0),
            PhoneSettings(iso=1600, shutter=10, ticks=4, kelvin=3200),
            PhoneSettings(iso=1600, shutter=10, ticks=4, kelvin=7000),
        )
    )
    assert plain.shape == (1512, 2016, 3)
    assert lit[1400:].mean() > 3 * plain[1400:].mean() and lit[:400].mean() == pytest.approx(
        plain[:400].mean(), rel=0.02
    )
    assert warm[..., 0].mean() / warm[..., 2].mean() > 1.5 * cool[..., 0].mean() / cool[..., 2].mean()
    shown = press(one.burst(), PhoneSettings(iso=1600, shutter=10, ticks=4), standing(one), 3)
    assert loupe(shown, 2000, 1000).shape == (420, 640, 3) and loupe(shown, 0, 9999).shape == (420, 640, 3)
    counts = histogram(shown)
    assert sum(counts) > 100_000 and abs(int(np.argmax(counts[2:])) + 2 - encoded(0.0146) * 64) < 4


@cache
def field_press():
    return measure(
        as_frame(press(exercise("first").burst(), PhoneSettings(iso=1600, shutter=10, ticks=4), None, 3))
    )


def field_measure(**changes):
    return replace(field_press(), **changes)


def test_the_one_next_change():
    lens = exercise("first").the_lens
    m = field_measure()
    assert advise(m, lens, 0.32, 5).good
    cases: tuple[tuple[dict[str, float], str], ...] = (
        ({"stars": 3}, "focus"),
        ({"stars": 3, "background": 0.6}, "ISO 400"),
        ({"background": 0.3}, "ISO"),
        ({"fwhm_px": 6.0}, "focus one tick"),
        ({"trail_px": 7.0, "elongation": 2.0, "exposure_s": 30.0}, "shutter 20"),
        ({"trail_px": 30.0, "elongation": 5.0}, "delay 3 s"),
        ({"clipped_fraction": 0.05}, "turn the frame"),
        ({"background": 0.002, "iso": 400}, "ISO 3200"),
    )
    for change, what in cases:
        advice = advise(replace(m, **change), lens, 0.32, 5)
        assert not advice.good and advice.change.startswith(what.split()[0]) and what in advice.change, change


@pytest.mark.parametrize("zenith", [22.0, 21.0, 19.5, 17.5])
@pytest.mark.parametrize("pitch", [1.0, 2.0, 4.0])
def test_what_the_plan_sets_is_not_called_too_dark(zenith, pitch):
    """Plan and test shot judge read noise by the same sums, whatever the pixels."""
    lens = replace(exercise("first").the_lens, pitch=pitch)
    m = field_measure()
    for seconds in (2.0, 10.0, 20.0):
        plan = choose_iso(lens, zenith, seconds)
        shot = replace(m, iso=plan.chosen, exposure_s=seconds, background=plan.sky_level_linear, trail_px=0)
        advice = advise(shot, lens, 0.32, 5)
        assert advice.good, (seconds, plan.chosen, advice.sentence)
        lower = replace(shot, iso=50, background=plan.sky_electrons / lens.full_scale(50))
        told = advise(lower, lens, 0.32, 5)
        if IsoCosts(lens, plan.sky_electrons, seconds).excess(50) > 0.11:
            assert "read noise adds" in told.sentence and told.change == f"ISO {plan.chosen}"


def test_sky_rate_sets_the_sky_peak():
    """The level the simulated phone writes follows from the photon sums."""
    one = exercise("first")
    rate = sky_rate(one.the_lens, 21.0)
    assert 0.4 < rate < 1.6  # electrons a second on 2 um at f/1.8


def test_packing_follows_from_the_plan():
    texts = {
        i.text: i.why
        for i in pack_list(
            Outing(
                temperature=1.0,
                dew_spread=1.5,
                drive_minutes=115,
                minutes=95,
                hazards=("water", "animals", "gone-by-now"),
            )
        )
    }
    joined = " ".join(texts)
    for part in (
        "Warm layers",
        "Power bank in an inner pocket",
        "Boots",
        "animals",
        "Rest planned",
        "band for the lens",
        "whistle",
    ):
        assert part in joined
    short = " ".join(
        i.text for i in pack_list(Outing(temperature=22.0, drive_minutes=20, minutes=10, alone=False))
    )
    assert "signal" not in joined and "signal" not in short
    assert "Warm" not in short and "Boots" not in short and "whistle" not in short


def judged(passed, sentence="The sky is white.", change="ISO 800"):
    return Judgement(passed, sentence, change, [], None)


def test_a_rehearsal_ends_when_it_is_passed_used_up_or_left():
    assert after_press(judged(True, "Good."), 1, 3) == Outcome(True, True, "Passed with 1 test shot. Good.")
    assert after_press(judged(True, "Good."), 2, 0).words.startswith("Passed with 2 test shots.")
    assert after_press(judged(False), 2, 1) == Outcome(False, False)
    used_up = after_press(judged(False), 6, 0)
    assert used_up.ended and not used_up.passed and used_up.words.endswith("would have been: ISO 800.")
    right = after_leaving(True, ["Soft.", "Still soft."])
    assert right.passed and "Still soft. Write it down" in right.words and " Soft." not in right.words
    assert after_leaving(False, ["Soft."]) == Outcome(
        True, False, "This night was good: the settings were not. Try again."
    )
