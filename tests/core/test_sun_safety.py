"""Nothing is planned within 20 degrees of a Sun above the horizon; where the Sun stands is asked of
astropy."""

import os
from datetime import UTC, datetime

import numpy as np
import pytest
from fields import LENS
from fields import SITE as MILL

from vinter.cli import main
from vinter.core.camera.projection import Pose
from vinter.core.errors import BadInput
from vinter.core.field.card import checks
from vinter.core.planning.picture import Wish, plan_picture
from vinter.core.sky.sun_safety import LEAST_DEG, SunTooNear, next_safe
from vinter.core.sky.targets import target


def unix(text):
    return datetime.fromisoformat(text).replace(tzinfo=UTC).timestamp()


def referee(at, what):
    """The Sun's altitude, and its distance from a body, in degrees, by another library."""
    from astropy.coordinates import AltAz, EarthLocation, get_body
    from astropy.time import Time
    from astropy.utils import iers

    iers.conf.auto_download, iers.conf.auto_max_age = False, None
    where = EarthLocation.from_geodetic(MILL.lon, MILL.lat, MILL.elevation)
    frame = AltAz(obstime=Time(at, format="unix"), location=where)
    sun, body = (get_body(name, frame.obstime, where).transform_to(frame) for name in ("sun", what))
    return float(sun.alt.deg), float(sun.separation(body).deg)


def planned(at, what, mode="stack", **more):
    return plan_picture(Wish(site=MILL, unix=at, lens=LENS, mode=mode, target=target(what), **more))


@pytest.mark.parametrize(
    ("when", "what", "mode"),
    [
        ("2027-08-10 12:30", "venus", "planet-venus"),
        ("2027-08-31 13:00", "jupiter", "planet-jupiter"),
        ("2027-08-02 09:00", "moon", "moon"),
        ("2027-12-18 12:30", "core", "stack"),
    ],
)
def test_what_stands_near_the_sun_by_day_is_refused_with_the_next_safe_time(when, what, mode):
    at = unix(when)
    with pytest.raises(SunTooNear, match=r"from the Sun.*refused.*Next safe time") as caught:
        planned(at, what, mode)
    safe = next_safe(MILL, at, target(what))
    assert safe is not None and safe > at
    if what != "core":
        assert referee(at, what)[1] < LEAST_DEG
        sun, apart = referee(safe, what)
        assert sun < -0.5 or apart >= LEAST_DEG
    assert f"{datetime.fromtimestamp(safe, MILL.zone):%H:%M}" in str(caught.value)


def test_an_eclipse_of_the_sun_is_called_one():
    with pytest.raises(SunTooNear, match="eclipse of the Sun"):
        planned(unix("2027-08-02 08:46"), "moon", "moon")


def test_a_lens_turned_to_the_sun_is_refused_though_its_target_is_not_near_it():
    at = unix("2027-06-14 18:00")  # the Moon far from the Sun, both up
    assert referee(at, "moon")[1] > 60
    assert planned(at, "moon", "moon").plan.pose
    from vinter.core.sky.ephemeris import horizontal, year_ephemeris

    e, t = year_ephemeris(2027), np.array([at])
    alt, az, _ = horizontal(e.sun(t), e.gast(t), MILL)
    with pytest.raises(SunTooNear, match="The lens would point"):
        planned(at, "moon", "moon", pose=Pose(float(az[0]) + 12, float(alt[0])))


def test_trails_that_end_in_a_sun_before_the_lens_are_refused():
    at = unix("2027-06-10 03:30")  # an hour and a half before sunrise in the north-east
    pose = Pose(62.0, 10.0)
    assert planned(at, "pole", "trails", options={"hours": 0.5}, pose=pose).mode_plan.minutes < 40
    with pytest.raises(SunTooNear, match="The lens would point"):
        planned(at, "pole", "trails", options={"hours": 4, "dawn": 1}, pose=pose)
    away = planned(at, "pole", "trails", options={"hours": 4, "dawn": 1}, pose=Pose(300.0, 20.0))
    assert away.mode_plan.frames > 100


@pytest.mark.long("twelve hundred plans; VINTER_PLANS sets how many")
def test_ten_years_of_random_plans_never_point_near_the_sun():
    """The planned direction of what is not refused, against the Sun's place by another library's
    ephemeris."""
    from skyfield.api import wgs84

    from vinter.core.sky import ephemeris as eph

    rng, kept, refused = np.random.default_rng(4), 0, 0
    _, bodies = eph._kernel()
    here = bodies["earth"] + wgs84.latlon(MILL.lat, MILL.lon, MILL.elevation)
    for _ in range(int(os.environ.get("VINTER_PLANS", "1200"))):
        at = unix("2025-01-01 00:00") + float(rng.uniform(0, 10 * 365.25 * 86400))
        what, mode = [("venus", "planet-venus"), ("moon", "moon"), ("core", "stack")][rng.integers(3)]
        try:
            found = planned(at, what, mode)
        except SunTooNear:
            refused += 1
            continue
        except BadInput:  # below the horizon
            continue
        alt, az, _ = here.at(eph.skyfield_time(np.array([at]))).observe(bodies["sun"]).apparent().altaz()
        pose = found.plan.pose
        a, b = np.radians([alt.degrees[0], pose.altitude])
        d = np.radians(az.degrees[0] - pose.azimuth)
        apart = np.degrees(
            np.arccos(np.clip(np.sin(a) * np.sin(b) + np.cos(a) * np.cos(b) * np.cos(d), -1, 1))
        )
        assert alt.degrees[0] < 0 or apart > LEAST_DEG - 0.2, (at, what)
        kept += 1
    assert kept > 30 and refused > 5


def test_the_simulated_phone_is_not_pointed_there_either(tmp_path, capsys):
    given = ["simulate", "--out", str(tmp_path), "--n", "1", "--time", "2027-12-18T12:30:00Z"]
    assert main(given) == 2 and "from the Sun" in capsys.readouterr().err
    assert not list(tmp_path.iterdir())


@pytest.mark.parametrize(("when", "what", "mode"), [("2027-06-12 16:30", "moon", "moon")])
def test_by_day_the_caution_stands_before_everything_else(when, what, mode):
    at = unix(when)
    sun, apart = referee(at, what)
    assert sun > 5 and apart > LEAST_DEG
    found = planned(at, what, mode)
    assert found.mode_plan.cautions[0].startswith(f"The Sun is up, {apart:.0f}° from the target")
    first = checks(LENS, 50, 0.01, 1, found.plan.pose, found.mode_plan.steps)[0]
    assert first == ("The Sun is up: stand in a shadow", f"{apart:.0f}° away")
    night = planned(unix("2027-06-17 22:30"), what, mode)
    assert not any("Sun is up" in c for c in night.mode_plan.cautions)
