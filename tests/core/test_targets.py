"""Targets, horizons, wishes and suggestions against skyfield and cases that can be seen through."""

from dataclasses import replace
from datetime import UTC, date, datetime, timedelta
from itertools import pairwise

import numpy as np
import pytest
from skyfield import almanac
from skyfield.api import Star, wgs84

from vinter.core.errors import BadInput
from vinter.core.sky import ephemeris as eph
from vinter.core.sky.horizon import Horizon
from vinter.core.sky.hourly import hours
from vinter.core.sky.nights import nights, noon
from vinter.core.sky.pole import pole_sketch, times_on
from vinter.core.sky.ranking import NightFilter, best_nights, runs
from vinter.core.sky.site import Site
from vinter.core.sky.target_track import track
from vinter.core.sky.targets import band_surface, mean_surface, position, shipped, target
from vinter.core.sky.thresholds import Thresholds
from vinter.core.sky.verdict import judge

MILL = Site(lat=37.702, lon=-8.772, tz="Europe/Lisbon", zenith=21.5)
FOLD = Site(lat=-32.24, lon=20.03, tz="Africa/Johannesburg", elevation=420, zenith=21.9)
NORTH = Site(lat=65.0, lon=25.0, tz="Europe/Helsinki", zenith=21.8)


def crossings_by_skyfield(site, body, first, last, level):
    timescale, bodies = eph._kernel()
    observer = bodies["earth"] + wgs84.latlon(site.lat, site.lon, elevation_m=site.elevation)
    span = [
        timescale.from_datetime(datetime.fromtimestamp(noon(site, d), UTC))
        for d in (first, last + timedelta(days=1))
    ]
    out = []
    for search in (almanac.find_risings, almanac.find_settings):
        times, crossed = search(observer, body, *span, horizon_degrees=level)
        out.append(
            np.array([t.utc_datetime().timestamp() for t, ok in zip(times, crossed, strict=True) if ok])
        )
    return out


@pytest.mark.parametrize(
    ("site", "key", "star"),
    [
        (FOLD, "lmc", (80.89, -69.76)),
        (MILL, "at:83.82,-5.39", (83.82, -5.39)),
        (NORTH, "andromeda", (10.685, 41.269)),
        (FOLD, "jupiter", "jupiter barycenter"),
        (MILL, "saturn", "saturn barycenter"),
    ],
)
def test_targets_rise_and_set_when_skyfield_says(site, key, star):
    first, last = date(2027, 10, 2), date(2027, 10, 9)
    _, bodies = eph._kernel()
    body = bodies[star] if isinstance(star, str) else Star(ra_hours=star[0] / 15, dec_degrees=star[1])
    found = nights(site, first, last, Thresholds(min_altitude=15), target(key))
    for wanted, name in zip(crossings_by_skyfield(site, body, first, last, 15), ("rise", "set"), strict=True):
        got = np.array([t for n in found for t in n.target[name]])
        assert len(got) == len(wanted), (key, name)
        assert not len(got) or np.abs(got - wanted).max() < 5


def test_the_pole_stands_at_the_latitude_and_the_arch_follows_the_galactic_pole():
    t = np.array([datetime(2027, 6, 9, 23, tzinfo=UTC).timestamp()])
    for site in (MILL, FOLD):
        alt, az = position(site, 2027, t, target("pole"))
        assert alt[0] == pytest.approx(abs(site.lat), abs=0.2)
        assert min(az[0] % 360, 360 - az[0] % 360) == pytest.approx(0 if site.lat > 0 else 180, abs=0.3)
    # mid-June at midnight at 38 N: arch top 59 degrees
    midnight = np.array([datetime(2027, 6, 15, 0, 36, tzinfo=UTC).timestamp()])
    assert position(Site(lat=38.0, lon=-8.8), 2027, midnight, target("arch"))[0][0] == pytest.approx(
        59, abs=2.5
    )


def test_lean_of_a_star_on_the_meridian_is_nothing_and_turns_with_the_sky():
    """A star east of the meridian leans left of celestial north (its north points to the pole, up and
    left)."""
    orion = target("at:83.82,-5.39")
    t = np.arange(
        datetime(2027, 12, 15, 18, tzinfo=UTC).timestamp(),
        datetime(2027, 12, 16, 6, tzinfo=UTC).timestamp(),
        60.0,
    )
    way = track(MILL, 2027, t, orion)
    at_meridian = int(np.argmax(way.alt))
    assert abs(way.tilt[at_meridian]) < 0.6
    assert way.tilt[at_meridian - 120] < -15 and way.tilt[at_meridian + 120] > 15


def test_surface_brightness_by_hand_and_along_the_band():
    # a square degree of mean 22: 22 - 2.5 log10(3600^2) integrated; an ellipse of pi/4 of it is fainter by
    # that share
    assert mean_surface(22 - 2.5 * np.log10(3600**2), 60, 60) == pytest.approx(
        22 + 2.5 * np.log10(np.pi / 4), abs=1e-9
    )
    # the middle is brighter than the winter side, and Carina than Cygnus
    assert band_surface(27) < band_surface(80) < band_surface(180) and band_surface(287) < band_surface(80)


