"""Forecasts: chances worked by hand, files, the stand-in's weather and its habits."""

from datetime import UTC, datetime

import numpy as np
import pytest

from vinter.core.errors import BadInput
from vinter.core.forecast import Forecast, Hour, outlook, read_csv, state, write_csv
from vinter.core.simulate.weather import answer, weather

NOW = datetime(2027, 6, 8, 12, tzinfo=UTC).timestamp()
HEAD = "time,cloud_low,cloud_mid,cloud_high,humidity,dew_point,wind,temperature\n"


def hour(i, low=0.0, mid=0.0, high=0.0, **more):
    return Hour(
        t=NOW + 3600 * i,
        cloud_low=low,
        cloud_mid=mid,
        cloud_high=high,
        **{"humidity": 0.6, "dew_point": 8.0, "wind": 2.0, "temperature": 14.0, **more},
    )


def test_chance_of_layers_by_hand():
    assert hour(0).clear == 1
    assert hour(0, 0.5, 0.2, 0.5).clear == pytest.approx(0.5 * 0.8 * 0.65)
    assert hour(0, fog=1.0).clear == 0


def test_a_window_takes_its_own_hours_only():
    forecast = Forecast(NOW, "made", tuple(hour(i, low=1.0 if i < 12 else 0.25) for i in range(30)))
    found = outlook(forecast, NOW + 12 * 3600, NOW + 16 * 3600, NOW)
    assert found.chance == pytest.approx(0.75) and len(found.hours) == 4
    assert outlook(forecast, NOW + 40 * 3600, NOW + 44 * 3600, NOW) is None
    nearer, farther = (outlook(forecast, NOW + h * 3600, NOW + (h + 2) * 3600, NOW).error for h in (1, 26))
    assert nearer < farther


def test_remarks_name_what_hurts():
    forecast = Forecast(
        NOW,
        "made",
        (hour(0, dew_point=13.2), hour(1, fog=0.6), hour(2, wind=11.0, temperature=-3.0, dew_point=-9.0)),
    )
    words = " ".join(outlook(forecast, NOW, NOW + 3 * 3600, NOW).words)
    for part in ("−3 °C", "0.8 K", "Fog", "11 m/s", "Wind shakes"):
        assert part in words


def test_state_says_far_over_stale_and_missing():
    fresh, old = (Forecast(NOW - age * 3600, "made", (hour(0),)) for age in (2, 50))
    assert state(fresh, NOW + 3600, NOW) == ""
    assert "50 hours old" in state(old, NOW + 3600, NOW)
    assert "Too far ahead" in state(fresh, NOW + 40 * 86400, NOW)
    assert "over" in state(fresh, NOW - 3 * 86400, NOW)
    assert "No forecast" in state(None, NOW + 3600, NOW)


def test_csv_goes_out_and_comes_back():
    hours = tuple(weather(37.7, -8.77, NOW, 48))
    back = read_csv(write_csv(hours), "mine.csv", NOW).good
    assert back.hours == hours and back.source == "file mine.csv"


@pytest.mark.parametrize(
    ("text", "message"),
    [
        ("time,cloud_low\n2027-06-08T12:00:00Z,0.1\n", "cloud_mid"),
        (HEAD, "no hour"),
        (HEAD + "yesterday,0,0,0,0.5,5,2,10\n", "line 2"),
        (HEAD + "2027-06-08T12:00:00Z,40,0,0,0.5,5,2,10\n", "cloud_low 40"),
        (HEAD + "2027-06-08T12:00:00Z,0,0,0,0.5,5,2\n", "line 2"),
        (HEAD + "2027-06-08T12:00:00Z,nan,0,0,0.5,5,2,10\n", "cloud_low nan"),
    ],
)
def test_bad_files_name_line_and_column(text, message):
    with pytest.raises(BadInput, match=message):
        read_csv(text, "mine.csv", NOW)


def test_good_hours_go_in_and_the_refused_are_listed():
    good = "2027-06-08T12:00:00Z,0,0,0,0.5,5,2,10\n"
    found = read_csv(HEAD + good + "later,0,0,0,0.5,5,2,10\n" + good.replace("0.5", "inf"), "mine.csv", NOW)
    assert len(found.good.hours) == 1 and ["line 3" in found.refused[0], "line 4" in found.refused[1]] == [
        True,
        True,
    ]


def test_made_up_weather_is_the_same_twice_and_like_weather():
    one, two = weather(37.7, -8.77, NOW), weather(37.7, -8.77, NOW)
    assert one == two != weather(37.7, -7.77, NOW)
    for h in one:
        assert h.dew_point <= h.temperature + 0.2
    long = [weather(37.7, -8.77, NOW + d * 86400, 24)[i] for d in range(0, 360, 3) for i in (2, 14)]
    clear = np.array([h.clear for h in long])
    assert 0.2 < clear.mean() < 0.7 and (clear > 0.9).any() and (clear < 0.05).any()
    summer, winter = (
        np.mean(
            [h.temperature for h in weather(37.7, -8.77, datetime(2027, m, 15, tzinfo=UTC).timestamp(), 240)]
        )
        for m in (7, 1)
    )
    assert summer > winter + 6


def test_near_hours_agree_between_runs_more_than_far_ones():
    old, new = answer(37.7, -8.77, NOW), answer(37.7, -8.77, NOW + 6 * 3600)
    pairs = [(a, b) for a in old.hours for b in new.hours[:1] + new.hours[150:200] if a.t == b.t]
    near, far = (
        abs(pairs[0][0].clear - pairs[0][1].clear),
        np.mean([abs(a.clear - b.clear) for a, b in pairs[1:]]),
    )
    assert near < 0.1 and far > 0.0
    assert answer(37.7, -8.77, NOW, stale=True).issued < NOW - 40 * 3600
