"""Sky brightness against published values and the equations worked by hand."""

import math
from datetime import UTC, datetime

import numpy as np
import pytest

from vinter.core.sky import brightness as b
from vinter.core.sky.galaxy import to_equatorial
from vinter.core.sky.glow import direction_factor, glow
from vinter.core.sky.site import Site
from vinter.core.sky.target_track import arch, track


def test_nanolamberts_and_magnitudes():
    assert b.to_magnitudes(79.0) == pytest.approx(21.587, abs=0.001)
    assert b.to_magnitudes(b.to_nanolamberts(17.3)) == pytest.approx(17.3, abs=1e-9)


@pytest.mark.parametrize(
    ("depression", "wanted"), [(6, 13.3), (9, 17.0), (12, 19.7), (15, 21.5), (18, 21.92)]
)
def test_twilight_totals_at_the_zenith(depression, wanted):
    up = np.array([90.0])
    total = b.natural(up, 0.172) + b.twilight(
        up, np.array([0.0]), np.array([-float(depression)]), np.array([300.0]), 0.172
    )
    assert b.to_magnitudes(total)[0] == pytest.approx(wanted, abs=0.06)


@pytest.mark.parametrize(("altitude", "phase", "wanted"), [(60, 0, 17.5), (30, 0, 18.4), (40, 90, 20.7)])
def test_moonlit_zenith(altitude, phase, wanted):
    up = np.array([90.0])
    light = b.moonlight(
        up, np.array([0.0]), np.array([float(altitude)]), np.array([90.0]), np.array([float(phase)]), 0.172
    )
    assert b.to_magnitudes(b.natural(up, 0.172) + light)[0] == pytest.approx(wanted, abs=0.15)


def test_moonlight_by_hand():
    """Krisciunas and Schaefer for a 60 degree phase angle, Moon at 45, target at 30 degrees, 50 degrees
    apart."""
    k, a, rho = 0.2, 60.0, 50.0
    x = [(1 - 0.96 * math.sin(math.radians(90 - h)) ** 2) ** -0.5 for h in (45.0, 30.0)]
    istar = 10 ** (-0.4 * (3.84 + 0.026 * a + 4e-9 * a**4))
    f = 10**5.36 * (1.06 + math.cos(math.radians(rho)) ** 2) + 10 ** (6.15 - rho / 40)
    wanted = f * istar * 10 ** (-0.4 * k * x[0]) * (1 - 10 ** (-0.4 * k * x[1]))
    # an azimuth that puts the Moon 50 degrees from the target
    c = (math.cos(math.radians(rho)) - math.sin(math.radians(30)) * math.sin(math.radians(45))) / (
        math.cos(math.radians(30)) * math.cos(math.radians(45))
    )
    got = b.moonlight(
        np.array([30.0]),
        np.array([0.0]),
        np.array([45.0]),
        np.array([math.degrees(math.acos(c))]),
        np.array([a]),
        k,
    )
    assert got[0] == pytest.approx(wanted, rel=1e-6)


def test_a_moon_below_the_horizon_gives_nothing():
    assert (
        b.moonlight(
            np.array([40.0]), np.array([0.0]), np.array([-0.1]), np.array([50.0]), np.array([5.0]), 0.2
        )[0]
        == 0
    )


def test_costs_add_up_to_the_whole():
    parts = b.SkyParts(*(np.array([v]) for v in (60.0, 30.0, 90.0, 10.0)))
    assert sum(c[0] for c in parts.costs().values()) == pytest.approx(2.5 * math.log10(190 / 60))


@pytest.mark.parametrize(
    ("place", "lat", "lon", "known", "within"),
    [
        ("London", 51.507, -0.128, 17.2, 0.5),
        ("Los Angeles", 34.05, -118.25, 17.4, 0.4),
        ("Flagstaff", 35.2, -111.65, 19.9, 0.4),
        ("Cherry Springs", 41.663, -77.823, 21.6, 0.4),
        ("Death Valley", 36.5, -117.1, 21.75, 0.2),
        ("La Palma", 28.76, -17.88, 21.85, 0.4),
        ("Sutherland", -32.38, 20.81, 21.85, 0.2),
        ("Namib", -24.0, 16.0, 21.93, 0.1),
    ],
)
def test_town_glow_at_known_places(place, lat, lon, known, within):
    assert glow(lat, lon).zenith == pytest.approx(known, abs=within), place


def test_glow_is_brighter_towards_the_town_and_equal_at_the_zenith():
    assert direction_factor(15.0, 0.0, 30.0) > 3 * direction_factor(15.0, 180.0, 30.0)
    assert direction_factor(90.0, 0.0, 30.0) == pytest.approx(1.0)
    s = math.sin(math.radians(60))
    by_hand = math.exp(
        0.712 * s**2
        + s**5.672 * 3.076 * math.exp(-(1 - math.cos(math.radians(40))) / 0.266)
        + 0.244 * s * math.cos(math.radians(40))
    )
    assert direction_factor(30.0, 40.0, 30.0) == pytest.approx(by_hand)


def test_galactic_directions():
    ra, dec = to_equatorial(0.0, 0.0)
    assert (float(ra), float(dec)) == pytest.approx((266.405, -28.936), abs=0.002)
    ra, dec = to_equatorial(180.0, 0.0)
    assert (float(ra), float(dec)) == pytest.approx((86.405, 28.936), abs=0.002)


@pytest.mark.parametrize(
    ("when", "top", "tilt"),
    [((2027, 3, 15, 4, 0), 35, -59), ((2027, 6, 15, 0, 0), 59, -35), ((2027, 8, 15, 22, 0), 81, -9)],
)
def test_arch_and_tilt_through_the_season_at_38_north(when, top, tilt):
    site = Site(lat=38.0, lon=0.0)
    moment = datetime(*when, tzinfo=UTC).timestamp()
    assert arch(site, moment)[0] == pytest.approx(top, abs=2)
    assert track(site, 2027, np.array([moment])).tilt[0] == pytest.approx(tilt, abs=2)


def test_classes_at_their_limits():
    assert [b.sky_class(m) for m in (21.9, 21.7, 21.4, 21.0, 20.5, 20.0, 19.0, 18.2, 17.0)] == list(
        range(1, 10)
    )
