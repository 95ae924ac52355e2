"""The times on the card are those of this night; rises and sets are asked of another library's almanac."""

from datetime import date, datetime
from zoneinfo import ZoneInfo

import numpy as np
import pytest
from fields import SITE

from vinter.core.field.times import card_times
from vinter.core.sky import ephemeris as eph
from vinter.core.sky.nights import nights
from vinter.core.sky.targets import target


def on_card(day, what="core"):
    (night,) = nights(SITE, day, day, what=target(what))
    return night, {one.label: one for one in card_times(night)}


def referee(night):
    """Moonrise and moonset between sunset and sunrise, Unix seconds, by skyfield."""
    from skyfield import almanac
    from skyfield.api import wgs84

    _, bodies = eph._kernel()
    here = bodies["earth"] + wgs84.latlon(SITE.lat, SITE.lon)
    start, end = night.sun["set"][0], night.sun["rise"][-1]
    span = [eph.skyfield_time(np.array([v]))[0] for v in (start, end)]
    return [
        [
            t.utc_datetime().timestamp()
            for t, yes in zip(*find(here, bodies["moon"], *span), strict=True)
            if yes
        ]
        for find in (almanac.find_risings, almanac.find_settings)
    ]


@pytest.mark.parametrize("day", [date(2027, 6, n) for n in range(1, 29, 3)])
def test_moonrise_and_moonset_are_this_nights(day):
    night, said = on_card(day)
    rises, sets = referee(night)
    if not rises and not sets:
        assert "Moon rises" not in said and said["Moon"].words.startswith(("up all night", "down all night"))
        return
    for label, wanted, otherwise in (
        ("Moon rises", rises, "by day"),
        ("Moon sets", sets, "by day"),
    ):
        assert said[label].at == pytest.approx(wanted, abs=90)
        assert said[label].words == ("" if wanted else otherwise)


def test_a_moon_that_rises_after_the_planned_minute_is_on_the_card():
    """The night of 25 June 2027: the Moon rises past midnight and had set the noon before."""
    _, said = on_card(date(2027, 6, 25))
    rises = datetime.fromtimestamp(said["Moon rises"].at[0], ZoneInfo(SITE.tz))
    assert rises.day == 26 and rises.hour < 2 and said["Moon sets"].words == "by day"


def test_the_target_has_its_own_name():
    assert "Core best" in on_card(date(2027, 6, 9))[1]
    for key in ("jupiter", "lmc", "arch", "con:ori", "moon"):
        _, said = on_card(date(2027, 6, 9), key)
        name = next(label for label in said if label.endswith(" best")).removesuffix(" best")
        assert name and "Core" not in name and name.lower() in target(key).name.lower()


def test_a_night_that_never_gets_dark_says_so():
    from dataclasses import replace

    (night,) = nights(replace(SITE, lat=62.0), date(2027, 6, 20), date(2027, 6, 20))
    dawn = card_times(night)[-1]
    assert (dawn.label, dawn.at, dawn.words) == ("Dawn", (), "it never gets dark")
