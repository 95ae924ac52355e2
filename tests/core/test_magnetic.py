"""Declination against the World Magnetic Model's own published test values and the figures of known
places."""

import json
from datetime import UTC, datetime

import pytest

from vinter.cli import main
from vinter.core.errors import BadInput
from vinter.core.ground.magnetic import declination

JUNE_2027 = datetime(2027, 6, 15, tzinfo=UTC).timestamp()


@pytest.mark.parametrize(
    ("lat", "lon", "published"),
    [
        (37.7, -8.8, -0.7),
        (-32.4, 20.3, -26.0),
        (69.7, 19.0, 11.4),
        (-45, 170, 25.6),
        (44.4, -68.2, -15.1),
        (38.5, -110, 9.6),
    ],
)
def test_places_all_over_the_earth(lat, lon, published):
    found = declination(lat, lon, unix=JUNE_2027)
    assert found.degrees == pytest.approx(published, abs=0.4) and 0.2 < found.error < 1.5


def test_a_compass_and_a_map_are_each_others_inverse():
    fold = declination(-32.4, 20.3, 900.0, JUNE_2027)
    assert fold.compass(180.0) == pytest.approx(180 - fold.degrees) and fold.compass(10.0) > 30
    assert fold.true(fold.compass(123.4)) == pytest.approx(123.4)
    assert declination(69.7, 19.0, unix=JUNE_2027).compass(5.0) > 350  # over north
    assert "26." in fold.words and "west" in fold.words and "WMM 2025" in fold.words and "2027" in fold.words


def test_beyond_the_models_years_the_error_grows():
    now, late = declination(37.7, -8.8, unix=JUNE_2027), declination(37.7, -8.8, unix=2300000000.0)
    assert late.error > now.error + 1 and abs(late.degrees - now.degrees) < 2
    with pytest.raises(BadInput, match="not on the map"):
        declination(91, 0)


def test_the_shells_plan_has_it(capsys):
    lens = (
        "--f35 24 --focal 5.6 --aperture 1.8 --pitch 2.0 --width 4032 --height 3024 "
        "--iso-min 50 --iso-max 6400 --shutter-max 30"
    ).split()
    where = "plan --lat -32.4 --lon 20.3 --time 2027-06-10T22:00:00Z --mode stack --sky 21.9".split()
    assert main([*where, *lens]) == 0
    plan = json.loads(capsys.readouterr().out)
    assert (plan["pose"]["compass"] - plan["pose"]["azimuth"]) % 360 == pytest.approx(26.0, abs=0.6)
    assert plan["refused"] is None and plan["frames"] > 3 and plan["shutter"] > 1
    assert ["A compass shows", f"{plan['pose']['compass']:.0f}°"] in plan["card"]
    down = "plan --lat 38.2 --lon -8.8 --time 2027-08-10T12:30:00Z --mode planet-venus".split()
    assert main([*down, *lens]) == 0
    refused = json.loads(capsys.readouterr().out)
    assert "from the Sun" in refused["refused"] and refused["pose"] is None and refused["card"] == []
    assert main([*where[:-4], "--mode", "dance", *lens]) == 2 and "dance" in capsys.readouterr().err
