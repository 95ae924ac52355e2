"""Modes and station passes: sums worked by hand, passes against skyfield's own search."""

import json
import math
from dataclasses import replace
from datetime import UTC, date, datetime

import numpy as np
import pytest
from skyfield.api import wgs84

from vinter.core.camera.phones import phone
from vinter.core.camera.photons import sky_rate
from vinter.core.errors import BadInput
from vinter.core.modes.basis import Basis
from vinter.core.modes.bodies import moon_factor
from vinter.core.modes.registry import MODES, plan_mode
from vinter.core.shot import plan_shot
from vinter.core.sky import ephemeris as eph
from vinter.core.sky.nights import nights
from vinter.core.sky.satellites import made_up, passes, read_elements
from vinter.core.sky.site import Site

MILL = Site(lat=37.702, lon=-8.772, tz="Europe/Lisbon", zenith=21.5)
WHEN = 1812588300.0
TLE = """MADE UP
1 99901U 20999A   27160.50000000  .00010000  00000+0  10000-3 0  9992
2 99901  51.6400 120.0000 0004000  90.0000  10.0000 15.49000000    13
"""


def basis(lens="main", use="screen"):
    glass = phone("marlet-7").lens(lens)
    plan = plan_shot(MILL, WHEN, glass, use=use)
    return Basis(
        site=MILL,
        unix=WHEN,
        lens=glass,
        portrait=plan.portrait,
        pose=plan.pose,
        at=plan.at,
        exposure=plan.exposure,
        use=use,
    )


def figure(plan, label):
    return next(value for name, value in plan.figures if name == label)


def test_every_mode_plans_or_says_why_not():
    for key in MODES:
        if key == "station":
            continue
        if key == "moon":
            with pytest.raises(BadInput, match="Moon is below"):
                plan_mode(key, basis(), {})
            continue
        plan = plan_mode(key, basis(), {})
        assert plan.shutter > 0 and plan.frames >= 1 and plan.figures and plan.reasons, key
    with pytest.raises(BadInput, match="not within"):
        plan_mode("trails", basis(), {"hours": "99"})
    with pytest.raises(BadInput, match="not a number"):
        plan_mode("trails", basis(), {"hours": "many"})


def test_trails_hold_or_break_by_half_a_star():
    b = basis()
    worst = b.exposure.shutter.worst_px_s
    short, long = (plan_mode("trails", b, {"gap": str(gap), "hours": "2"}) for gap in (1, 1.35 / worst + 0.5))
    assert "no dashes" in figure(short, "Gap in the worst corner") and "no dashes" not in figure(
        long, "Gap in the worst corner"
    )
    assert figure(short, "Arc") == "30°" and short.frames == math.ceil(7200 / 31)


def test_time_lapse_seconds():
    plan = plan_mode("timelapse", basis(), {"hours": "1.5", "interval": "15", "fps": "24"})
    assert (
        plan.frames == 360 and figure(plan, "Clip").startswith("15 s") and figure(plan, "Sped up") == "360 ×"
    )


def test_lamp_seconds_go_with_the_square_of_the_distance():
    near, far = (
        float(figure(plan_mode("lamp", basis(), {"distance": d}), "Light on").split()[0]) for d in ("5", "10")
    )
    assert far == pytest.approx(4 * near, rel=0.08)
    # 3 lm in a cone of 60 deg: 3.564 cd; at 8 m on 20 % reflectance 0.003545 cd/m^2; 12.5 x 1.8^2 / (0.003545
    # x 1600) / 2.83
    assert float(figure(plan_mode("lamp", basis(), {}), "Light on").split()[0]) == pytest.approx(
        2.52, rel=0.03
    )


def test_a_near_subject_needs_its_own_focus():
    near, far = (
        plan_mode("focus-pair", basis(), {"distance": "1"}),
        plan_mode("focus-pair", basis(), {"distance": "9"}),
    )
    assert near.steps and not far.steps and near.frames == far.frames + 1
    assert figure(near, "Hyperfocal distance") == "4.4 m"


