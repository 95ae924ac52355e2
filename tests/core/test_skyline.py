"""The view from the stand and the stands themselves, against skyfield and geometry worked apart from the
code."""

import math
from datetime import UTC, date, datetime

import numpy as np
import pytest
from skyfield.api import Star, wgs84

from vinter.core.camera.focus import blur_px, hyperfocal
from vinter.core.camera.phones import phone
from vinter.core.camera.projection import Pose
from vinter.core.errors import BadInput
from vinter.core.planning.shot import plan_shot
from vinter.core.planning.skyline import figures, frame_seen, picture
from vinter.core.planning.stand import Subject, Wanted, destination, distance_for_top, stands
from vinter.core.sky import ephemeris as eph
from vinter.core.sky.catalogue import DATA
from vinter.core.sky.horizon import Horizon
from vinter.core.sky.nights import nights
from vinter.core.sky.site import Site
from vinter.core.sky.targets import CORE, target

MILL = Site(lat=37.702, lon=-8.772, tz="Europe/Lisbon", elevation=6, zenith=21.5)
FOLD = Site(lat=-32.24, lon=20.03, tz="Africa/Johannesburg", elevation=420, zenith=21.9)
WHEN = datetime(2027, 6, 10, 0, 45, tzinfo=UTC).timestamp()
MARLET = phone("marlet-7")


@pytest.mark.parametrize("site", [MILL, FOLD])
def test_ten_stars_stand_where_skyfield_sees_them(site):
    timescale, bodies = eph._kernel()
    observer = (bodies["earth"] + wgs84.latlon(site.lat, site.lon, elevation_m=site.elevation)).at(
        timescale.from_datetime(datetime.fromtimestamp(WHEN, UTC))
    )
    drawn = figures(site, WHEN, CORE).stars
    with np.load(DATA / "stars.npz") as data:
        brightest = data["radec"][:60].astype(float) * 1e-4
    checked = 0
    for ra, dec in brightest:
        alt, az, _ = (
            observer.observe(Star(ra_hours=ra / 15, dec_degrees=dec))
            .apparent()
            .altaz(temperature_C=10, pressure_mbar=1010)
        )
        if alt.degrees < 3:
            continue
        away = eph.separation(drawn[:, 1], drawn[:, 0], alt.degrees, az.degrees)
        assert away.min() < 0.01, (ra, dec)
        checked += 1
    assert checked >= 10


@pytest.mark.parametrize(("name", "portrait"), [("main", False), ("ultra-wide", True), ("tele", False)])
def test_frame_corners_of_three_lenses_worked_by_hand(name, portrait):
    """A level frame at azimuth 180: a corner's ray is (right, up, forward) turned by the altitude of the
    axis; the radial term is inverted by bisection."""
    lens, up = MARLET.lens(name), math.radians(20)
    w, h = (lens.height, lens.width) if portrait else (lens.width, lens.height)
    outline = frame_seen(MILL, lens, Pose(180, 20), portrait, (0.0, -50.0)).outline
    f = lens.focal * 1000 / lens.pitch
    corner = math.hypot(w / 2, h / 2) / f
    k1 = lens.distortion / (math.hypot(w / 2, h / 2) / f) ** 2
    low, high = 0.0, 3.0
    for _ in range(60):
        r = (low + high) / 2
        low, high = (r, high) if r * (1 + k1 * r * r) < corner else (low, r)
    for sx, sy, index in ((-1, 1, 0), (1, 1, 24), (1, -1, 48), (-1, -1, 72)):
        x, y = sx * r * (w / 2) / math.hypot(w / 2, h / 2), sy * r * (h / 2) / math.hypot(w / 2, h / 2)
        forward, rise = math.cos(up) - y * math.sin(up), math.sin(up) + y * math.cos(up)
        alt, az = (
            math.degrees(math.atan2(rise, math.hypot(forward, x))),
            180 + math.degrees(math.atan2(x, forward)),
        )
        assert outline[index] == pytest.approx((az, alt), abs=0.02)


def test_ground_takes_its_share_of_the_frame():
    lens = MARLET.lens("main")
    level = frame_seen(MILL, lens, Pose(180, 0), False, (180.0, 0.0))
    assert level.ground == pytest.approx(0.5, abs=0.01) and level.target == pytest.approx(
        (0.5, 0.5), abs=0.01
    )
    walled = Site(lat=37.702, lon=-8.772, tz="Europe/Lisbon", horizon=Horizon(((0.0, 89.0), (359.0, 89.0))))
    assert frame_seen(walled, lens, Pose(180, 30), False, (0.0, 0.0)).ground == 1
    assert frame_seen(MILL, lens, Pose(180, 60), False, (0.0, 10.0)).target is None


def test_the_picture_is_bright_where_the_band_and_the_dawn_are():
    night = picture(MILL, WHEN, 174, 120, -8, 62, 600).astype(float).mean(axis=2)
    assert night.shape == (350, 600)
    row = round((62 - 23.2) / 70 * 350)
    assert night[row, 290:310].mean() > night[60, 520:].mean() + 15  # the core against the dark south-west
    dawn = picture(MILL, datetime(2027, 6, 10, 4, 20, tzinfo=UTC).timestamp(), 60, 120, -8, 62, 600).astype(
        float
    )
    assert dawn.mean() > night.mean() + 40


