"""Foreground, glow over a region, darker places, drives, zones: against single sums, known places and
hand-worked cases."""

from datetime import UTC, datetime

import numpy as np
import pytest

from vinter.core.errors import BadInput
from vinter.core.ground.coastline import Region, around, land_mask, lines, on_land
from vinter.core.ground.darker import darker
from vinter.core.ground.drive import drive_minutes, estimated_drive, reach_km
from vinter.core.ground.glowmap import glow_map
from vinter.core.ground.panorama import fix_by_points, fix_by_sun, traced
from vinter.core.ground.zones import zone_at
from vinter.core.sky.brightness import sky_class
from vinter.core.sky.glow import bearing_distance, glow
from vinter.core.sky.site import Site


@pytest.mark.parametrize(
    ("lat", "lon", "land"),
    [
        (37.75, -8.0, True),
        (37.7, -9.6, False),
        (-32.24, 20.03, True),
        (-36.5, 18.0, False),
        (64.9, -18.5, True),
        (0.0, -140.0, False),
        (67.0, -178.0, True),
        (67.0, 179.9, True),
        (-17.8, 178.0, True),
        (-30.0, 179.99, False),
        (-80.0, 45.0, True),
        (-60.0, 45.0, False),
    ],
)
def test_land_and_sea(lat, lon, land):
    assert on_land(lat, lon) is land


def test_the_share_of_land_in_an_island_box():
    """Iceland: 103,000 km^2 of land in a box round it."""
    box = Region(63.2, -24.8, 66.7, -13.3)
    mask = land_mask(box, 400, 600)
    lat = np.linspace(66.7, 63.2, 400)
    area = (mask * (np.cos(np.radians(lat))[:, None] * (11.5 / 600 * 111.32) * (3.5 / 400 * 111.2))).sum()
    assert area == pytest.approx(103_000, rel=0.03)


def test_lines_cross_the_date_line_and_name_coasts():
    found = lines(Region(-20, 175, -15, 185), 0.01)
    assert any(coast for coast, _ in found)
    longitudes = np.concatenate([line[:, 0] for _, line in found])
    assert longitudes.min() < 180 < longitudes.max()
    steps = np.concatenate([np.abs(np.diff(line[:, 0])) for _, line in found])
    assert steps.max() < 3  # nothing jumps across the map
    borders = [line for coast, line in lines(Region(37, -8, 40, -6), 0.005) if not coast]
    assert borders and min(line[:, 0].min() for line in borders) > -9
    with pytest.raises(BadInput, match="not a box"):
        Region(10, 0, 5, 10)


@pytest.mark.parametrize(
    ("lat", "lon"), [(37.7, -8.77), (38.75, -9.2), (-32.24, 20.03), (51.5, -0.1), (36.4, -116.9)]
)
def test_a_region_agrees_with_single_places(lat, lon):
    region = around(lat, lon, 80)
    grid = glow_map(region, 160)
    rng = np.random.default_rng(4)
    off = []
    for _ in range(25):
        y, x = rng.uniform(region.south, region.north), rng.uniform(region.west, region.east)
        off.append(float(grid.at(np.array(y), np.array(x))) - glow(y, x).zenith)
    assert np.sqrt(np.mean(np.square(off))) < 0.15


def test_darker_places_are_darker_on_land_and_in_reach():
    found = darker(38.745, -9.22, 60, 180)
    here = glow(38.745, -9.22).zenith
    assert {p.steps for p in found} == {1, 2}
    for p in found:
        there = glow(p.lat, p.lon).zenith
        assert sky_class(there + 0.12) <= sky_class(here) - p.steps, p  # the map's own error allowed
        assert there > here + 0.15 * p.steps
        azimuth, km = bearing_distance(38.745, -9.22, np.array([p.lat]), np.array([p.lon]))
        assert (
            km[0] == pytest.approx(p.distance_km, abs=0.1)
            and p.minutes <= 60
            and azimuth[0] == pytest.approx(p.azimuth, abs=1)
        )
        assert on_land(p.lat, p.lon) and p.words
    with pytest.raises(BadInput, match="minutes"):
        darker(38.7, -9.2, 1000)


def test_a_site_south_of_a_town_has_it_behind():
    """Eight kilometres north and south of Beja, only the northern place looks over it to a core in the
    south."""
    from vinter.core.ground.darker import lies

    north, south = lies(38.015 + 0.07, -7.863, 180.0), lies(38.015 - 0.07, -7.863, 180.0)
    assert "look over Beja" in north[1] and "Beja lies behind" in south[1]
    assert north[0] < south[0]  # more town light (a smaller magnitude) towards the core


def test_drives_are_inverse_to_reach_and_end_somewhere():
    for minutes in (20, 60, 180):
        assert drive_minutes(reach_km(minutes)) == pytest.approx(minutes)
    assert drive_minutes(0) == 0
    # 50 km straight are 65 km of road: an hour at 65 km/h, and six minutes to get out of town
    assert drive_minutes(50) == pytest.approx(66)
    far = estimated_drive(7000)
    assert far.far and far.minutes is None


@pytest.mark.parametrize(
    ("lat", "lon", "zone"),
    [
        (37.7, -8.77, "Europe/Lisbon"),
        (-32.24, 20.03, "Africa/Johannesburg"),
        (28.75, -17.9, "Atlantic/Canary"),
        (-16.8, 179.9, "Pacific/Fiji"),
    ],
)
def test_zones_offline(lat, lon, zone):
    assert zone_at(lat, lon) == zone


def test_a_panorama_fixed_by_two_points_gives_back_angles():
    fix = fix_by_points(100, 350, 900, 30, 500)  # 40 degrees over 800 px, through north
    assert fix.degrees_per_px == pytest.approx(0.05)
    assert fix.direction(500, 400) == pytest.approx((10.0, 5.0))
    assert traced(fix, [(500, 400), (300, 600)]) == ((0.0, -5.0), (10.0, 5.0))
    with pytest.raises(BadInput, match="close together"):
        fix_by_points(100, 10, 102, 20, 0)


def test_a_panorama_fixed_by_the_sun_agrees_with_astropy():
    import astropy.units as u
    from astropy.coordinates import AltAz, EarthLocation, get_sun
    from astropy.time import Time
    from astropy.utils import iers

    iers.conf.auto_download, iers.conf.auto_max_age = False, None
    site, moment = Site(lat=37.702, lon=-8.772, tz="Europe/Lisbon"), datetime(2027, 6, 9, 17, 30, tzinfo=UTC)
    frame = AltAz(location=EarthLocation(lat=site.lat * u.deg, lon=site.lon * u.deg), obstime=Time(moment))
    sun = get_sun(Time(moment)).transform_to(frame)
    fix = fix_by_sun(site, moment.timestamp(), 640, 200, 0.1)
    azimuth, altitude = fix.direction(640, 200)
    assert azimuth == pytest.approx(sun.az.deg, abs=0.05) and altitude == pytest.approx(sun.alt.deg, abs=0.1)
    with pytest.raises(BadInput, match="below the horizon"):
        fix_by_sun(site, datetime(2027, 6, 9, 1, tzinfo=UTC).timestamp(), 0, 0, 0.1)
