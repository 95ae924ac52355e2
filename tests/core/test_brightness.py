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
        up, np.array([0.0]), np.array([-float(depression)]), np.array([300.0])
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


def moonlit(moon_alt, altitude=40.0, away=60.0, phase=0.0, k=0.25):
    at = [np.array([v]) for v in (altitude, away, moon_alt, 0.0, phase)]
    return b.moonlight(*at, k)[0] + b.natural(np.array([altitude]), k)[0]


@pytest.mark.parametrize("altitude", [10.0, 20.0, 45.0, 80.0])
def test_a_rising_moon_brightens_the_sky_without_a_step(altitude):
    """At 0.2 degrees a minute no minute of the full Moon changes the sky by over 0.15 mag."""
    rising = [moonlit(h, altitude) for h in np.arange(-0.3, 15, 0.2)]
    steps = -2.5 * np.log10(np.array(rising[:-1]) / np.array(rising[1:]))
    assert (steps >= -1e-9).all() and steps.max() < 0.15


def test_the_sky_darkens_steadily_away_from_the_moon():
    away = np.arange(1.0, 60.0, 0.25)
    light = [moonlit(45.0, 45.0, d) for d in away]
    assert (np.diff(light) < 0).all()


def test_twilight_low_down_is_not_brighter_in_cleaner_air():
    """The same minute of dusk, 20 degrees high, over sites that differ only by their air."""
    dusk = np.array([datetime(2027, 6, 5, 21, tzinfo=UTC).timestamp()])
    low = np.array([20.0]), np.array([180.0])
    light = [
        track(
            Site(lat=37.7, lon=-8.8, tz="UTC", zenith=21.5, extinction=k), 2027, dusk, direction=low
        ).twilight[0]
        for k in (0.05, 0.12, 0.25, 0.4)
    ]
    assert light[0] > 0 and (np.diff(light) >= -1e-9 * light[0]).all()


def test_a_reading_darker_than_the_usual_night_counts_as_it_is():
    for zenith in (22.2, 22.0, 21.9, 21.0, 18.0):
        site = Site(lat=37.7, lon=-8.8, tz="Europe/Lisbon", zenith=zenith)
        moonless = datetime(2027, 6, 5, 1, tzinfo=UTC).timestamp()
        way = track(site, 2027, np.array([moonless]), direction=(np.array([90.0]), np.array([0.0])))
        dark = way.natural + way.towns
        assert float(b.to_magnitudes(dark)[0]) == pytest.approx(zenith, abs=0.02)


@pytest.mark.parametrize(
    ("zenith", "altitude", "azimuth"), [(21.5, 23, 180), (21.5, 89, 0), (20.0, 35, 90), (18.5, 60, 300)]
)
def test_the_error_is_what_a_thousand_drawn_skies_scatter_by(zenith, altitude, azimuth):
    """The reading, the natural sky, the towns' pattern and the extinction drawn at random, the zenith held to
    the reading; the spread of the total against the figure that is shown."""
    from vinter.core.sky.glow import EXTINCTION_SIGMA, LOW_AIRMASS, PATTERN_SIGMA, READING_SIGMA, town_light

    site, dice = Site(lat=37.7, lon=-8.8, tz="Europe/Lisbon", zenith=zenith), np.random.default_rng(3)
    up, az = np.array([float(altitude)]), np.array([float(azimuth)])
    light, k, n = town_light(site), site.extinction, 20_000
    natural = b.to_nanolamberts(b.NATURAL_ZENITH + dice.normal(0, b.SIGMA["natural"], n))
    reading = b.to_nanolamberts(zenith + dice.normal(0, READING_SIGMA, n))
    air = float(b.layer_airmass(up)[0])
    pattern = light.factor(up, az)[0] * (
        1 + dice.normal(0, PATTERN_SIGMA, n) * min((air - 1) / LOW_AIRMASS, 1)
    )
    hazes = k + dice.normal(0, EXTINCTION_SIGMA, n)
    shape = (0.4 + 0.6 * air) * 10 ** (-0.4 * hazes * (air - 1))
    total = natural * shape + (reading - natural) * pattern
    moonless = datetime(2027, 6, 5, 1, tzinfo=UTC).timestamp()
    shown = float(track(site, 2027, np.array([moonless]), direction=(up, az)).parts.uncertainty[0])
    possible = (
        total[reading > natural] if zenith < b.NATURAL_ZENITH else total
    )  # towns give light, they take none
    drawn = float(np.std(-2.5 * np.log10(np.maximum(possible, 1e-3))))
    assert shown == pytest.approx(drawn, rel=0.15)


@pytest.mark.parametrize(
    ("altitude", "published"),
    [(90, 1.0), (60, 1.154), (30, 1.994), (20, 2.904), (10, 5.60), (5, 10.32), (0, 38.0)],
)
def test_light_from_outside_goes_through_the_air_of_a_ray(altitude, published):
    """The table of Kasten and Young (1989)."""
    assert float(b.ray_airmass(altitude)) == pytest.approx(published, rel=0.005)


def test_starlight_and_airglow_have_airmasses_of_their_own():
    """At 10 degrees the galaxy is dimmed by 5.6 airmasses; a glowing layer is 3.8 times as thick there."""
    from vinter.core.sky.target_track import track

    site = Site(lat=45.0, lon=0.0, zenith=21.6, extinction=0.25)
    low, high = (
        track(site, 2027, np.array([1814659200.0]), direction=(np.array([h]), np.array([180.0])))
        for h in (10.0, 90.0)
    )
    glow = float(low.parts.natural[0] / high.parts.natural[0])
    assert glow == pytest.approx((0.4 + 0.6 * 3.81) * 10 ** (-0.4 * 0.25 * 2.81), rel=0.01)
    lost = -2.5 * np.log10(float(low.contrast_over(np.ones(1))[0] / high.contrast_over(np.ones(1))[0]))
    assert lost == pytest.approx(0.25 * (5.60 - 1), abs=0.01)
