"""What makes a minute good: never more light in the sky, no step at the edge, said plainly where none is."""

from dataclasses import replace
from datetime import date

import numpy as np
import pytest
from icalendar import Calendar

from vinter.core.formats.tables import nights_csv, nights_ics
from vinter.core.sky.alternatives import alternatives
from vinter.core.sky.horizon import Horizon
from vinter.core.sky.nights import nights, usable_share
from vinter.core.sky.ranking import EVEN_CHANCE, best_nights, hours_worth, judged, lunation
from vinter.core.sky.site import Site
from vinter.core.sky.target_track import track
from vinter.core.sky.targets import CORE, target
from vinter.core.sky.thresholds import Thresholds
from vinter.core.sky.verdict import judge

MILL = Site(lat=37.702, lon=-8.772, tz="Europe/Lisbon", zenith=21.5)
JUNE = date(2027, 6, 1), date(2027, 6, 30)


@pytest.mark.parametrize(("key", "lat"), [("core", 38.2), ("core", -32.2), ("arch", 38.2), ("lmc", -32.2)])
def test_more_light_in_the_sky_never_adds_a_minute(key, lat):
    """The same month under towns from none to a city's: every night's minutes and worth only fall."""
    rows = []
    for zenith in (21.95, 21.3, 20.0, 18.5, 17.0):
        site = Site(lat=lat, lon=-8.8, tz="Europe/Lisbon", zenith=zenith)
        found = judged(site, *JUNE, Thresholds(), target(key))
        rows.append([(n.usable, n.suburb, n.equivalent) for n, _ in found])
    steps = np.diff(np.array(rows), axis=0)
    assert steps.max() <= 1e-6
    totals = np.array(rows)[..., 0].sum(axis=1)
    assert totals[-1] == 0 and totals[0] >= totals[2]


def test_a_garden_has_fewer_usable_hours_than_the_mill():
    garden = replace(MILL, zenith=19.0)
    by_site = [
        sum(n.usable for n in nights(s, date(2027, 1, 1), date(2027, 12, 31))) / 60 for s in (MILL, garden)
    ]
    assert by_site[0] > 300 and by_site[1] < 1


def test_the_moon_never_adds_a_minute_either():
    for night in nights(MILL, *JUNE):
        assert all(w.moon_lost >= -1e-9 for w in night.windows)
        if night.illuminated > 0.95:
            assert night.usable < 0.1 * night.minutes


def test_the_edge_is_no_step():
    contrast = np.linspace(0.01, 1.0, 2000)
    share = usable_share(contrast, 25.0)
    assert share[0] == 0 and share[-1] == 1 and np.abs(np.diff(share)).max() < 0.02
    assert usable_share(np.array([0.25]), 25.0)[0] == pytest.approx(0.5)
    assert (np.diff(share) >= 0).all()


def test_worth_is_signal_to_noise_squared_against_a_perfect_sky():
    """By hand: dimmed light squared over the sky's, relative to a zenith of 21.95 in clean air."""
    night = nights(MILL, date(2027, 6, 5), date(2027, 6, 5))[0]
    way = track(MILL, 2027, np.array([night.best.best.t]), CORE)
    altitude, sky = float(way.alt[0]), float(way.parts.brightness[0])
    air = 1 / (np.sin(np.radians(altitude)) + 0.50572 * (altitude + 6.07995) ** -1.6364)  # Kasten and Young
    dimmed = 10 ** (-0.4 * (0.25 * air - 0.172))
    assert float(way.worth[0]) == pytest.approx(dimmed**2 * 10 ** (-0.4 * (21.95 - sky)), rel=0.01)
    assert float(way.contrast[0]) == pytest.approx(10 ** (-0.4 * (21.0 - sky + 0.25 * air)), rel=0.01)


def test_it_says_plainly_that_no_minute_is_usable_and_why():
    city = replace(MILL, zenith=18.0)
    night = nights(city, date(2027, 6, 5), date(2027, 6, 5))[0]
    first = judge(city, night).reasons[0]
    assert night.usable == 0 and first.startswith("No usable minute: the towns leave the core at ")
    assert (
        f"{100 * night.best.best.contrast:.0f} % of the sky's light" in first and "25 % is asked for" in first
    )
    suburb = replace(MILL, zenith=20.3)
    night = nights(suburb, date(2027, 6, 5), date(2027, 6, 5))[0]
    assert night.usable < 1 and "At the suburban threshold (8 %)" in judge(suburb, night).reasons[0]
    full = next(n for n in nights(MILL, *JUNE) if n.illuminated > 0.97 and n.windows)
    assert "Moon leaves the core" in judge(MILL, full).reasons[0]


def test_a_lower_measure_of_ones_own_brings_the_suburb_back():
    suburb = replace(MILL, zenith=20.3)
    strict, own = (nights(suburb, *JUNE, Thresholds(least_contrast=c)) for c in (25.0, 8.0))
    assert sum(n.usable for n in strict) < 0.3 * sum(n.usable for n in own)
    assert [n.suburb for n in strict] == pytest.approx([n.usable for n in own])


YEAR = date(2027, 1, 1), date(2027, 12, 31)


