"""Whether there is night enough: by day, into the dawn, beside the Moon; and that nothing aims at the
Sun."""

from dataclasses import replace
from datetime import UTC, datetime

import numpy as np
import pytest
from skyfield.api import wgs84

from vinter.core.camera.phones import phone
from vinter.core.camera.photons import sky_rate
from vinter.core.camera.projection import Pose
from vinter.core.errors import BadInput
from vinter.core.planning.light import TooBright
from vinter.core.planning.picture import Wish, plan_picture
from vinter.core.planning.shot import darker_by, plan_shot
from vinter.core.sky import ephemeris as eph
from vinter.core.sky.nights import night_at
from vinter.core.sky.site import Site
from vinter.core.sky.targets import CORE, target

MILL = Site(lat=37.7, lon=-8.78, tz="Europe/Lisbon", zenith=21.5)
NORTH = Site(lat=69.7, lon=19.0, tz="Europe/Oslo", zenith=21.5)
LENS = phone("marlet-7").lens("main")


def unix(text):
    return datetime.fromisoformat(text).replace(tzinfo=UTC).timestamp()


def planned(when, mode="stack", what=CORE, site=MILL, **more):
    t = unix(when)
    wish = Wish(site=site, unix=t, lens=LENS, mode=mode, target=what, night=night_at(site, t))
    return plan_picture(replace(wish, **more))


def sun_by_the_library(site, t):
    _, bodies = eph._kernel()
    place = bodies["earth"] + wgs84.latlon(site.lat, site.lon)
    return place.at(eph.skyfield_time(np.array([t]))).observe(bodies["sun"]).apparent().altaz()[0].degrees[0]


@pytest.mark.parametrize("mode", ["trails", "timelapse", "stack", "single"])
def test_by_day_a_plan_says_when_it_can_begin(mode):
    with pytest.raises(TooBright, match=r"no star shows\. It can begin at 22:08") as refused:
        planned("2027-06-10 12:00", mode, target("pole"))
    assert "mag" not in str(refused.value)  # no figure of a model
    begins = unix("2027-06-10 21:08")  # summer time is an hour ahead
    assert sun_by_the_library(MILL, begins) == pytest.approx(-12, abs=0.3)


def test_under_the_midnight_sun_nothing_is_planned_in_silence():
    for when in ("2027-06-21 12:00", "2027-06-21 23:00"):
        with pytest.raises(TooBright, match="this night does not get dark"):
            planned(when, "trails", target("pole"), NORTH)


def test_a_sequence_ends_with_the_dawn_or_goes_on_on_purpose():
    ends = planned("2027-06-10 01:00", "trails", target("pole"), options={"hours": 6})
    last = unix("2027-06-10 01:00") + ends.mode_plan.frames * ends.mode_plan.interval
    assert sun_by_the_library(MILL, last) == pytest.approx(-12, abs=0.5)
    assert any("It ends with the dawn" in r for r in ends.mode_plan.reasons)
    short = planned("2027-06-10 01:00", "trails", target("pole"), options={"hours": 2})
    assert not any("dawn" in r for r in short.mode_plan.reasons + short.mode_plan.cautions)
    on = planned("2027-06-10 01:00", "timelapse", options={"hours": 5, "dawn": 1})
    (caution,) = [c for c in on.mode_plan.cautions if "runs into the dawn" in c]
    assert "from 0" in caution and "the sky fills the frame" in caution


def test_a_moon_beside_the_core_is_named_with_what_would_help():
    with pytest.raises(TooBright, match="the Moon, 100 % lit, stands 1° from it") as refused:
        planned("2027-06-19 01:00")
    assert "nearer new Moon" in str(refused.value) and "frames" not in str(refused.value)
    with pytest.raises(BadInput, match="plan it as “The Moon”"):
        planned("2027-06-19 01:00", "single", target("moon"))
    assert planned("2027-06-19 01:00", "moon", target("moon")).mode_plan.shutter < 0.1


@pytest.mark.parametrize("zenith", [17.2, 16.2])
def test_no_plan_leaves_a_sky_that_fills_its_frames(zenith):
    """Over a town the shutter is shortened, or the plan is refused."""
    town = replace(MILL, zenith=zenith)
    try:
        found = planned("2027-06-10 01:00", "timelapse", site=town)
    except TooBright as error:
        assert "towns" in str(error)
        return
    plan = found.mode_plan
    level = sky_rate(LENS, found.plan.at.brightness) * plan.shutter / LENS.full_scale(plan.iso)
    assert level <= 0.61


@pytest.mark.parametrize("mode", ["ground", "lamp", "person", "focus-pair"])
def test_what_stands_on_the_ground_must_be_in_the_frame(mode):
    with pytest.raises(BadInput, match="Nothing of the ground is in this frame: it begins 4"):
        planned("2027-06-10 01:00", mode, pose=Pose(180.0, 70.0))
    assert planned("2027-06-10 01:00", mode).mode_plan.frames > 0


def test_what_no_count_helps_against_is_named():
    """Under a full Moon a darker site helps nothing."""
    costs = {"towns": 0.9, "moon": 3.4, "twilight": 0.0}
    assert darker_by(costs) == "a time without the Moon, which costs 3.4 mag here"
    assert darker_by(costs | {"moon": 0.2}) == "a darker site"
    assert darker_by({"towns": 0.1, "moon": 0.3, "twilight": 0.2}) == "a darker site"
    assert "twilight costs 2.0 mag" in darker_by({"towns": 0.1, "twilight": 2.0})
    full_moon = datetime(2027, 7, 19, 0, 30, tzinfo=UTC).timestamp()
    reasons = plan_shot(replace(MILL, zenith=21.9), full_moon, LENS).exposure.stack_reasons
    assert any("a time without the Moon, which costs" in r for r in reasons), reasons