def test_every_shipped_target_can_be_followed_for_a_month():
    for key in shipped():
        if not key.startswith("con:") or key in ("con:ori", "con:cru"):
            found = nights(MILL, date(2027, 3, 1), date(2027, 3, 3), what=target(key))
            assert all(judge(MILL, n).reasons for n in found), key


def test_keys_of_the_user_and_bad_ones():
    assert target("band:440").longitude == 80 and target("at:370,10").radec == (10, 10)
    for bad in ("mars base", "band:x", "at:1", "at:1,95", "con:xyz", "band:nan"):
        with pytest.raises(BadInput, match="target"):
            target(bad)


def test_bright_targets_do_not_mind_the_moon_and_need_no_full_darkness():
    day = date(2027, 6, 18)  # full Moon
    core, planet, moon = (nights(MILL, day, day, what=target(key))[0] for key in ("core", "mars", "moon"))
    assert core.usable < 10 < planet.usable
    dusk = moon.sun["civil_dusk"][0]
    assert moon.windows[0].start == pytest.approx(max(dusk, moon.target["rise"][0]), abs=1)


def test_a_wall_hides_the_core_in_all_sums():
    wall = Horizon(((90.0, 0.0), (150.0, 0.0), (151.0, 30.0), (179.0, 30.0), (180.0, 0.0), (270.0, 0.0)))
    hidden = Site(lat=37.702, lon=-8.772, tz="Europe/Lisbon", zenith=21.5, horizon=wall)
    day = date(2027, 6, 5)
    open_night, night = nights(MILL, day, day)[0], nights(hidden, day, day)[0]
    assert len(open_night.windows) == 1 and len(night.windows) == 2
    # the core comes out from behind the wall when its azimuth passes 179 to 180 degrees
    second = night.windows[1].start
    assert 179 < position(hidden, 2027, np.array([second]), target("core"))[1][0] < 180
    assert second in night.target["rise"]
    gone = (night.strip.az > 152) & (night.strip.az < 178)
    assert (night.strip.worth[gone] == 0).all() and (open_night.strip.worth[gone] > 0).any()
    assert night.usable < open_night.usable - 60
    assert any("behind the ground" in r or "clears the ground" in r for r in judge(hidden, night).reasons)


def test_a_horizon_runs_round_through_north_and_names_bad_points():
    profile = Horizon(((350.0, 4.0), (10.0, 8.0), (180.0, 1.0)))
    assert profile.at(np.array([0.0, 355.0, 180.0])) == pytest.approx([6.0, 5.0, 1.0])
    with pytest.raises(BadInput, match="400"):
        Horizon(((400.0, 1.0),))


def test_hours_limit_the_windows_on_clock_time():
    limits = Thresholds(earliest=11.0, latest=13.0)  # 23:00 to 01:00
    night = nights(MILL, date(2027, 6, 29), date(2027, 6, 29), limits)[0]
    (window,) = night.windows
    assert datetime.fromtimestamp(window.start, MILL.zone).strftime("%H:%M") == "23:00"
    assert datetime.fromtimestamp(window.end, MILL.zone).strftime("%H:%M") == "01:00"
    assert "your hours begin" in judge(MILL, night, limits).reasons[0]


def test_wishes_choose_and_best_nights_take_each_evening_once():
    judged = {
        s.lat: [(n, judge(s, n)) for n in nights(s, date(2027, 4, 1), date(2027, 9, 30))]
        for s in (MILL, FOLD)
    }
    wishes = NightFilter(weekdays=(4, 5), minutes=120, school="moon_down")
    chosen = best_nights([(MILL, judged[MILL.lat]), (FOLD, judged[FOLD.lat])], 10, wishes)
    assert len(chosen) == 10 and len({c.night.day for c in chosen}) == 10
    assert all(
        c.night.day.weekday() in (4, 5) and c.night.usable >= 120 and c.verdict.schools["moon_down"].yes
        for c in chosen
    )
    assert all(a.night.equivalent >= b.night.equivalent for a, b in pairwise(chosen))
    assert {c.site for c in chosen} == {1}  # overhead in the Karoo beats low over Portugal on every evening
    for run in runs(judged[MILL.lat]):
        assert run.first <= run.night.day <= run.last
    with pytest.raises(BadInput, match="school"):
        NightFilter(school="astrology")


def test_moon_up_minutes_against_the_moon_itself():
    """Minute by minute, apart from the sums: how long the Moon's upper edge stands over the horizon within
    the window."""
    for day in (date(2027, 6, 9), date(2027, 6, 25), date(2027, 6, 13)):
        night = nights(MILL, day, day)[0]
        w, e = night.best, eph.year_ephemeris(2027)
        t = np.arange(w.start, w.end, 20.0)
        alt, _, distance = eph.horizontal(e.moon(t), e.gast(t), MILL)
        up = (alt + 34 / 60 + np.degrees(np.arcsin(1737.4 / distance)) > 0).mean() * w.minutes
        assert judge(MILL, night).schools["moon_down"].value == pytest.approx(up, abs=0.5)


