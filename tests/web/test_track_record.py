"""How far Vinter was off: forecasts against skies that came, plans against measured skies."""

from datetime import date

import numpy as np
import pytest

from vinter.web.ledger.track_record import ForecastNight, SkyNight, forecast_record, sky_record

DAY = date(2026, 6, 1)
BIAS = -0.8  # log-odds, of a forecast that promises too much


def nights(pairs):
    return [ForecastNight(DAY, said, came) for said, came in pairs]


def odds(chance):
    return np.log(chance / (1 - chance))


def photographers(count, length, bias, seed=3):
    """Records of people whose forecasts are off by ``bias`` in log-odds."""
    rng = np.random.default_rng(seed)
    for _ in range(count):
        said = np.clip(rng.beta(1.2, 1.2, length), 0.02, 0.98)
        came = rng.random(length) < 1 / (1 + np.exp(-odds(said) - bias))
        yield forecast_record(nights(zip(said, came.astype(float), strict=True)))


def test_a_record_that_was_right_changes_nothing():
    record = forecast_record(nights([(0.7, 1), (0.7, 1), (0.7, 0), (0.7, 0.8)]))
    assert record.said == pytest.approx(record.came) and record.corrected(0.4) == 0.4
    assert record.error > 0.3 and not record.significant


def test_a_site_that_clouds_more_than_said_lowers_the_chance():
    record = forecast_record(nights([(0.8, 0.2)] * 40))
    assert record.significant
    # towards what came of such nights, held back by what is common among sites
    assert 0.2 < record.corrected(0.8) < 0.4
    assert record.corrected(0.05) < record.corrected(0.5) < record.corrected(0.95)


def test_few_nights_say_nothing_and_certainty_stays():
    assert forecast_record(nights([(0.5, 1)])).corrected(0.5) == 0.5
    many = forecast_record(nights([(0.8, 0.2)] * 40))
    assert many.corrected(0.0) == 0.0 and many.corrected(1.0) == 1.0
    assert forecast_record([]) is None and sky_record([]) is None


@pytest.mark.parametrize("length", [1, 3, 10, 30, 100])
def test_right_forecasts_of_200_photographers_are_hardly_moved(length):
    grid = np.linspace(0.05, 0.95, 19)
    moved, worth = [], []
    for record in photographers(200, length, bias=0.0):
        said = np.array([record.corrected(c) for c in grid])
        moved.append(said - grid)
        worth.append(np.mean(grid * np.log(said / grid) + (1 - grid) * np.log((1 - said) / (1 - grid))))
    assert np.sqrt(np.mean(np.square(moved))) < 0.03
    assert np.mean(worth) > -0.01


def test_a_true_bias_is_found_with_its_error_and_is_worth_using():
    for length, least in ((30, -0.3), (100, -0.5)):
        found = list(photographers(200, length, BIAS))
        shifts, errors = (np.array([getattr(r, name) for r in found]) for name in ("shift", "error"))
        assert BIAS < shifts.mean() < least
        # of the truth within twice the error said, in nearly all
        assert np.mean(np.abs(shifts - BIAS) < 2 * errors) > 0.9
    chance = 0.7
    true = 1 / (1 + np.exp(-odds(chance) - BIAS))
    after = np.array([r.corrected(chance) for r in photographers(200, 100, BIAS)])
    assert np.sqrt(np.mean((after - true) ** 2)) < 0.6 * abs(chance - true)


def test_plans_that_were_too_dark_show_with_their_error():
    rng = np.random.default_rng(1)
    found = [SkyNight(DAY, 21.5, 21.1 + rng.normal(0, 0.1), 0.12) for _ in range(12)]
    record = sky_record(found)
    assert record.off == pytest.approx(-0.4, abs=0.1) and record.significant
    assert not sky_record([SkyNight(DAY, 21.5, 21.4, 0.12)]).significant
    assert found[0].off < 0


@pytest.mark.parametrize("length", [1, 5, 20, 200])
def test_a_phone_that_is_off_on_all_its_nights_is_no_discovery(length):
    rng = np.random.default_rng(length)
    alarms = 0
    for _ in range(400):
        shared = rng.normal(0, 0.1)
        record = sky_record(
            [SkyNight(DAY, 21.5, 21.5 + shared + rng.normal(0, 0.12), 0.06) for _ in range(length)]
        )
        alarms += record.significant
    assert alarms / 400 < 0.07
