"""What to take along, when to leave, what can hurt, and how a rehearsal ends: every line of the rules."""

import itertools

import pytest

from vinter.core.errors import BadInput
from vinter.core.field.card import spoken_shutter
from vinter.core.field.departure import leave_by
from vinter.core.field.hazards import HAZARDS
from vinter.core.field.packing import ALWAYS, Mark, Outing, marked, pack_list
from vinter.core.frames.frame_type import FRAME_TYPES, NEVER_STACKED
from vinter.core.frames.selection import Candidate, Decision
from vinter.core.planning.modes.basis import MODE_PLAN
from vinter.core.rehearse.coach import Judgement
from vinter.core.rehearse.outcome import after_leaving, after_press
from vinter.core.versions import Schema


def keys(**known):
    return [item.key for item in pack_list(Outing(**known))]


def test_what_is_always_taken_is_first_and_in_one_order():
    usual = [item.key for item in ALWAYS]
    assert keys(temperature=25.0, alone=False) == usual
    assert len(set(usual)) == len(usual) and "told-somebody" in usual


@pytest.mark.parametrize(
    ("known", "there", "missing"),
    [
        ({"temperature": 11.9}, "warm-layers", "warm-bank"),
        ({"temperature": 12.0}, "tripod", "warm-layers"),
        ({"temperature": None}, "warm-layers", "warm-bank"),
        ({"temperature": 2.9}, "warm-bank", "bank"),
        ({"temperature": 3.0, "minutes": 61.0}, "bank", "warm-bank"),
        ({"minutes": 60.0}, "tripod", "bank"),
        ({"dew_spread": 2.9}, "heat-pack", "bank"),
        ({"dew_spread": 3.0}, "tripod", "heat-pack"),
        ({"drive_minutes": 61.0}, "rest", "bank"),
        ({"drive_minutes": 60.0}, "tripod", "rest"),
        ({"alone": True}, "second-phone", "rest"),
        ({"alone": False}, "tripod", "second-phone"),
        ({"hazards": ("water", "edge")}, "hazard-edge", "hazard-road"),
    ],
)
def test_each_rule_at_its_edge(known, there, missing):
    found = keys(**known)
    assert there in found and missing not in found


def test_every_danger_has_words_to_choose_by_and_something_to_take():
    found = {i.key: i for i in pack_list(Outing(hazards=tuple(HAZARDS)))}
    for key, hazard in HAZARDS.items():
        assert found[f"hazard-{key}"].text == hazard.pack and found[f"hazard-{key}"].why == hazard.label
    assert keys(hazards=("dragons",)) == keys()  # what is no longer known is passed over


def test_no_combination_names_a_thing_twice():
    for cold, dew, drive, minutes, alone in itertools.product(
        (None, -5.0, 8.0, 20.0), (None, 1.0, 9.0), (None, 20.0, 90.0), (5.0, 120.0), (True, False)
    ):
        found = keys(
            temperature=cold,
            dew_spread=dew,
            drive_minutes=drive,
            minutes=minutes,
            alone=alone,
            hazards=tuple(HAZARDS),
        )
        assert len(found) == len(set(found))


def test_marks_of_a_person_follow_and_what_is_left_out_stays_out():
    items = pack_list(Outing(temperature=20.0, alone=False))
    rows = marked(
        items, [Mark("cloth", left_out=True), Mark("tripod", packed=True), Mark("own-tea", text="Tea")]
    )
    assert [r.item.key for r in rows][-1] == "own-tea" and "cloth" not in [r.item.key for r in rows]
    assert [r.item.key for r in rows if r.packed] == ["tripod"]
    assert rows[-1].item.why == "yours"


def test_one_leaves_early_enough_to_set_up():
    assert leave_by(1_000_000.0, 0.0) == 1_000_000 - 30 * 60
    assert leave_by(1_000_000.0, 115.0) == 1_000_000 - 145 * 60


@pytest.mark.parametrize(
    ("seconds", "words"),
    [(10, "10 s"), (0.5, "0.5 s"), (0.4, "0.4 s"), (0.25, "1/4 s"), (1 / 500, "1/500 s")],
)
def test_a_shutter_is_said_as_a_phone_says_it(seconds, words):
    assert spoken_shutter(seconds) == words


@pytest.mark.parametrize("frame_type", FRAME_TYPES)
@pytest.mark.parametrize("verdict", ["keep", "doubt", "drop"])
def test_the_users_word_decides_whatever_was_measured(frame_type, verdict):
    def of(decision, **other):
        known = {"readable": True, "measured": True, **other}
        return Candidate(frame_type, verdict=verdict, decision=decision, **known)

    assert of(Decision.KEEP).included and not of(Decision.DROP).included
    assert of(Decision.NONE).included == (frame_type == "sky" and verdict != "drop")
    assert of(Decision.KEEP).stackable == (frame_type not in NEVER_STACKED)
    assert not of(Decision.KEEP, readable=False).included and not of(Decision.KEEP, measured=False).included
    assert of(Decision.NONE).serves_as(frame_type) and not of(Decision.DROP).serves_as(frame_type)
    assert not of(Decision.NONE, readable=False).serves_as(frame_type)


def judged(passed):
    return Judgement(
        sentence="Trails of 9 px.", change="shutter 20 s", passed=passed, figures=[], measure=None
    )


def test_a_rehearsal_ends_when_it_is_passed_or_used_up():
    won = after_press(judged(True), 1, 5)
    assert won.ended and won.passed and won.words == "Passed with 1 test shot. Trails of 9 px."
    assert "3 test shots" in after_press(judged(True), 3, 0).words
    lost = after_press(judged(False), 6, 0)
    assert lost.ended and not lost.passed and "The next change would have been: shutter 20 s." in lost.words
    on = after_press(judged(False), 2, 4)
    assert not on.ended and not on.passed and on.words == ""


def test_packing_up_is_right_on_one_night_only():
    right, wrong = after_leaving(True, ["Stars are 6 px wide."]), after_leaving(False, [])
    assert right.ended and right.passed and "Stars are 6 px wide." in right.words
    assert wrong.ended and not wrong.passed and "settings" in wrong.words
    assert after_leaving(True, []).passed


def test_data_climb_every_step_and_their_giver_keeps_his():
    def renamed(data):
        return {"b": data["a"]}

    def doubled(data):
        return {"b": 2 * data["b"]}

    schema = Schema("thing", (renamed, doubled))
    old = {"a": 3}
    assert schema.current(old) == {"b": 6, "version": 3} and old == {"a": 3}
    assert schema.current({"b": 5, "version": 2}) == {"b": 10, "version": 3}
    assert schema.current({"b": 5, "version": 3}) == {"b": 5, "version": 3}
    for bad in (0, 4, "3", None, 2.5):
        with pytest.raises(BadInput, match="thing"):
            schema.current({"version": bad})


def test_steps_of_a_plan_of_the_first_version_keep_their_order():
    plan = MODE_PLAN.current(
        {"steps": [["Lamp on", "8 s, from the left"], ["Interval", "12 s"], ["Lamp on", "2 s"]]}
    )
    assert [(s["kind"], s["seconds"]) for s in plan["steps"]] == [("lamp", 8.0), ("set", 0.0), ("lamp", 2.0)]
    assert plan["version"] == MODE_PLAN.version and MODE_PLAN.current(plan) == plan
