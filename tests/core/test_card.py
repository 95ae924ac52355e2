"""The card's order of work, the timer, plan B, and the coldest hour one is out."""

from dataclasses import replace

from vinter.core.camera.phones import phone
from vinter.core.camera.projection import Pose
from vinter.core.field.card import checks, plan_b, spoken_shutter, timing
from vinter.core.field.packing import Item, Mark, Outing, cold_and_dew, marked, pack_list
from vinter.core.forecast import Forecast, Hour
from vinter.core.planning.modes.basis import MODE_PLAN, CardStep, StepKind
from vinter.core.planning.modes.registry import mode_of


def test_a_timer_counts_the_phones_pause_or_the_modes_own_interval():
    plain = timing(10.0, 24, None)
    assert (
        (plain.exposure, plain.frames, plain.lamp) == (10.0, 24, 0.0)
        and 0.5 <= plain.gap <= 3
        and plain.delay > 0
    )
    lapse = timing(
        10.0,
        200,
        15.0,
        [CardStep("Interval", "15 s"), CardStep("Now the lamp", "from the left", StepKind.LAMP, 4.0)],
    )
    assert lapse.gap == 5.0 and lapse.lamp == 4.0
    assert timing(20.0, 5, 8.0).gap == 0.0  # an interval shorter than the exposure cannot be kept


def test_plan_b_names_the_windows_end_when_there_is_one_and_fits_the_kind_of_picture():
    usual = mode_of("stack").on_cloud
    assert plan_b("02:40", usual) == f"Cloud? wait until 02:40, or {usual}; then go home."
    assert plan_b(None, usual).startswith("Cloud? shoot trails")
    for key in ("leaned", "moon", "planet-venus", "timelapse", "trails", "station"):
        assert "trails through" not in plan_b(None, mode_of(key).on_cloud), key


def test_the_cards_checks_are_in_the_order_of_doing():
    lens = phone("marlet-7").lens("main")
    labels = [label for label, _ in checks(lens, 1600, 10.0, 24, Pose(174, 24), [CardStep("Lamp on", "4 s")])]
    assert (
        labels.index("Flash off, screen dim, no alerts")
        < labels.index("ISO")
        < labels.index("Frames")
        < labels.index("Lamp on")
    )
    values = dict(checks(replace(lens, infinity_ticks=0), 1600, 10.0, 24, Pose(174, 24)))
    assert values["Focus, at the end mark"] == "infinity" and values["Point to"] == "az 174° up 24°"
    assert [spoken_shutter(s) for s in (10, 0.5, 0.02)] == ["10 s", "0.5 s", "1/50 s"]


def hour(start, temperature, dew_point):
    return Hour(
        t=start,
        cloud_low=0.0,
        cloud_mid=0.0,
        cloud_high=0.0,
        humidity=0.8,
        dew_point=dew_point,
        wind=2.0,
        temperature=temperature,
    )


def test_the_coldest_hour_is_sought_while_one_is_out_and_an_hour_around_it():
    start = 1812588300.0
    night = ((-6, -20, -21), (-0.5, 9, 4), (0.5, 6, 5), (1.5, 8, 2), (9, -15, -16))
    forecast = Forecast(start, "made up", tuple(hour(start + 3600 * h, t, d) for h, t, d in night))
    assert cold_and_dew(forecast, start, 60) == (6, 1)
    assert cold_and_dew(None, start, 60) == (None, None)
    texts = {i.text for i in pack_list(Outing(temperature=6.0, drive_minutes=90, minutes=60, dew_spread=1.0))}
    assert any("Heat pack" in t for t in texts) and any("Warm layers" in t for t in texts)


def test_a_plan_kept_by_the_first_version_still_lights_the_lamp():
    plan = {"interval": 11.0, "steps": [["Lamp on in one frame", "2.5 s"], ["Interval", "15 s"]]}
    steps = [CardStep(**s) for s in MODE_PLAN.current(plan)["steps"]]
    assert timing(10.0, 3, 11.0, steps).lamp == 2.5
    assert [s.label for s in steps] == ["Lamp on in one frame", "Interval"]
    assert MODE_PLAN.current(MODE_PLAN.current(plan)) == MODE_PLAN.current(plan)


def test_a_persons_marks_follow_the_key_and_not_the_words():
    items = [Item("phone", "Phone, charged"), Item("cloth", "Lens cloth")]
    marks = [Mark("phone", packed=True), Mark("cloth", left_out=True), Mark("own:thermos", text="Thermos")]
    rows = marked([Item("phone", "Phone, full"), *items[1:]], marks)
    assert [(r.item.text, r.packed) for r in rows] == [("Phone, full", True), ("Thermos", False)]
    assert len({i.key for i in pack_list(Outing())}) == len(pack_list(Outing()))
