"""What a card says when the night turns: sums that a person can do again."""

from dataclasses import replace

import pytest

from vinter.core.camera.projection import Pose
from vinter.core.field.minutes import Minute, Settings
from vinter.core.field.turns import Run, last_moment, turns
from vinter.core.forecast import Forecast, Hour

START = 1_812_500_000.0
RUN = Run(12, 240.0, "light the ground")


def minute(k, able=True):
    pose = Pose(180, 20)
    settings = Settings(3200, 15, 12) if able else None
    return Minute(START + 600 * k, pose, settings, "", (180, 20), 21.0, (0, -10), -30, [], [], "")


def hour(k, cloud, spread):
    return Hour(
        t=START + 3600 * k, cloud_low=cloud, cloud_mid=0, cloud_high=0, humidity=0.9, dew_point=5.0 - spread,
        wind=1, temperature=5.0,
    )  # fmt: skip


NIGHT = [minute(k, able=k < 9) for k in range(12)]  # settings until the 80th minute


def lines(title, **given):
    run, rows = given.get("run", RUN), given.get("rows", NIGHT)
    found = turns(run, rows, given.get("end"), given.get("forecast"))
    return {one.label: one for one in next(t for t in found if t.title.startswith(title)).lines}


@pytest.mark.parametrize(("end", "last"), [(None, 4800.0), (START + 3000, 3000.0), (START + 9000, 5400.0)])
def test_the_last_moment_is_the_windows_end_or_the_last_minute_with_settings(end, last):
    assert last_moment(NIGHT, end) == START + last


def test_after_cloud_the_run_still_fits_that_ends_with_the_window():
    said = lines("Cloud", end=START + 3000)
    assert said["The whole run can begin until"].at == (START + 3000 - 240,)
    assert said["6 frames, noise 1.4 times"].at == (START + 3000 - 120,)
    assert said["If it stays"].words == "light the ground; then go home"


def test_the_clearest_hour_is_named_with_its_chance():
    sky = Forecast(START, "a run", (hour(0, 0.9, 8), hour(1, 0.2, 8)))
    assert lines("Cloud", end=START + 5000, forecast=sky)["Clearest hour forecast"].words == "80 % clear"


def test_where_nothing_can_be_shot_any_more_no_time_is_promised():
    assert list(lines("Cloud", rows=[minute(k, able=False) for k in range(4)])) == ["If it stays"]


def test_the_battery_lasts_by_what_it_lost():
    said = lines("Cold")
    assert said["4 % lost"].words == "50 min left: the whole run"
    long = lines("Cold", run=Run(120, 3600.0, ""))
    assert long["8 % lost"].words == "25 min left: 50 of 120 frames"


def test_the_usual_loss_is_that_of_the_coldest_hour():
    mild = lines("Cold", forecast=Forecast(START, "a run", (hour(0, 0, 7),)))
    cold = Forecast(START, "a run", (replace(hour(0, 0, 7), temperature=-12.0, dew_point=-19.0),))
    told = (mild["Usual loss at 5 °C"], lines("Cold", forecast=cold)["Usual loss at −12 °C"])
    usual, more = (float(one.words.split()[0]) for one in told)
    assert 1 <= usual < more <= 10


def test_dew_says_whether_it_comes_back():
    wet = lines("Dew", forecast=Forecast(START, "a run", (hour(0, 0, 1), hour(1, 0, 6))))
    dry = lines("Dew", forecast=Forecast(START, "a run", (hour(0, 0, 7), hour(1, 0, 6))))
    assert wet["Closest to the dew point"].words == "1 K: it will come back"
    assert dry["Closest to the dew point"].words == "6 K: wiping should last"
    assert "Closest to the dew point" not in lines("Dew")


def test_a_single_frame_has_no_half():
    one = Run(1, 30.0, "wait")
    assert not [label for label in lines("Cloud", run=one, end=START + 3000) if "noise" in label]
    assert "Frames before it" not in lines("Dew", run=one)
