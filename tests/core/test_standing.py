"""What is seen from where the phone is: against the plane geometry of a place, and the core drawn there."""

import math
from datetime import date

import pytest

from vinter.core.camera.phones import phone
from vinter.core.errors import BadInput
from vinter.core.planning.skyline import figures
from vinter.core.planning.stand import Subject, Wanted, destination, stands
from vinter.core.planning.standing import Here, meetings, way
from vinter.core.sky.nights import nights
from vinter.core.sky.site import Site
from vinter.core.sky.targets import CORE

MILL = Site(lat=37.702, lon=-8.772, tz="Europe/Lisbon", zenith=21.5)
SUBJECT = Subject(37.7012, -8.7723, 9.0, 1.0)
LENS = phone("marlet-7").lens("main")


@pytest.fixture(scope="module")
def night():
    return nights(MILL, date(2027, 6, 5), date(2027, 6, 5))[0]


def plane(lat, lon):
    """Azimuth and metres of the subject from a place, as on a flat map."""
    east = (SUBJECT.lon - lon) * math.cos(math.radians(SUBJECT.lat)) * 111_195
    north = (SUBJECT.lat - lat) * 111_195
    return math.degrees(math.atan2(east, north)) % 360, math.hypot(east, north)


def test_from_a_place_the_core_comes_over_the_subject_when_it_stands_in_its_direction(night):
    here = Here(37.70185, -8.77205, 4.0)
    azimuth, metres = plane(here.lat, here.lon)
    (met,) = meetings(MILL, night, SUBJECT, here, Wanted(), LENS)
    assert float(figures(MILL, met.stand.at.t, CORE).target[0]) == pytest.approx(azimuth, abs=0.1)
    assert met.stand.distance == pytest.approx(metres, rel=2e-3)
    assert met.stand.top == pytest.approx(math.degrees(math.atan(8.5 / metres)), abs=0.02)
    assert met.stand.gap == pytest.approx(met.stand.at.altitude - met.stand.top)
    # two paces aside, as far as the position may be off, and the minute moves as far as is said
    aside = destination(here.lat, here.lon, azimuth + 90, here.error)
    (other,) = meetings(MILL, night, SUBJECT, Here(*aside, 4.0), Wanted(), LENS)
    assert abs(other.stand.at.t - met.stand.at.t) == pytest.approx(met.seconds, rel=0.08)


def test_on_a_planned_stand_it_comes_at_the_planned_minute(night):
    for s in stands(MILL, night, SUBJECT, Wanted(gap=6.0), LENS)[3:-3:4]:
        (met,) = meetings(MILL, night, SUBJECT, Here(s.lat, s.lon, 3.0), Wanted(), LENS)
        assert met.stand.at.t == pytest.approx(s.at.t, abs=20) and met.stand.gap == pytest.approx(6, abs=0.1)


def test_the_core_never_stands_in_the_north_and_within_the_error_no_direction_is_known(night):
    south = destination(SUBJECT.lat, SUBJECT.lon, 180, 60)
    assert meetings(MILL, night, SUBJECT, Here(*south, 3.0), Wanted(), LENS) == []
    near = destination(SUBJECT.lat, SUBJECT.lon, 10, 15)
    assert way(Here(*near, 8.0), SUBJECT.lat, SUBJECT.lon).azimuth is None
    assert meetings(MILL, night, SUBJECT, Here(*near, 8.0), Wanted(), LENS) == []
    known = way(Here(*near, 3.0), SUBJECT.lat, SUBJECT.lon)
    assert known.azimuth == pytest.approx(190, abs=0.1)
    assert known.error == pytest.approx(math.degrees(math.asin(3 / 15)), abs=0.1)


@pytest.mark.parametrize("given", [(91, 0, 5), (0, 181, 5), (0, 0, 0), (0, 0, math.inf)])
def test_no_place_and_no_error_are_refused(given):
    with pytest.raises(BadInput):
        Here(*given)