def test_hyperfocal_distance_by_hand():
    lens = MARLET.lens("main")  # 5.6 mm, f/1.8, 2 um, two pixels: 31.36 / (1.8 * 0.004) + 5.6 mm
    assert hyperfocal(lens) == pytest.approx(4.361, abs=0.001)
    assert blur_px(lens, hyperfocal(lens)) == pytest.approx(2, rel=0.01)


def test_a_destination_comes_back():
    lat, lon = destination(37.7, -8.77, 205, 1000)
    from vinter.core.sky.glow import bearing_distance

    azimuth, km = bearing_distance(lat, lon, np.array([37.7]), np.array([-8.77]))
    assert km[0] == pytest.approx(1, rel=1e-6) and azimuth[0] == pytest.approx(25, abs=0.02)


def june_night():
    return nights(MILL, date(2027, 6, 5), date(2027, 6, 5))[0]


def test_from_every_stand_the_core_is_over_the_subject_as_wanted():
    """Each solution is checked from its own latitude and longitude: bearing, altitude of the top, and the
    core at that minute."""
    subject = Subject(37.7012, -8.7723, 9.0, 1.0)
    found = stands(MILL, june_night(), subject, Wanted(gap=6.0, eye=1.5, farthest=500), MARLET.lens("main"))
    assert len(found) > 15
    for s in found:
        east = (subject.lon - s.lon) * math.cos(math.radians(subject.lat)) * 111_195
        north = (subject.lat - s.lat) * 111_195
        distance = math.hypot(east, north)
        assert distance == pytest.approx(s.distance, rel=2e-3)
        core_az = float(figures(MILL, s.at.t, CORE).target[0])
        assert (math.degrees(math.atan2(east, north)) - core_az + 180) % 360 - 180 == pytest.approx(
            0, abs=0.3
        )
        assert s.at.altitude - math.degrees(math.atan((9 + 1 - 1.5) / distance)) == pytest.approx(6, abs=0.05)


def test_the_minute_of_the_upright_band_is_among_the_stands():
    """In September the band leans left at dusk and right when the core sets: in between it stands upright,
    once."""
    night = nights(MILL, date(2027, 9, 8), date(2027, 9, 8))[0]
    upright = [
        s
        for s in stands(MILL, night, Subject(37.7012, -8.7723, 6.0), Wanted(gap=3.0), MARLET.lens("main"))
        if s.upright
    ]
    assert len(upright) == 1
    # the band at the core and 3 degrees further along it, by skyfield
    timescale, bodies = eph._kernel()
    when = timescale.from_datetime(datetime.fromtimestamp(upright[0].at.t, UTC))
    observer = (bodies["earth"] + wgs84.latlon(MILL.lat, MILL.lon)).at(when)
    core, ahead = ((266.41683, -29.00781), (268.1490, -26.3644))
    (_, az0, _), (_, az3, _) = (
        observer.observe(Star(ra_hours=ra / 15, dec_degrees=dec)).apparent().altaz()
        for ra, dec in (core, ahead)
    )
    assert az0.degrees == pytest.approx(az3.degrees, abs=0.12)


def test_height_and_size_together_leave_exact_minutes():
    subject, lens = Subject(37.7012, -8.7723, 9.0), MARLET.lens("main")
    found = stands(MILL, june_night(), subject, Wanted(gap=6.0, share=0.2), lens)
    assert 1 <= len(found) <= 2
    fov = 2 * math.degrees(math.atan(lens.height / 2 / lens.focal_px))
    for s in found:
        angle = math.degrees(math.atan(7.5 / s.distance) + math.atan(1.5 / s.distance))
        assert angle / fov == pytest.approx(0.2, abs=1e-6)
        assert s.at.altitude == pytest.approx(math.degrees(math.atan(7.5 / s.distance)) + 6, abs=1e-3)


def test_too_close_is_said_and_nonsense_is_refused():
    near = stands(
        MILL, june_night(), Subject(37.7012, -8.7723, 2.0), Wanted(gap=4.0, nearest=0.5), MARLET.lens("main")
    )
    assert (
        near
        and all(("hyperfocal" in " ".join(s.notes)) == (s.distance < 4.361) for s in near)
        and any(s.notes for s in near)
    )
    assert distance_for_top(Subject(0, 0, 1.0), 1.5, 10) is None  # a subject below eye level never reaches up
    with pytest.raises(BadInput, match="height"):
        Subject(0, 0, -3)
    with pytest.raises(BadInput, match="both"):
        Wanted(gap=None)


def test_a_shot_of_another_target_is_planned_for_its_own_declination():
    orion = target("orion-nebula")
    unix = datetime(2027, 1, 8, 22, tzinfo=UTC).timestamp()
    plan = plan_shot(MILL, unix, MARLET.lens("tele"), what=orion, pose=Pose(175, 45, 2))
    assert plan.pose == Pose(175, 45, 2)
    rate = 15.041 * math.cos(math.radians(-5.4)) / (206.265 * 1.0 / 9.0)
    assert plan.exposure.shutter.drift_px_s == pytest.approx(rate, rel=0.005)
    with pytest.raises(BadInput, match="Large Magellanic Cloud is below"):
        plan_shot(MILL, unix, MARLET.lens("main"), what=target("lmc"))
