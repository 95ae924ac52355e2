"""Rise, set, twilight and positions against skyfield and astropy."""

from datetime import UTC, date, datetime, timedelta
from itertools import pairwise

import numpy as np
import pytest
from skyfield import almanac
from skyfield.api import Star, wgs84

from vinter.core.errors import BadInput
from vinter.core.sky import ephemeris as eph
from vinter.core.sky.nights import nights, noon
from vinter.core.sky.site import Site
from vinter.core.sky.target_track import sky_at, track
from vinter.core.sky.targets import place
from vinter.core.sky.thresholds import Thresholds
from vinter.core.sky.verdict import judge

PLACES = {
    "alentejo": Site(lat=38.2, lon=-8.8, tz="Europe/Lisbon", zenith=21.5),
    "karoo": Site(lat=-32.24, lon=20.03, tz="Africa/Johannesburg", elevation=420),
    "far north": Site(lat=65.0, lon=25.0, tz="Europe/Helsinki"),
    "far south": Site(lat=-55.0, lon=-67.0, tz="America/Punta_Arenas"),
    "date line": Site(lat=-16.5, lon=179.9, tz="Pacific/Fiji"),
    "west of it": Site(lat=1.9, lon=-157.4, tz="Pacific/Kiritimati"),
}
SPANS = {
    "alentejo": (2027, 6, 1),
    "karoo": (2027, 3, 20),
    "far north": (2027, 4, 25),
    "far south": (2027, 12, 10),
    "date line": (2027, 9, 20),
    "west of it": (2027, 12, 26),
}


def referee(site):
    timescale, bodies = eph._kernel()
    return timescale, bodies, bodies["earth"] + wgs84.latlon(site.lat, site.lon, elevation_m=site.elevation)


def unix(times):
    return np.array([t.utc_datetime().timestamp() for t in times])


@pytest.mark.parametrize("name", PLACES)
def test_every_event_is_within_two_seconds_of_skyfield(name):
    site, first = PLACES[name], date(*SPANS[name])
    last = first + timedelta(days=9)
    found = nights(site, first, last)
    timescale, bodies, observer = referee(site)
    start = datetime.fromtimestamp(noon(site, first), UTC)
    end = datetime.fromtimestamp(noon(site, last + timedelta(days=1)), UTC)
    t0, t1 = timescale.from_datetime(start), timescale.from_datetime(end)
    core = Star(ra_hours=eph.GALACTIC_CENTRE[0] / 15, dec_degrees=eph.GALACTIC_CENTRE[1])
    asked = [
        (bodies["sun"], -0.8333, "sun", "rise", "set"),
        (bodies["sun"], -6, "sun", "civil_dawn", "civil_dusk"),
        (bodies["sun"], -12, "sun", "nautical_dawn", "nautical_dusk"),
        (bodies["sun"], -18, "sun", "astronomical_dawn", "astronomical_dusk"),
        (core, 10, "target", "rise", "set"),
        (bodies["moon"], None, "moon", "rise", "set"),
    ]
    for body, level, group, up, down in asked:
        for key, search in ((up, almanac.find_risings), (down, almanac.find_settings)):
            times, crossed = search(observer, body, t0, t1, horizon_degrees=level)
            wanted = unix([t for t, ok in zip(times, crossed, strict=True) if ok])
            got = np.array([t for n in found for t in getattr(n, group)[key]])
            assert len(got) == len(wanted), (name, group, key)
            if len(wanted):
                assert np.abs(got - wanted).max() < 2, (name, group, key)


def test_positions_are_within_five_arcsec_of_astropy():
    import astropy.units as u
    from astropy.coordinates import AltAz, EarthLocation, SkyCoord, get_body
    from astropy.time import Time
    from astropy.utils import iers

    iers.conf.auto_download, iers.conf.auto_max_age = False, None
    site = Site(lat=38.2, lon=-8.8, tz="UTC", elevation=300)
    moments = np.array([datetime(2020, m, 11, 2, 30, tzinfo=UTC).timestamp() for m in (1, 4, 7, 10)])
    frame = AltAz(
        location=EarthLocation(lat=38.2 * u.deg, lon=-8.8 * u.deg, height=300 * u.m),
        obstime=Time(moments, format="unix"),
    )
    mine = track(site, 2020, moments)
    core = SkyCoord(*eph.GALACTIC_CENTRE, unit="deg").transform_to(frame)
    for alt, az, other in (
        (mine.alt, mine.az, core),
        (
            mine.moon_alt,
            mine.moon_az,
            get_body("moon", Time(moments, format="unix"), frame.location).transform_to(frame),
        ),
        (
            mine.sun_alt,
            mine.sun_az,
            get_body("sun", Time(moments, format="unix"), frame.location).transform_to(frame),
        ),
    ):
        away = eph.separation(alt, az, other.alt.deg, other.az.deg) * 3600
        assert away.max() < 5


