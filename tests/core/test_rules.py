"""Small rules of the job: which sky counts, which frames go in, when to leave, what a profile becomes."""

from dataclasses import replace
from datetime import date, datetime, timedelta
from itertools import product
from zoneinfo import ZoneInfo

import numpy as np
import pytest

from vinter.core.camera.phones import phone
from vinter.core.camera.projection import Pose, view_of
from vinter.core.constants import ARCSEC_PER_RADIAN, FULL_FRAME_DIAGONAL_MM, SIDEREAL_ARCSEC
from vinter.core.errors import BadInput
from vinter.core.field.departure import leave_by
from vinter.core.forecast import Forecast, Hour, by_night
from vinter.core.formats.tables import nights_ics
from vinter.core.frames.selection import Candidate, Decision
from vinter.core.planning.shot import target_gone
from vinter.core.sky.horizon import merged
from vinter.core.sky.nights import evening_of, night_at, nights, noon
from vinter.core.sky.refraction import refraction
from vinter.core.sky.site import Site
from vinter.core.sky.site_sky import FROM_FRAMES, SkyReading, zenith_source
from vinter.core.sky.targets import CORE, target
from vinter.core.sky.thresholds import MOVABLE, SCHOOLS, SchoolFacts, Thresholds, thresholds_from
from vinter.core.sky.verdict import judge
from vinter.core.versions import Schema

LISBON, MILL = ZoneInfo("Europe/Lisbon"), Site(lat=37.702, lon=-8.772, tz="Europe/Lisbon", zenith=21.5)


def test_a_meter_wins_over_a_word_over_a_class_over_the_model():
    readings = [SkyReading(date(2026, 6, d), z) for d, z in ((1, 20.0), (4, 21.4), (2, 21.6), (3, 21.0))]
    found = zenith_source(readings, 19.0, 3)
    assert (found.zenith, found.name, found.day) == (21.4, "meter", date(2026, 6, 4))  # of 21.0 21.4 21.6
    assert zenith_source([], 19.0, 3).zenith == 19.0
    assert zenith_source([], None, 3).name == "class 3" and 21.3 <= zenith_source([], None, 3).zenith <= 21.6
    assert zenith_source([], None, None).zenith is None
    # a meter wins over what one's own frames told, for two years
    told = SkyReading(date(2026, 6, 5), 21.05, FROM_FRAMES, 0.2)
    assert zenith_source([*readings, told], None, None).name == "meter"
    later = SkyReading(date(2028, 6, 5), 21.05, FROM_FRAMES, 0.2)
    found = zenith_source([*readings, told, later], None, None)
    assert (found.zenith, found.name, found.count) == (21.05, FROM_FRAMES, 2)
    assert zenith_source([told], 19.0, 3).zenith == 21.05 and zenith_source([told], 19.0, 3).error == 0.2


def test_of_two_readings_the_newer_and_the_surer_counts_more():
    def both(first, second):
        return zenith_source([SkyReading(*first), SkyReading(*second)], None, None)

    day, long_ago = date(2026, 6, 9), date(2023, 6, 9)
    even = both((day, 21.4, "meter", 0.1), (day, 21.2, "meter", 0.1))
    assert even.zenith == pytest.approx(21.3) and even.error == pytest.approx(
        0.1
    )  # half of what lies between
    assert both((day, 21.4, "meter", 0.1), (day, 21.0, "meter", 0.3)).zenith == pytest.approx(21.36)
    aged = both((day, 21.4, "meter", 0.1), (long_ago, 21.0, "meter", 0.1))
    assert aged.zenith == pytest.approx(21.4 - 0.4 / 11, abs=0.002) and aged.day == day
    close = both((day, 21.4, "meter", 0.02), (day, 21.4, "meter", 0.02))
    assert close.error == 0.05  # nights differ however well a meter reads