def test_the_moon_is_sunlit_rock():
    unix = datetime(2027, 6, 19, 1, tzinfo=UTC).timestamp()  # full Moon on the 19th
    glass = phone("marlet-7").lens("tele")
    plan = plan_shot(MILL, unix, glass)
    found = plan_mode(
        "moon",
        Basis(
            site=MILL,
            unix=unix,
            lens=glass,
            portrait=False,
            pose=plan.pose,
            at=plan.at,
            exposure=plan.exposure,
        ),
        {},
    )
    # f/11 and 1/ISO at full Moon: at f/2.4 and ISO 50 1/1050 s, longer by the air it shines through
    assert 1 / 1050 < found.shutter < 1 / 350
    assert moon_factor(0) == 1 and moon_factor(90) == pytest.approx(
        10 ** (-0.4 * (2.34 + 4e-9 * 90**4)) / 0.5, rel=1e-6
    )


def test_tracked_frames_are_longer_and_heavy_phones_are_refused():
    b = basis()
    plan = plan_mode("tracked", b, {"mass": "2000"})
    assert plan.shutter == 60 and "carries 1000 g" in plan.cautions[0]
    # four times the exposure leaves the sky below an eighth of full scale, and twice the ISO would not
    electrons = sky_rate(b.lens, b.at.brightness) * 60
    assert electrons / b.lens.full_scale(plan.iso) <= 0.12
    bright = replace(b, at=replace(b.at, brightness=17.5))
    dimmed = plan_mode("tracked", bright, {})
    electrons = sky_rate(b.lens, 17.5) * 60
    assert dimmed.iso < b.exposure.iso.chosen and electrons / b.lens.full_scale(dimmed.iso) <= 0.12
    assert electrons / b.lens.full_scale(2 * dimmed.iso) > 0.12


def test_passes_are_those_that_skyfield_finds():
    (satellite,) = read_elements(TLE.encode(), "own.tle")
    day = date(2027, 6, 9)
    night = nights(MILL, day, day)[0]
    found = passes(MILL, [satellite], night.start, night.end)
    timescale, bodies = eph._kernel()
    t0, t1 = (timescale.from_datetime(datetime.fromtimestamp(u, UTC)) for u in (night.start, night.end))
    place = wgs84.latlon(MILL.lat, MILL.lon)
    times, events = satellite.find_events(place, t0, t1, altitude_degrees=10.0)
    tops = [t for t, e in zip(times, events, strict=True) if e == 1]
    dark = [
        t
        for t in tops
        if eph.horizontal(
            *[
                f(np.array([t.utc_datetime().timestamp()]))
                for f in (eph.year_ephemeris(2027).sun, eph.year_ephemeris(2027).gast)
            ],
            MILL,
        )[0][0]
        < -6
    ]
    lit = [t for t in dark if satellite.at(t).is_sunlit(bodies)]
    assert found
    for p in found:
        if not p.enters_shadow and p.path[0][1] < 12 and p.path[-1][1] < 12:  # seen whole
            nearest = min(abs(t.utc_datetime().timestamp() - p.top) for t in tops)
            assert nearest <= 10
    whole = [t for t in lit if any(p.start <= t.utc_datetime().timestamp() <= p.end for p in found)]
    assert len(whole) == len(lit)


def test_elements_are_read_in_every_form_and_checked():
    ours = read_elements(made_up(date(2027, 6, 9)), "made-up.json")
    assert ours[0].name == "Made-up station"
    row = json.loads(made_up(date(2027, 6, 9)))[0]
    table = ",".join(row) + "\n" + ",".join(str(v) for v in row.values()) + "\n"
    again = read_elements(table.encode(), "made-up.csv")
    t = eph.skyfield_time(np.array([WHEN]))
    assert np.allclose(ours[0].at(t).position.km, again[0].at(t).position.km)
    with pytest.raises(BadInput, match="checksum"):
        read_elements(TLE.replace("51.6400", "51.6500").encode(), "own.tle")
    for data, message in (
        (b"hello", "no orbital"),
        (b"[{}]", "lack"),
        (b"\xff", "text file"),
        (TLE.encode()[:90], "second line"),
    ):
        with pytest.raises(BadInput, match=message):
            read_elements(data, "own.tle")
