"""The simulated phone: deterministic, its stars where skyfield puts them, its light as computed."""

import json
from dataclasses import replace

import cv2
import numpy as np
import pytest
import rawpy
import tifffile
from skyfield.api import Star, wgs84

from vinter.core.camera import photons
from vinter.core.camera.phones import phone
from vinter.core.camera.projection import Pose, east_north_up, project, view_of
from vinter.core.frames.measuring import clean, measure
from vinter.core.frames.reading import read_frame
from vinter.core.simulate.capture import Burst
from vinter.core.simulate.passing import passing
from vinter.core.simulate.phone import SimulatedPhone
from vinter.core.simulate.shooting import shoot
from vinter.core.sky import catalogue
from vinter.core.sky import ephemeris as eph
from vinter.core.sky.site import Site
from vinter.core.sky.target_track import sky_at

SITE = Site(lat=37.7, lon=-8.78, tz="Europe/Lisbon", zenith=21.5)
START = 1812589930.0


def burst(**changes):
    return Burst(
        **{
            "site": SITE,
            "lens": phone("marlet-7").lens("main"),
            "start": START,
            "pose": Pose(180, 20),
            "iso": 1600,
            "shutter": 10.0,
            "count": 2,
            **changes,
        }
    )


def middle_of_the_sensor():
    """The lens before a quarter of its sensor: as sharp, and quicker."""
    return replace(phone("marlet-7").lens("main"), width=2016, height=1512)


@pytest.fixture(scope="module")
def shot(tmp_path_factory):
    folder = tmp_path_factory.mktemp("shot")
    return shoot(burst(), folder), json.loads((folder / "truth.json").read_text())


def test_stars_stand_where_skyfield_puts_them():
    from vinter.core.sky.catalogue import star_table

    camera = SimulatedPhone(burst())
    index, x, y, v = camera.stars_at(0)
    vectors, _, _ = star_table()
    _, bodies = eph._kernel()
    t = eph.skyfield_time(np.array([burst().middle(0)]))[0]
    observer = bodies["earth"] + wgs84.latlon(SITE.lat, SITE.lon)
    for i in np.argsort(v)[:10]:
        a, b, c = vectors[int(index[i])]
        star = Star(ra_hours=np.degrees(np.arctan2(b, a)) % 360 / 15, dec_degrees=np.degrees(np.arcsin(c)))
        alt, az, _ = observer.at(t).observe(star).apparent().altaz(temperature_C=10, pressure_mbar=1010)
        px, py, _ = project(camera.view, east_north_up(np.array([alt.degrees]), np.array([az.degrees])))
        assert np.hypot(px[0] - x[i], py[0] - y[i]) < 0.1


def test_the_same_seed_gives_the_same_frame_and_another_does_not(tmp_path):
    one, same, other = (
        shoot(burst(lens=middle_of_the_sensor(), seed=s, count=1), tmp_path / name)[0].read_bytes()
        for name, s in (("one", 1), ("same", 1), ("other", 2))
    )
    assert one == same and one != other


def test_the_file_carries_real_exif_and_opens_in_libraw(shot):
    paths, _ = shot
    with rawpy.imread(str(paths[0])) as raw:
        assert raw.raw_image.shape == (3024, 4032) and raw.white_level == 4095
    with tifffile.TiffFile(paths[0]) as file:
        exif = file.pages[0].tags["ExifTag"].value
    assert exif["ISOSpeedRatings"] == 1600 and exif["ExposureTime"] == (10, 1)
    assert exif["DateTimeOriginal"] == "2027:06:10 02:12:10" and exif["OffsetTimeOriginal"] == "+01:00"
    assert read_frame(paths[0]).meta.time == pytest.approx(START)


def test_background_is_the_light_the_sums_promise(shot):
    """Near the axis the frame's green level must be the electrons of that piece of sky."""
    frame = read_frame(shot[0][0])
    lens = burst().lens
    sky = float(sky_at(SITE, START, 20, 180).parts.brightness[0])
    promised = photons.sky_rate(lens, sky) * 10
    patch = frame.data[1400:1600:2, 1901:2101:2].astype(float) - frame.black[0, 1]
    electrons = np.median(patch) * lens.full_scale(1600) / (frame.white - frame.black[0, 1])
    assert electrons > 0.95 * promised  # the Milky Way stands there too
    assert electrons < 1.9 * promised


def test_noise_is_shot_noise_and_read_noise(shot):
    frame = read_frame(shot[0][0])
    lens = burst().lens
    scale = lens.full_scale(1600) / (frame.white - frame.black[0, 1])
    patch = (frame.data[300:500:2, 3501:3701:2].astype(float) - frame.black[0, 1]) * scale
    variance = (1.4826 * np.median(np.abs(np.diff(patch, axis=1)))) ** 2 / 2
    assert variance == pytest.approx(np.median(patch) + lens.noise_at(1600) ** 2, rel=0.12)


