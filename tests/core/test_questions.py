"""The test shot by questions: the same next change as by the measures, for whoever looks well."""

import numpy as np
import pytest

from vinter.core.camera.phones import phone
from vinter.core.camera.photons import encoded
from vinter.core.camera.projection import Pose
from vinter.core.field.check import advise
from vinter.core.field.questions import LEVELS, QUESTIONS, answered, every_answer, moves
from vinter.core.frames.measure import Measure
from vinter.core.simulate.capture import Burst
from vinter.core.simulate.phone import SimulatedPhone
from vinter.core.sky.site import Site

LENS, DRIFT, TOLERANCE = phone("marlet-7").lens("main"), 0.34, 4.0


def measured(level, stars=300, fwhm=2.8, elongation=1.1, trail=1.0, clipped=0.0, iso=1600, seconds=10.0):
    return Measure(
        file="", kind="", width=4032, height=3024, iso=iso, exposure_s=seconds, time=None, stars=stars,
        fwhm_px=fwhm, elongation=elongation, trail_px=trail, background=level, noise=0.0,
        clipped_fraction=clipped, streaks=0, raw="sensor", raw_reasons=[],
    )  # fmt: skip


def looked_at(m, seconds):
    """What somebody who looks well answers of a frame with these measures."""
    shown = [abs(encoded(m.background) - encoded(level)) for level in LEVELS.values()]
    peak = list(LEVELS)[int(np.argmin(shown))]
    if m.elongation < 1.35 or m.trail_px < 2.5:
        shape = "points" if m.fwhm_px < 4.4 else "discs"
    elif m.trail_px > 1.8 * max(DRIFT * seconds * 0.7, 1.0):
        shape = "crooked"
    else:
        shape = "short" if m.trail_px < 2.5 * TOLERANCE * 0.7 else "long"
    return peak, "many" if m.stars >= 20 else "few", shape, "yes" if m.clipped_fraction > 0.01 else "no"


def kind(change):
    """What is changed, and to what where it is a step of a dial."""
    return change.split()[0]


def test_the_questions_lead_to_the_change_that_the_measures_lead_to():
    drawn, same = np.random.default_rng(2), 0
    for _ in range(60):
        seconds = float(drawn.choice([4, 10, 20, 30]))
        level = float(np.exp(drawn.uniform(np.log(0.004), np.log(0.5))))
        case = drawn.integers(5)
        m = measured(
            level,
            stars=5 if case == 0 else 300,
            fwhm=6.0 if case == 1 else 2.7,
            elongation=2.4 if case in (2, 3) else 1.1,
            trail=DRIFT * seconds * 0.7 if case == 2 else 14.0 if case == 3 else 1.0,
            clipped=0.02 if case == 4 else 0.0,
            seconds=seconds,
        )
        by_measures = advise(m, LENS, DRIFT, TOLERANCE)
        by_answers = answered(LENS, 1600, seconds, DRIFT, TOLERANCE, looked_at(m, seconds))
        same += kind(by_measures.change) == kind(by_answers.change)
    assert same >= 55


@pytest.mark.parametrize(
    ("path", "change"),
    [
        (("quarter", "many", "points", "no"), "nothing"),
        (("right", "few", "points", "no"), "ISO 400"),
        (("quarter", "few", "points", "no"), "focus 4 ticks"),
        (("quarter", "many", "discs", "no"), "focus one tick"),
        (("quarter", "many", "long", "no"), "shutter 6 s"),
        (("quarter", "many", "crooked", "no"), "delay 3 s"),
        (("quarter", "many", "points", "yes"), "turn the frame"),
    ],
)
def test_each_trouble_has_its_own_change(path, change):
    assert answered(LENS, 1600, 10.0, DRIFT, TOLERANCE, path).change.startswith(change)


def test_every_path_has_one_change_and_the_target_its_move():
    paths = every_answer(LENS, 1600, 10.0, DRIFT, TOLERANCE)
    assert len(paths) == int(np.prod([len(q.answers) for q in QUESTIONS[:-1]]))
    assert all(sentence and change for sentence, change, _ in paths.values())
    turned = moves(70.0, 54.0)
    assert set(turned) == {a.key for a in QUESTIONS[-1].answers}
    assert "right by two fists" in turned["right"] and turned["there"] == ""


def test_a_simulated_shot_and_its_answers_agree(tmp_path):
    """Three real frames of the simulated phone: as planned, far too long, out of focus."""
    from dataclasses import replace

    from vinter.core.frames.measuring import measure
    from vinter.core.frames.reading import read_frame

    lens = replace(LENS, width=1344, height=1008)
    site = Site(lat=37.7, lon=-8.78, tz="Europe/Lisbon", zenith=21.5)
    for seconds, off in ((10.0, 0.0), (30.0, 0.0), (10.0, 4.0)):
        burst = Burst(
            site=site, lens=lens, start=1812588300.0, pose=Pose(180, 30), iso=1600, shutter=seconds, count=1,
            traffic=False, focus_error=off,
        )  # fmt: skip
        m = measure(read_frame(SimulatedPhone(burst).write(0, tmp_path)))
        by_measures = advise(m, lens, DRIFT, TOLERANCE)
        by_answers = answered(lens, 1600, seconds, DRIFT, TOLERANCE, looked_at(m, seconds))
        assert kind(by_measures.change) == kind(by_answers.change), (seconds, off)