@pytest.mark.parametrize("site", [MILL, Site(lat=-32.24, lon=20.03, tz="Africa/Johannesburg", zenith=21.85)])
def test_the_score_is_a_share_of_the_best_night_of_the_year_there(site):
    year = judged(site, *YEAR, Thresholds(), CORE)
    best = max(n.equivalent for n, _ in year)
    assert [v.score for _, v in year] == pytest.approx([100 * n.equivalent / best for n, _ in year], abs=0.06)
    assert max(v.score for _, v in year) == 100
    june = judged(site, *JUNE, Thresholds(), CORE)  # of a part of the year each night has the same score
    assert [v.score for _, v in june] == [v.score for n, v in year if JUNE[0] <= n.day <= JUNE[1]]
    for night, verdict in year:
        if verdict.word == "good":
            assert night.usable >= 1
        if night.minutes >= 60 and night.usable >= 0.9 * night.minutes:
            assert verdict.word == "good"  # a whole window without a Moon is never called fair
        if night.usable < 1:
            assert verdict.word in ("poor", "none")


def test_a_night_is_worth_so_many_hours_of_another_sites_best():
    year = [n for n, _ in judged(MILL, *YEAR, Thresholds(), CORE)]
    best = max(year, key=lambda n: n.equivalent)
    assert hours_worth(best, best) == pytest.approx(best.usable / 60)
    dim = max(
        (n for n, _ in judged(replace(MILL, zenith=20.5), *YEAR, Thresholds(), CORE)),
        key=lambda n: n.equivalent,
    )
    assert 0 < hours_worth(dim, best) < 0.6 * hours_worth(best, best)


WALL = Horizon(((90.0, 0.0), (165.0, 0.0), (166.0, 30.0), (190.0, 30.0), (191.0, 0.0), (270.0, 0.0)))


def test_every_window_of_a_night_is_listed_and_spoken_of():
    site = replace(MILL, horizon=WALL)
    night = nights(site, date(2027, 6, 5), date(2027, 6, 5))[0]
    assert len(night.windows) == 2
    verdict = judge(site, night)
    row = nights_csv([night], [verdict]).splitlines()[1]
    assert row.rsplit(",", 1)[1].count("/") == 2
    assert verdict.reasons[0].count(", when ") == 4
    assert verdict.schools["moon_down"].words.endswith(f"of {night.minutes:.0f} min")
    events = Calendar.from_ical(nights_ics(site, [night], [verdict], every_window=True)).walk("VEVENT")
    assert len(events) == 2


def test_a_calendar_holds_only_what_is_worth_leaving_for_unless_asked():
    found = nights(MILL, date(2027, 3, 1), date(2027, 6, 30))
    verdicts = [judge(MILL, n) for n in found]
    good, every = (
        len(Calendar.from_ical(nights_ics(MILL, found, verdicts, every_window=e)).walk("VEVENT"))
        for e in (False, True)
    )
    assert every == sum(len(n.windows) for n in found)
    assert good == sum(
        v.worth_going and w.usable >= 15 for n, v in zip(found, verdicts, strict=True) for w in n.windows
    )
    assert 0 < good < 0.6 * every


def test_of_a_lunation_at_most_two_and_the_chance_of_a_clear_sky_enters():
    found = [(MILL, judged(MILL, date(2027, 3, 1), date(2027, 9, 30), Thresholds(), CORE))]
    ten, any_ten = best_nights(found), best_nights(found, most_of_a_lunation=None)
    of = [lunation(c.night.day) for c in ten]
    assert len(ten) == 10 and max(of.count(m) for m in of) == 2
    assert max([lunation(c.night.day) for c in any_ten].count(m) for m in of) > 2
    cloudy = ten[0].night.day
    told = best_nights(found, chance=lambda site, n: 0.05 if n.day == cloudy else None)
    assert cloudy not in [c.night.day for c in told][:5]
    clear = best_nights(found, chance=lambda site, n: 0.9 if n.day == ten[5].night.day else None)
    assert clear[0].night.day == ten[5].night.day and clear[0].chance == 0.9
    assert clear[0].expected == pytest.approx(0.9 * clear[0].night.equivalent)
    assert clear[1].expected == pytest.approx(EVEN_CHANCE * clear[1].night.equivalent)


def test_lunations_run_from_full_moon_to_full_moon():
    new = date(2027, 6, 4)  # new Moon, evening of the 4th
    assert len({lunation(date.fromordinal(new.toordinal() + d)) for d in range(-13, 14)}) == 1
    assert lunation(date.fromordinal(new.toordinal() + 16)) == lunation(new) + 1


def test_where_no_hours_were_set_none_are_spoken_of():
    far = Site(lat=62.0, lon=25.0, tz="Europe/Helsinki", zenith=21.5)
    for night in nights(far, date(2027, 1, 1), date(2027, 2, 28), None, target("band:180")):
        assert not any("your hours" in r for r in judge(far, night).reasons)


def test_where_the_core_cannot_something_else_can_be_done():
    """North of the polar circle in winter, and in a June without darkness, what is left is named."""
    north = Site(lat=68.0, lon=20.0, tz="Europe/Stockholm", zenith=21.7)
    found = alternatives(north, date(2027, 1, 8), Thresholds(), CORE)
    assert found and all(a.night.minutes >= 20 for a in found)
    assert any(a.night.what.banded and not a.lower for a in found)
    worth = [a.night.equivalent for a in found if a.night.what.dark and not a.lower]
    assert worth == sorted(worth, reverse=True)
    paris = Site(lat=50.5, lon=2.0, tz="Europe/Paris", zenith=21.5)
    lower = alternatives(paris, date(2027, 6, 5), Thresholds(), CORE)[0]
    assert lower.lower and lower.night.what.key == "core" and lower.night.minutes >= 20
    assert nights(paris, date(2027, 6, 5), date(2027, 6, 5))[0].minutes == 0