def test_inspection_calls_it_sensor_data_and_a_smoothed_copy_processed(shot):
    frame = read_frame(shot[0][0])
    m = measure(frame)
    assert m.raw == "sensor" and m.verdict == "keep" and m.stars > 500
    smooth = frame.data.copy()
    for y in (0, 1):
        for x in (0, 1):
            smooth[y::2, x::2] = cv2.GaussianBlur(np.ascontiguousarray(smooth[y::2, x::2]), (0, 0), 1.2)
    assert measure(replace(frame, data=smooth)).raw == "processed"


def test_a_focus_error_and_a_long_exposure_show(tmp_path):
    found = []
    for name, changes in (("sharp", {}), ("soft", {"focus_error": 4}), ("long", {"shutter": 40.0})):
        camera = SimulatedPhone(burst(lens=middle_of_the_sensor(), traffic=False, compress=False, **changes))
        (tmp_path / name).mkdir()
        frame = read_frame(camera.write(0, tmp_path / name))
        found.append(measure(frame, clean(frame)))
    assert found[1].fwhm_px > 1.4 * found[0].fwhm_px
    assert found[2].elongation > 1.5 > found[0].elongation and found[2].verdict != "keep"


def test_portrait_turns_the_frame():
    camera = SimulatedPhone(burst(portrait=True))
    assert (camera.view.width, camera.view.height) == (3024, 4032)


def test_low_stars_are_redder_by_what_the_air_takes():
    """A white star's colours, high and low, against the extinction of each colour by hand."""
    lens, site = middle_of_the_sensor(), replace(SITE, extinction=0.3)
    got = {}
    for altitude in (8.0, 60.0):
        camera = SimulatedPhone(burst(lens=lens, site=site, pose=Pose(180, altitude)))
        mosaic = np.zeros((lens.height, lens.width), np.float32)
        direction = east_north_up(np.array([altitude]), np.array([180.0]))
        star = direction @ catalogue.to_horizon(site, camera.burst.middle(0))
        camera.starlight.draw(mosaic, 0, (star, np.array([2.0]), np.array([0.65])))
        red, blue = mosaic[0::2, 0::2].sum(), mosaic[1::2, 1::2].sum()
        got[altitude] = -2.5 * np.log10(blue / red)
    through = 0.3 * (6.85 - 1.154)  # airmasses of rays at 8 and 60 degrees, Kasten and Young 1989
    assert got[8.0] - got[60.0] == pytest.approx((1.45 - 0.80) * through, rel=0.03)


def test_satellites_are_seen_in_dusk_and_not_in_a_winters_midnight():
    winter = replace(burst(count=200), start=1799193600.0)  # 6 January 2027
    hours = {}
    for hour in (19, 24):
        one = replace(winter, start=1799193600.0 + hour * 3600 - 200 * 5.5)
        view = SimulatedPhone(one).view
        hours[hour] = sum(
            any(not s.blinking and not s.swelling for s in passing(one, view, i)) for i in range(200)
        )
    assert hours[24] == 0 and 10 < hours[19] < 45


