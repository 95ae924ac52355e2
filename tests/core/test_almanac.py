"""Showers, eclipses, meetings: against published figures and another library's ephemeris."""

from datetime import UTC, date, datetime

import numpy as np
import pytest
from skyfield import eclipselib

from vinter.core.sky import ephemeris as eph
from vinter.core.sky.almanac import (
    SHOWERS,
    Kind,
    ecliptic_slope,
    events,
    hourly_rate,
    limiting_magnitude,
    solar_longitude,
)
from vinter.core.sky.eclipse import light_left, shadow
from vinter.core.sky.nights import nights
from vinter.core.sky.site import Site

MILL = Site(lat=37.7, lon=-8.78, tz="Europe/Lisbon", zenith=21.5)
SYDNEY = Site(lat=-33.0, lon=150.0, tz="Australia/Sydney", zenith=21.5)


def unix(text):
    return datetime.fromisoformat(text).replace(tzinfo=UTC).timestamp()


def vectors(when, hours=4.0):
    t = unix(when) + np.arange(-hours * 3600, hours * 3600, 60.0)
    e = eph.year_ephemeris(eph.year_of(float(t[0])))
    return t, e.sun(t), e.moon(t)


@pytest.mark.parametrize(
    ("when", "umbral"),
    # umbral magnitudes as published for these eclipses
    [("2025-03-14 06:59", 1.178), ("2025-09-07 18:12", 1.362), ("2026-08-28 04:13", 0.930),
     ("2028-01-12 04:13", 0.066), ("2028-12-31 16:52", 1.246), ("2029-06-26 03:22", 1.844)],
)  # fmt: skip
def test_eclipses_are_as_deep_as_published(when, umbral):
    t, sun, moon = vectors(when)
    found = shadow(sun, moon).umbral
    assert found.max() == pytest.approx(umbral, abs=0.012)
    assert abs(t[np.argmax(found)] - unix(when)) < 150


def test_the_eclipses_of_a_year_are_those_of_the_library():
    _, bodies = eph._kernel()
    span = eph.skyfield_time(np.array([unix("2028-01-01 00:00"), unix("2028-12-31 23:59")]))
    t, kinds, _ = eclipselib.lunar_eclipses(span[0], span[1], bodies)
    partial = [m for m, k in zip(t, kinds, strict=True) if k > 0]
    found = [e for e in events(MILL, 2028) if e.kind == Kind.ECLIPSE]
    assert 0 < len(found) <= len(partial) == 3  # one of three is by day here
    for e in found:
        near = min(abs(m.utc_datetime().timestamp() - e.unix) for m in partial)
        assert near < 2 * 3600


def test_in_the_shadow_the_moon_loses_its_light_and_the_night_gets_dark():
    _, sun, moon = vectors("2028-12-31 16:52")
    left = light_left(sun, moon)
    assert left[0] == left[-1] == 1.0 and np.abs(np.diff(left)).max() < 0.03
    total = shadow(sun, moon).umbral > 1.02
    assert (-2.5 * np.log10(left[total]) > 9).all()
    half = np.argmin(np.abs(shadow(sun, moon).umbral - 0.5))
    assert 0.03 < left[half] < 0.2  # the other half stands deep in the penumbra
    assert total.sum() == pytest.approx(71, abs=5)  # minutes of totality, as published
    # over a site where it is high: as dark as after moonset, in the middle of a night of full Moon
    night = nights(SYDNEY, date(2028, 12, 31), date(2028, 12, 31))[0]
    strip = night.strip
    dark = (strip.sun_alt < -18) & (strip.moon_alt > 10)
    at = np.abs(strip.t - unix("2028-12-31 16:52")) < 1200
    assert (
        strip.moon[dark & at].max()
        < 0.02 * strip.moon[dark & ~(np.abs(strip.t - unix("2028-12-31 16:52")) < 4 * 3600)].max()
    )


def test_oppositions_and_meetings_are_on_their_days():
    found = events(MILL, 2027)
    opposed = {e.name: e.day for e in found if e.kind == Kind.OPPOSITION}
    for name, day in (
        ("Jupiter", date(2027, 2, 10)),
        ("Mars", date(2027, 2, 19)),
        ("Saturn", date(2027, 10, 18)),
    ):
        assert abs((opposed[f"{name} in opposition"] - day).days) <= 1
    _, bodies = eph._kernel()
    for e in (e for e in found if e.kind == Kind.MEETING and "Pleiades" not in e.name):
        name = e.name.removeprefix("Moon beside ").lower()
        key = name + (" barycenter" if name in ("jupiter", "saturn") else "")
        t = eph.skyfield_time(np.array([e.unix]))
        earth = bodies["earth"].at(t)
        apart = earth.observe(bodies["moon"]).separation_from(earth.observe(bodies[key])).degrees[0]
        assert apart < 5.2  # seen from the centre of the Earth; parallax is a degree


def test_the_suns_longitude_brings_the_showers_on_their_days():
    peaks = {
        "Perseids": "2027-08-13",
        "Geminids": "2027-12-14",
        "Quadrantids": "2027-01-03",
        "Lyrids": "2027-04-23",
    }
    for shower in SHOWERS:
        if shower.name in peaks:
            noon = np.array([unix(f"{peaks[shower.name]} 12:00")])
            away = (solar_longitude(2027, noon)[0] - shower.longitude + 180) % 360 - 180
            assert abs(away) < 1.1, shower.name


def test_rates_fall_with_the_radiant_the_sky_and_the_days():
    perseids = next(s for s in SHOWERS if s.name == "Perseids")

    def rate(altitude, sky, away):
        return float(hourly_rate(perseids, *(np.array(float(v)) for v in (altitude, sky, away))))

    zenith = rate(90, 22, 0)
    assert zenith == pytest.approx(100, rel=0.02)  # what a zenithal hourly rate is
    assert float(hourly_rate(perseids, np.array(30.0), np.array(22.0), np.array(0.0))) == pytest.approx(
        zenith / 2, rel=0.01
    )
    town = rate(90, 18, 0)
    assert town == pytest.approx(zenith * 2.2 ** (float(limiting_magnitude(18.0)) - 6.5), rel=0.02)
    assert float(limiting_magnitude(21.8)) == pytest.approx(6.5, abs=0.15)
    assert float(hourly_rate(perseids, np.array(90.0), np.array(22.0), np.array(5.0))) == pytest.approx(
        10, rel=0.05
    )
    assert float(hourly_rate(perseids, np.array(-5.0), np.array(22.0), np.array(0.0))) == 0


def test_zodiacal_light_stands_steep_on_spring_evenings_and_autumn_mornings():
    north = {
        (evening, month): ecliptic_slope(
            MILL, unix(f"2027-{month:02d}-15 {'20:00' if evening else '05:30'}"), evening
        )
        for evening in (True, False)
        for month in (3, 9)
    }
    assert north[True, 3] > 65 > 45 > north[True, 9]
    assert north[False, 9] > 60 > 45 > north[False, 3]
    names = [e for e in events(MILL, 2027) if e.kind == Kind.ZODIACAL]
    assert any("west" in e.words and e.day.month in (2, 3) for e in names)
    assert any("east" in e.words and e.day.month in (9, 10) for e in names)