def test_the_hours_of_a_june_night_belong_to_the_core_and_winter_to_others():
    june = hours(MILL, nights(MILL, date(2027, 6, 5), date(2027, 6, 5))[0])
    deep = [h for h in june if h.sun < -20]
    assert deep and all("core" in [i.target.key for i in h.ideas] for h in deep[1:])
    winter = hours(MILL, nights(MILL, date(2027, 1, 8), date(2027, 1, 8))[0])
    assert all("core" not in [i.target.key for i in h.ideas] for h in winter if h.sun < -20)
    assert all(
        i.altitude >= 10 and (i.contrast is None or i.contrast >= 0.08)
        for h in june + winter
        for i in h.ideas
    )
    assert (
        hours(
            Site(lat=78.2, lon=15.6, tz="Arctic/Longyearbyen"),
            nights(Site(lat=78.2, lon=15.6, tz="Arctic/Longyearbyen"), date(2027, 6, 21), date(2027, 6, 21))[
                0
            ],
        )
        == []
    )


def test_what_stands_behind_a_hill_is_no_idea_for_the_hour():
    wall = Horizon(((90.0, 0.0), (91.0, 50.0), (269.0, 50.0), (270.0, 0.0)))
    walled, day = replace(MILL, horizon=wall), date(2027, 6, 5)
    ideas = [i for h in hours(walled, nights(walled, day, day)[0]) for i in h.ideas]
    assert ideas and all(i.altitude > 50 for i in ideas if 91 < i.azimuth < 269)
    assert "core" not in [i.target.key for i in ideas]  # it stands at most 24 degrees high


def separation(a, b):
    """Degrees between two directions (altitude, azimuth)."""
    (h1, z1), (h2, z2) = np.radians(a), np.radians(b)
    return np.degrees(np.arccos(np.sin(h1) * np.sin(h2) + np.cos(h1) * np.cos(h2) * np.cos(z1 - z2)))


def test_pole_guides_end_at_the_pole():
    assert times_on("Merak", "Dubhe") == pytest.approx(5.2, abs=0.3)
    assert times_on("Gacrux", "Acrux") == pytest.approx(4.5, abs=0.15)
    unix = datetime(2027, 6, 9, 23, tzinfo=UTC).timestamp()
    for site, azimuth in ((MILL, 0.0), (FOLD, 180.0)):
        sketch = pole_sketch(site, unix)
        assert sketch.altitude == pytest.approx(
            abs(site.lat), abs=0.01
        ) and sketch.azimuth % 360 == pytest.approx(azimuth, abs=0.01)
        for guide in sketch.guides:
            assert guide.line[-1] == pytest.approx((sketch.altitude, sketch.azimuth), abs=0.01)
            start = sketch.stars[guide.start]
            if guide.start != "Hadar":
                assert guide.line[0] == pytest.approx(start, abs=0.01)
            else:  # from the middle between the two: as far from one as from the other
                apart = [separation(guide.line[0], sketch.stars[n]) for n in (guide.start, guide.end)]
                assert apart[0] == pytest.approx(apart[1], abs=0.01) and apart[0] < 3
        assert {g.start for g in sketch.guides} == (
            {"Merak", "Gamma Cassiopeiae"} if site.lat > 0 else {"Gacrux", "Hadar", "Achernar"}
        )
        first = sketch.guides[0]
        middle = sketch.stars[first.end]  # the second star lies on the line, to a degree
        assert min(np.hypot(a - middle[0], (z - middle[1] + 180) % 360 - 180) for a, z in first.line) < 3.5


def test_the_magellanic_clouds_are_as_bright_as_the_half_of_them_that_a_picture_shows():
    """An exponential disc drawn and summed: half of V 0.40 lies within 339' by 288' for a scale of 101'."""
    lmc = target("lmc")
    y, x = np.mgrid[-1200:1201:4, -1200:1201:4].astype(float)
    r = np.hypot(x, y / 0.85)
    light = np.exp(-r / 101)
    inside = r < 339 / 2
    assert light[inside].sum() / light.sum() == pytest.approx(0.5, abs=0.02)
    a_square_arcsec = light[inside].sum() / light.sum() * 10 ** (-0.4 * 0.40) / (inside.sum() * 16 * 3600)
    assert lmc.surface == pytest.approx(-2.5 * np.log10(a_square_arcsec), abs=0.05)
    night = nights(replace(MILL, lat=-31.0, zenith=21.7), date(2027, 1, 8), date(2027, 1, 8), what=lmc)[0]
    assert night.usable > 300  # high in a dark moonless sky