def test_a_bright_star_has_the_wings_of_a_lens():
    """About Antares: as much light at every distance as the stated point spread, 95 % in a core and 5 % in
    wings that fall as (1 + r^2 / 16 px^2)^-1.5, and over all what the star sends."""
    from vinter.core.sky.catalogue import star_table

    lens = phone("marlet-7").lens("main")
    antares = int(np.argmin(np.abs(star_table()[1] - 1.06) + 9 * (star_table()[0][:, 2] > -0.4)))
    enu = star_table()[0][antares] @ catalogue.to_horizon(SITE, START).T
    azimuth, altitude = np.degrees(np.arctan2(enu[0], enu[1])) % 360, np.degrees(np.arcsin(enu[2]))
    one = burst(lens=lens, pose=Pose(azimuth, altitude), shutter=1.0, traffic=False)
    whole = view_of(lens, one.pose)
    part = whole.part(whole.width // 2 - 200, whole.height // 2 - 200, 400, 400)
    camera, empty = SimulatedPhone(one, part), SimulatedPhone(one, part)
    index, x, y, v = camera.stars_at(0)
    at = int(np.flatnonzero(index == antares)[0])
    empty.starlight.draw = lambda *_, **__: None
    green = (camera.electrons(0) - empty.electrons(0)) / camera.vignetting
    rows, columns = np.mgrid[: green.shape[0], : green.shape[1]]
    away = np.hypot(columns - x[at], rows - y[at])
    is_green = (rows + columns) % 2 == 1
    flux = photons.star_rate(lens, 0.0) * 10 ** (-0.4 * v[at])
    for r in (7.0, 10.0, 14.0):
        ring = is_green & (np.abs(away - r) < 1)
        wanted = 0.05 * flux / (2 * np.pi * 16) * (1 + r * r / 16) ** -1.5
        assert np.median(green[ring]) == pytest.approx(wanted, rel=0.15), r
    near = is_green & (away < 30)
    assert 2 * green[near].sum() == pytest.approx(flux, rel=0.04)
    assert 2 * green[is_green & (away < 4.2)].sum() / flux == pytest.approx(
        0.95 + 0.05 * (1 - 0.69), abs=0.03
    )


def test_stars_are_as_wide_at_any_magnitude():
    """Widths by moments of stars of V 2 to 6, none of them cut: those of the stated core."""
    lens = replace(phone("marlet-7").lens("main"), width=2016, height=1512)
    camera = SimulatedPhone(burst(lens=lens, shutter=0.5, traffic=False), sharpest=2.5)
    _, x, y, v = camera.stars_at(0)
    plane = camera.electrons(0)
    green = (plane[0::2, 1::2] + plane[1::2, 0::2]) / 2
    found = {}
    for low in (2, 3, 4, 5):
        widths = []
        for i in np.flatnonzero((v >= low) & (v < low + 1)):
            alone = np.hypot(x - x[i], y - y[i])[np.arange(len(x)) != i].min() > 24
            c, r = round((x[i] - 0.5) / 2), round((y[i] - 0.5) / 2)
            if not alone or not (9 < c < green.shape[1] - 9 and 9 < r < green.shape[0] - 9):
                continue
            part = green[r - 8 : r + 9, c - 8 : c + 9].astype(float)
            # the stated core: 2.5 px, a tenth more in the corner, and the bent surface that is sharp
            off2 = np.hypot(x[i] - camera.view.centre[0], y[i] - camera.view.centre[1]) ** 2
            off2 /= camera.view.corner_px**2
            stated = 2.5 * np.hypot(1 + 0.1 * off2, 0.55 / 1.15 * 0.7 * (off2 - 1 / 3))
            widths.append(2 * adaptive_width(part - np.median(part)) / stated)
        if len(widths) >= 3:
            found[low] = np.median(widths)
    assert len(found) >= 3
    assert all(w == pytest.approx(1.0, abs=0.03) for w in found.values()), found


def adaptive_width(part):
    """Standard deviation of a star by moments under a Gaussian of its own width, matched by repetition."""
    rows, columns = np.mgrid[: part.shape[0], : part.shape[1]]
    cx, cy, s2 = part.shape[1] / 2 - 0.5, part.shape[0] / 2 - 0.5, 1.0
    for _ in range(60):
        weight = part * np.exp(-((columns - cx) ** 2 + (rows - cy) ** 2) / (2 * s2))
        cx, cy = (weight * columns).sum() / weight.sum(), (weight * rows).sum() / weight.sum()
        # under a window as wide as itself a Gaussian shows half its variance, in each of two directions
        s2 = float((((columns - cx) ** 2 + (rows - cy) ** 2) * weight).sum() / weight.sum())
    return np.sqrt(s2)


@pytest.mark.parametrize("lens", ["main", "ultra-wide"])
def test_a_pixel_off_the_axis_sees_as_much_less_sky_as_its_edges_enclose(lens):
    """A small square in front of the lens, brought into the picture: its solid angle over its area there,
    against that of one on the axis."""
    view = view_of(phone("marlet-7").lens(lens), Pose(180, 20))
    seen = SimulatedPhone(burst(lens=phone("marlet-7").lens(lens))).starlight._sky_seen
    half = 1.7 if lens == "ultra-wide" else 0.85

    def area(across, down, step=1e-4):
        rays = np.array([[across + dx, down + dy, 1.0] for dx, dy in ((0, 0), (step, 0), (0, step))])
        rays /= np.linalg.norm(rays, axis=1, keepdims=True)
        angle = np.linalg.norm(np.cross(rays[1] - rays[0], rays[2] - rays[0]))
        xy = np.stack(project(view, rays @ view.axes)[:2], axis=1)
        one, other = xy[1] - xy[0], xy[2] - xy[0]
        return angle / abs(one[0] * other[1] - one[1] * other[0]), rays[0] @ view.axes

    middle, _ = area(0, 0)
    for share in (0.3, 0.6, 0.9):
        here, direction = area(share * half * 0.8, share * half * 0.6)
        assert seen(direction[None])[0] == pytest.approx(here / middle, rel=2e-3)