@pytest.mark.parametrize("verdict", ["keep", "doubt", "drop"])
def test_the_users_word_comes_before_the_measures(verdict):
    def frame(kind, decision, readable=True):
        return Candidate(kind, readable, readable, verdict, decision)

    assert frame("sky", Decision.NONE).stackable == (verdict != "drop")
    assert frame("sky", Decision.KEEP).stackable and not frame("sky", Decision.DROP).stackable
    assert frame("ground", Decision.KEEP).stackable and not frame("ground", Decision.NONE).stackable
    assert not frame("sky", Decision.KEEP, readable=False).stackable
    for kind, word in product(("dark", "flat", "bias"), Decision):
        assert not frame(kind, word).stackable
        assert frame(kind, word).serves_as(kind) == (word != Decision.DROP)


def test_one_leaves_a_drive_and_half_an_hour_before_the_window():
    assert leave_by(100_000.0, 90.0) == 100_000.0 - 2 * 3600


def test_a_trace_replaces_what_it_covers_and_leaves_the_rest():
    old = ((0.0, 1.0), (90.0, 2.0), (180.0, 3.0), (270.0, 4.0))
    assert merged(old, ((80.0, 9.0), (190.0, 8.0))) == ((0.0, 1.0), (80.0, 9.0), (190.0, 8.0), (270.0, 4.0))
    # over north: what lies between 350 and 10 is the trace's, the wide way round stays
    assert merged(((355.0, 1.0), (100.0, 2.0)), ((10.0, 7.0), (350.0, 6.0))) == (
        (10.0, 7.0),
        (100.0, 2.0),
        (350.0, 6.0),
    )


@pytest.mark.parametrize("hour", [12, 13, 23])
def test_a_night_runs_from_noon_to_noon_by_the_wall_clock(hour):
    # clocks go forward in the night of 27 March 2027
    evening = datetime(2027, 3, 27, hour, 0, 1, tzinfo=LISBON)
    morning = datetime(2027, 3, 28, 11, 59, tzinfo=LISBON)
    assert evening_of(MILL, evening.timestamp()) == evening_of(MILL, morning.timestamp()) == date(2027, 3, 27)
    assert evening_of(MILL, datetime(2027, 3, 28, 12, 1, tzinfo=LISBON).timestamp()) == date(2027, 3, 28)
    one = night_at(MILL, morning.timestamp())
    assert one.day == date(2027, 3, 27) and one.end - one.start == 23 * 3600
    assert noon(MILL, date(2027, 3, 28)) == one.end


def test_frames_after_the_target_has_left_are_doubted():
    lens, start = phone("marlet-7").lens("tele"), datetime(2027, 6, 10, 1, 10, tzinfo=LISBON).timestamp()
    from vinter.core.sky.ephemeris import year_of
    from vinter.core.sky.targets import position

    alt, az = position(MILL, year_of(start), np.array([start]), CORE)
    view = view_of(lens, Pose(float(az[0]), float(alt[0])))
    hours = [start, None, start + 1800, start + 3 * 3600, start + 30 * 3600]
    said = target_gone(view, MILL, CORE, start, hours)
    # the tele's frame is 25 degrees wide; the core moves by 15 degrees an hour times cos(declination)
    assert [bool(words) for words in said] == [False, False, False, True, False]
    assert "Core of the galaxy had left the frame" in said[3]


def test_the_hours_of_a_night_are_those_with_the_sun_down():
    midsummer = datetime(2027, 6, 20, 12, tzinfo=ZoneInfo("UTC"))

    def hours(count):
        times = [(midsummer + timedelta(hours=h)).timestamp() for h in range(count)]
        rest = {"cloud_low": 0, "cloud_mid": 0, "cloud_high": 0, "humidity": 0.5, "dew_point": 5, "wind": 2}
        return tuple(Hour(t=t, temperature=10 + i % 5, **rest) for i, t in enumerate(times))

    forecast = Forecast(midsummer.timestamp(), "made up", hours(48))
    mill = by_night(forecast, MILL)
    assert [n.day for n in mill] == [date(2027, 6, 20), date(2027, 6, 21)]
    night = nights(MILL, date(2027, 6, 20), date(2027, 6, 20))[0]
    sets, rises = night.sun["set"][0], night.sun["rise"][0]
    assert [h.t for h in mill[0].hours] == [h.t for h in forecast.hours if sets - 3600 < h.t < rises]
    assert mill[0].temperature == min(h.temperature for h in mill[0].hours)
    assert by_night(forecast, Site(lat=69.65, lon=18.96, tz="Europe/Oslo")) == []
    winter = Forecast(0.0, "", tuple(Hour(**{**h.__dict__, "t": h.t + 183 * 86400}) for h in hours(48)))
    assert len(by_night(winter, Site(lat=69.65, lon=18.96, tz="Europe/Oslo"))[1].hours) == 24