def test_moon_phase_and_age_against_skyfield():
    site = PLACES["alentejo"]
    timescale, bodies, _ = referee(site)
    for n in nights(site, date(2027, 6, 1), date(2027, 6, 28))[::5]:
        middle = timescale.from_datetime(datetime.fromtimestamp((n.start + n.end) / 2, UTC))
        wanted = almanac.fraction_illuminated(bodies, "moon", middle)
        assert n.illuminated == pytest.approx(wanted, abs=0.015)
    times, phases = almanac.find_discrete(
        timescale.utc(2027, 5, 20), timescale.utc(2027, 7, 20), almanac.moon_phases(bodies)
    )
    new = unix([t for t, p in zip(times, phases, strict=True) if p == 0])
    mine = eph.new_moons(eph.year_ephemeris(2027))
    for t in new:
        assert np.abs(mine - t).min() < 300


def test_nights_of_23_and_25_hours_join_without_gap():
    site = PLACES["alentejo"]
    spring = nights(site, date(2027, 3, 26), date(2027, 3, 29))
    autumn = nights(site, date(2027, 10, 29), date(2027, 11, 1))
    assert [round((n.end - n.start) / 3600) for n in spring] == [24, 23, 24, 24]
    assert [round((n.end - n.start) / 3600) for n in autumn] == [24, 25, 24, 24]
    assert all(a.end == b.start for a, b in pairwise(spring))


def test_a_night_without_darkness_says_so():
    night = nights(PLACES["far north"], date(2027, 6, 21), date(2027, 6, 21))[0]
    verdict = judge(PLACES["far north"], night)
    assert night.sun["astronomical_dusk"] == [] and night.windows == [] and verdict.word == "none"
    assert "twilight lasts all night" in verdict.reasons[0]


def test_polar_day_and_polar_night_have_no_sunset():
    north = Site(lat=78.2, lon=15.6, tz="Arctic/Longyearbyen")
    summer, winter = (nights(north, d, d)[0] for d in (date(2027, 6, 21), date(2027, 12, 21)))
    assert summer.sun["set"] == winter.sun["set"] == []
    assert summer.lowest_sun > 0 > winter.lowest_sun
    assert len(winter.strip.t) > 250 > len(summer.strip.t)


def test_windows_hold_what_they_promise():
    site = PLACES["alentejo"]
    for n in nights(site, date(2027, 7, 1), date(2027, 7, 31)):
        for w in n.windows:
            inside = np.linspace(w.start + 1, w.end - 1, 50)
            e = eph.year_ephemeris(2027)
            assert (eph.horizontal(e.sun(inside), e.gast(inside), site)[0] < -18).all()
            assert (place(site, 2027, inside, eph.GALACTIC_CENTRE)[0] > 10).all()
            assert w.usable <= w.minutes + 0.1 and w.start <= w.best.t <= w.end


def test_moonlight_makes_minutes_unusable():
    full = nights(PLACES["alentejo"], date(2027, 6, 18), date(2027, 6, 18))[0]
    new = nights(PLACES["alentejo"], date(2027, 6, 4), date(2027, 6, 4))[0]
    assert full.usable < 10 < 250 < new.usable
    assert judge(PLACES["alentejo"], full).score < judge(PLACES["alentejo"], new).score


def test_bad_places_and_dates_name_the_field():
    with pytest.raises(BadInput, match="latitude 98"):
        Site(lat=98, lon=0)
    with pytest.raises(BadInput, match="Mars/Olympus"):
        Site(lat=0, lon=0, tz="Mars/Olympus")
    with pytest.raises(BadInput, match="before the first"):
        nights(PLACES["karoo"], date(2027, 2, 1), date(2027, 1, 1))
    with pytest.raises(BadInput, match="outside the ephemeris"):
        nights(PLACES["karoo"], date(2060, 2, 1), date(2060, 2, 1))
    with pytest.raises(BadInput, match="min-altitude"):
        Thresholds(min_altitude=95)


def test_sky_at_the_zenith_returns_the_reading_given():
    assert sky_at(
        Site(lat=38.2, lon=-8.8, zenith=21.2), datetime(2027, 6, 5, 1, tzinfo=UTC).timestamp(), 90, 0
    ).parts.brightness[0] == pytest.approx(21.2, abs=0.005)
