"""How far Vinter was off: forecasts against skies that came, plans against measured skies."""

from datetime import date

import numpy as np
import pytest

from vinter.core.track_record import ForecastNight, SkyNight, forecast_record, sky_record

DAY = date(2026, 6, 1)


def nights(pairs):
    return [ForecastNight(DAY, said, came) for said, came in pairs]


def test_a_record_that_was_right_changes_nothing():
    record = forecast_record(nights([(0.7, 1), (0.7, 1), (0.7, 0), (0.7, 0.8)]))
    assert record.said == pytest.approx(record.came) and record.corrected(0.4) == pytest.approx(0.4, abs=1e-6)


def test_a_site_that_clouds_more_than_said_lowers_the_chance_the_more_the_more_nights():
    few = forecast_record(nights([(0.8, 0)] * 2))
    many = forecast_record(nights([(0.8, 0.2)] * 40))
    assert 0.05 < few.corrected(0.8) < 0.8
    # of many nights the chance becomes what came of such nights
    assert many.corrected(0.8) == pytest.approx(0.2, abs=0.06)
    assert 0 < many.corrected(0.05) < many.corrected(0.5) < many.corrected(0.95) < 1


def test_one_clear_night_is_no_promise():
    assert forecast_record(nights([(0.5, 1)])).corrected(0.5) < 0.7
    assert forecast_record([]) is None and sky_record([]) is None


def test_plans_that_were_too_dark_show_with_their_error():
    rng = np.random.default_rng(1)
    found = [SkyNight(DAY, 21.5, 21.1 + rng.normal(0, 0.1), 0.12) for _ in range(12)]
    record = sky_record(found)
    assert record.off == pytest.approx(-0.4, abs=0.1) and record.significant
    assert record.error == pytest.approx(np.hypot(0.12, 0.1) / np.sqrt(12), rel=1e-6)
    assert not sky_record([SkyNight(DAY, 21.5, 21.4, 0.12)]).significant
    assert found[0].off < 0