def test_every_school_speaks_and_draws_its_line_where_it_is_told():
    facts = SchoolFacts(lit_percent=22, new_moon_days=2.5, moon_up_minutes=10, window_minutes=60, sky_class=5)
    usual = {key: kind.judge(facts, Thresholds()).yes for key, kind in SCHOOLS.items()}
    assert usual == {
        "near_new_moon": True,
        "strict_moon": False,
        "thin_moon": True,
        "generous_moon": True,
        "moon_down": False,
        "dark_class": False,
        "suburb_class": True,
    }
    moved = Thresholds(new_moon_days=2, lit_percent=20, moon_up_minutes=10, darkest_class=5, suburb_class=4)
    assert {key: kind.judge(facts, moved).yes for key, kind in SCHOOLS.items()} == {
        key: yes if key in ("strict_moon", "generous_moon") else not yes for key, yes in usual.items()
    }  # those two draw their lines at 20 and 33 per cent, whatever one's own


def test_stored_thresholds_survive_names_that_come_and_go():
    found = thresholds_from({"min_altitude": 3, "darkest_class": 5.0, "of_another_age": 7}, latest=8.0)
    assert (found.min_altitude, found.darkest_class, found.latest, found.sun_below) == (3, 5, 8.0, -18.0)
    for f in MOVABLE:
        assert f.metadata["low"] <= f.default <= f.metadata["high"] and f.metadata["label"]


def test_data_of_any_version_come_out_as_todays_and_newer_ones_are_refused():
    schema = Schema("thing", (lambda d: {**d, "b": d["a"] + 1}, lambda d: {"c": d["b"] * 10}))
    given = {"a": 1}
    assert schema.current(given) == {"c": 20, "version": 3} and given == {"a": 1}
    assert schema.current({"b": 5, "version": 2}) == {"c": 50, "version": 3}
    for version in (4, 0, "two", None):
        with pytest.raises(BadInput, match="thing: version"):
            schema.current({"version": version})


def test_constants_are_what_they_say():
    assert pytest.approx(2 * np.pi * ARCSEC_PER_RADIAN, rel=1e-6) == 360 * 3600
    assert pytest.approx(np.hypot(36, 24), abs=1e-3) == FULL_FRAME_DIAGONAL_MM
    assert pytest.approx(360 * 3600 / 86164.0905, abs=1e-3) == SIDEREAL_ARCSEC
    # a published table: 34.5' at the horizon, 5.3' at 10 degrees, 1' at 45
    assert refraction(np.array([0.0, 10.0, 45.0])) * 60 == pytest.approx([29, 5.4, 1.0], abs=0.6)
    assert refraction(-5.0) == 0


def test_no_night_without_a_usable_minute_is_worth_going():
    """A faint target over a dark site: much time, little contrast."""
    site = Site(lat=-32.24, lon=20.03, tz="Africa/Johannesburg", zenith=21.9)
    found = nights(site, date(2027, 10, 1), date(2027, 10, 20), what=replace(target("lmc"), surface=23.4))
    verdicts = [judge(site, night) for night in found]
    assert all(night.usable == 0 for night in found)
    assert max(n.equivalent for n in found) > 100  # weighed minutes alone would call it good
    assert {v.score for v in verdicts} == {0.0}
    assert {v.word for v in verdicts} == {"poor"} and not any(v.worth_going for v in verdicts)
    assert "No usable minute" in verdicts[0].reasons[0]
    assert "BEGIN:VEVENT" not in nights_ics(site, found, verdicts)
