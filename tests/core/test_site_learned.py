"""What frames tell of a site beside its sky: the air, and lamps in the ground with their bearings."""

from datetime import date

import numpy as np
import pytest

from vinter.core.sky.catalogue import to_horizon
from vinter.core.sky.learned_air import learned_air
from vinter.core.sky.site import Site
from vinter.core.sky.site_sky import SkyReading, zenith_source
from vinter.core.stack.foreground.stray_lights import stray_lights
from vinter.core.stack.plate_solve import Solution

SITE = Site(lat=37.7, lon=-8.7, tz="Europe/Lisbon")
T = 1812578400.0


def seen(true, fit, rng):
    """An extinction as a fit that leans on 0.22 +- 0.08 gives it, and its stated error."""
    own = true + rng.normal(0, fit)
    precision = 1 / fit**2 + 1 / 0.08**2
    return (own / fit**2 + 0.22 / 0.08**2) / precision, float(np.hypot(precision**-0.5, 0.03))


@pytest.mark.parametrize("true", [0.17, 0.3, 0.4])
def test_the_air_of_several_nights_is_their_own_without_what_each_fit_leaned_on(true):
    rng = np.random.default_rng(5)
    off, stated = [], []
    for _ in range(120):
        nights = [seen(true + rng.normal(0, 0.04), 0.05, rng) for _ in range(5)]
        found = learned_air(nights, before=0.9)
        assert found is not None and found.nights == 5
        off.append(found.value - true)
        stated.append(found.error)
    assert abs(np.mean(off)) < 0.01  # leaning fits by themselves are 0.03 off at 0.4
    assert np.std(off) == pytest.approx(np.mean(stated), rel=0.35)


def test_air_that_no_night_could_tell_is_not_learned():
    rng = np.random.default_rng(6)
    assert learned_air([], before=0.25) is None
    assert learned_air([(0.22, 0.085)] * 30, before=0.3) is None  # each is what it leaned on
    assert learned_air([seen(0.3, 0.05, rng)], before=0.25) is None  # one night is too little
    near = [seen(0.26, 0.02, rng) for _ in range(6)]
    assert learned_air(near, before=0.25) is None  # no change worth the words


def camera(facing, up, width=1200, height=900, focal=900.0):
    """A field of a camera that looks at an azimuth and height, level."""
    az, alt = np.radians([facing, up])
    forward = np.array([np.sin(az) * np.cos(alt), np.cos(az) * np.cos(alt), np.sin(alt)])
    right = np.array([np.cos(az), -np.sin(az), 0.0])
    turn = to_horizon(SITE, T)  # ICRS to east, north, up
    rotation = np.stack([right, np.cross(forward, right), forward]) @ turn
    zenith = turn.T @ np.array([0.0, 0.0, 1.0])
    return Solution(
        rotation=rotation.tolist(),
        focal_px=focal,
        k1=0.0,
        width=width,
        height=height,
        matched=100,
        rms_px=0.3,
        centre=(0.0, 0.0),
        scale_arcsec=206265 / focal,
        constellations=[],
        targets=[],
        zenith=tuple(zenith),
    )


def picture_with(field, lamps, level=0.02):
    """Sky over dark ground up to the horizon, with shining discs of 5 px at azimuths and heights."""
    h, w = field.height, field.width
    rng = np.random.default_rng(1)
    y, x = np.mgrid[:h, :w]
    xy = np.c_[x.ravel(), y.ravel()].astype(float)
    sky = (field.altitudes(xy) > 3.0).reshape(h, w).astype(np.float32)
    rgb = np.repeat((level * (0.1 + 0.9 * sky))[..., None], 3, axis=2).astype(np.float32)
    rgb += rng.normal(0, 0.001, rgb.shape).astype(np.float32)
    turn = to_horizon(SITE, T)
    for az, alt in lamps:
        a, b = np.radians([az, alt])
        enu = np.array([[np.sin(a) * np.cos(b), np.cos(a) * np.cos(b), np.sin(b)]])
        px, py, _ = field.places(enu @ turn)
        rgb[np.hypot(x - px[0], y - py[0]) < 5] = (0.9, 0.7, 0.4)
    return rgb, sky


def test_lamps_in_the_ground_have_their_bearings():
    field = camera(190.0, 12.0)
    rgb, sky = picture_with(field, [(175.0, 1.0), (214.0, -2.0)])
    rgb[100:110, 600:610] = 1.0  # something bright in the sky is no lamp of the ground
    found = stray_lights(rgb, sky, field, SITE, T)
    assert sorted(s.azimuth for s in found) == pytest.approx([175.0, 214.0], abs=0.3)
    assert all(
        abs(s.altitude - want) < 0.7
        for s, want in zip(sorted(found, key=lambda s: s.azimuth), (1, -2), strict=True)
    )


def test_ground_that_is_lit_does_not_shine_and_no_ground_has_no_lamp():
    field = camera(190.0, 12.0)
    rgb, sky = picture_with(field, [])
    lit = rgb.copy()
    lit[sky < 0.5] = 0.2  # ten times the sky, under half of full light
    assert stray_lights(lit, sky, field, SITE, T) == []
    assert stray_lights(rgb, np.ones_like(sky), field, SITE, T) == []


def test_windows_of_one_house_are_one_lamp():
    field = camera(190.0, 12.0)
    rgb, sky = picture_with(field, [(180.0, 0.0), (181.5, 0.0), (183.0, 0.5), (205.0, 0.0)])
    assert len(stray_lights(rgb, sky, field, SITE, T)) == 2


@pytest.mark.parametrize(
    ("sky_class", "half"), [(1, 0.12), (3, 0.15), (4, 0.25), (5, 0.25), (6, 0.525), (7, 0.375), (9, 0.5)]
)
def test_a_class_shows_half_its_width(sky_class, half):
    """By the conventional limits: 21.76 21.6 21.3 20.8 20.3 19.25 18.5 18.0; the ends are 22 and 17."""
    found = zenith_source([], None, sky_class)
    assert found.error == pytest.approx(half, abs=0.006)
    assert zenith_source([], 19.8, sky_class).error == 0.1  # a value wins, with a reading's error


def test_the_error_of_a_class_travels_to_every_sky_above_the_site():
    from vinter.core.sky.target_track import sky_at

    unix = 1812588300.0
    spread = {}
    for error in (None, 0.525):
        site = Site(lat=37.7, lon=-8.8, tz="Europe/Lisbon", zenith=19.8, zenith_error=error)
        spread[error] = float(sky_at(site, unix, 80.0, 180.0).parts.uncertainty[0])
    assert spread[None] == pytest.approx(0.1, abs=0.03) and spread[0.525] == pytest.approx(0.525, abs=0.06)


def test_three_readings_count_by_their_median_however_the_newest_is():
    meter = [
        SkyReading(date(2026, month, 9), zenith) for month, zenith in ((6, 21.46), (8, 21.52), (9, 20.9))
    ]
    found = zenith_source(meter, None, None)
    assert found.zenith == 21.46 and found.day == date(2026, 9, 9)
