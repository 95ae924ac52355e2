"""What a file says of when, where and with what; whether it shows a night sky; and what in it is no star."""

from datetime import UTC, datetime
from zoneinfo import ZoneInfo

import numpy as np
import pytest
from PIL import Image

from vinter.core.frames.facts import time_words
from vinter.core.frames.judging import compare
from vinter.core.frames.measuring import clean, measure
from vinter.core.frames.metadata import Metadata, TimeSource, camera_name
from vinter.core.frames.night import Light, light_of, luminance
from vinter.core.frames.reading import read_frame
from vinter.core.frames.specks import without_specks
from vinter.core.frames.stars import background, find_stars


def unix(text):
    return datetime.fromisoformat(text).replace(tzinfo=UTC).timestamp()


def shot(path, exif=(), gps=(), root=(), pixels=None):
    """A JPEG with EXIF, GPS and root tags by number."""
    image = Image.fromarray(np.full((96, 128, 3), 20, np.uint8) if pixels is None else pixels)
    data = Image.Exif()
    for tag, value in root:
        data[tag] = value
    block = data.get_ifd(34665)
    for tag, value in exif:
        block[tag] = value
    place = data.get_ifd(34853)
    for tag, value in gps:
        place[tag] = value
    image.save(path, exif=data, quality=95)
    return read_frame(path).meta


CLOCK = (36867, "2019:12:24 23:48:46")
STAMP = ((7, (2.0, 48.0, 42.0)), (29, "2019:12:25"))


def test_the_stamp_names_the_zone_and_the_clock_the_second(tmp_path):
    """A phone three hours west of Greenwich that writes no zone; its last fix was four seconds old."""
    meta = shot(tmp_path / "a.jpg", [CLOCK, (37521, "519928")], STAMP)
    assert (
        meta.time == pytest.approx(unix("2019-12-25 02:48:46.519928")) and meta.time_source == TimeSource.GPS
    )
    assert meta.local == pytest.approx(unix("2019-12-24 23:48:46.519928"))


def test_a_stamp_far_from_any_zone_counts_alone(tmp_path):
    meta = shot(tmp_path / "a.jpg", [CLOCK], [(7, (2.0, 39.0, 0.0)), (29, "2019:12:25")])
    assert meta.time == unix("2019-12-25 02:39:00") and meta.time_source == TimeSource.GPS


@pytest.mark.parametrize("tag", [36881, 36882, 36880])
def test_the_zone_that_is_written(tmp_path, tag):
    meta = shot(tmp_path / "a.jpg", [CLOCK, (tag, "+05:45")])
    assert meta.time == unix("2019-12-24 18:03:46") and meta.time_source == TimeSource.WRITTEN


def test_without_any_zone_it_is_known_that_none_is_known(tmp_path):
    meta = shot(tmp_path / "a.jpg", [CLOCK])
    assert meta.time_source == TimeSource.UNKNOWN and meta.time == meta.local
    there = meta.at_home_in(ZoneInfo("America/Sao_Paulo"), TimeSource.SITE)
    assert there.time == unix("2019-12-25 02:48:46") and there.time_source == TimeSource.SITE
    assert shot(tmp_path / "b.jpg", [CLOCK, (36881, "+01:00")]).at_home_in(
        ZoneInfo("Asia/Tokyo"), TimeSource.SITE
    ) == (read_frame(tmp_path / "b.jpg").meta)


def test_direction_lens_and_camera(tmp_path):
    root = [(271, "Marlet\0"), (272, "Marlet 7")]
    meta = shot(tmp_path / "a.jpg", [(42036, "main 5.6 mm"), (41989, 0)], [(16, "M"), (17, 213.5)], root)
    assert (meta.direction, meta.magnetic, meta.lens, meta.f35) == (213.5, True, "main 5.6 mm", None)
    assert meta.camera == "Marlet 7"
    assert (
        camera_name("Marlet Works", "Seven") == "Marlet Works Seven" and camera_name("", "Seven") == "Seven"
    )


@pytest.mark.parametrize(
    ("mu", "exposed", "light"),
    [
        (21.5, (20.0, 3200, 1.8), Light.NIGHT),  # a dark site
        (17.5, (4.0, 800, 1.8), Light.NIGHT),  # the sky over a city, or under a full Moon
        (12.0, (0.5, 400, 1.8), Light.LIT),  # ten minutes after sunset
        (4.0, (1 / 500, 50, 1.8), Light.DAY),  # a blue sky by day
    ],
)
def test_light_is_told_from_exposure(mu, exposed, light):
    """The level follows from the sky's brightness by another road: lux-seconds at the sensor, 78 / ISO to
    fill it."""
    seconds, iso, number = exposed
    candela = 1.08e5 * 10 ** (-0.4 * mu)
    lux_seconds = candela * np.pi / 4 * 0.9 / number**2 * seconds
    level = min(lux_seconds / (78 / iso), 1.0)
    found = luminance(level, seconds, iso, number)
    assert level == 1.0 or 0.4 < found / candela < 2.5
    assert light_of(level, exposed, 4000, 500, 3.0, 0.05) == light


def stars_in(rng, count, size=(600, 800), sigma=1.0):
    """A night picture in 8 bits: noise, and round white stars."""
    picture = rng.normal(24, 2.0, (*size, 3))
    y, x = np.mgrid[: size[0], : size[1]]
    places = rng.uniform(12, np.array(size[::-1]) - 12, (count, 2))
    for px, py in places:
        part = np.s_[int(py) - 9 : int(py) + 10, int(px) - 9 : int(px) + 10]
        shape = np.exp(-((x[part] - px) ** 2 + (y[part] - py) ** 2) / (2 * sigma**2))
        picture[part] += rng.uniform(40, 160) * shape[..., None] * rng.uniform(0.8, 1.0, 3)
    return picture, places


def specks_into(picture, rng, count):
    """Hot pixels of one colour, alone or smeared to their neighbours as by a demosaic, and white ones."""
    places = rng.integers(12, np.array(picture.shape[1::-1]) - 12, (count, 2))
    for i, (px, py) in enumerate(places):
        colours = [i % 3] if i % 4 else [0, 1, 2]
        for c in colours:
            picture[py, px, c] += 120
            if i % 2 and len(colours) == 1:
                for dx, dy in ((1, 0), (-1, 0), (0, 1), (0, -1)):
                    picture[py + dy, px + dx, c] += 60
    return places


def found_in(path):
    _, plane = clean(read_frame(path))
    stars = find_stars(plane, background(plane)).stars
    return np.c_[stars.x, stars.y]


def near(xy, places, reach=3.0):
    return sum(np.hypot(*(places - at).T).min() < reach for at in xy)


@pytest.mark.parametrize("quality", [100, 92])
def test_specks_of_a_finished_picture_are_no_stars(tmp_path, quality):
    rng = np.random.default_rng(3)
    picture, places = stars_in(rng, 150)
    specks_into(picture, rng, 320)
    Image.fromarray(np.clip(picture, 0, 255).astype(np.uint8)).save(
        tmp_path / "a.jpg", quality=quality, subsampling=0
    )
    xy = found_in(tmp_path / "a.jpg")
    real = near(xy, places)
    false = len(xy) - real
    assert real > 0.9 * len(places) and false < 0.05 * len(xy)


def test_a_picture_without_specks_is_left_as_it_is():
    rng = np.random.default_rng(4)
    picture, _ = stars_in(rng, 400, sigma=0.75)
    data = (np.clip(picture, 0, 255).astype(np.uint8).astype(np.uint16)) * 257
    cleaned, count = without_specks(data)
    assert count < 0.1 * 400, count
    assert (cleaned != data).any(axis=2).mean() < 1e-3


def test_of_a_picture_by_day_nothing_is_said_of_stars_or_aeroplanes(tmp_path):
    rng = np.random.default_rng(5)
    leaves = rng.normal(90, 50, (50, 66, 3)).clip(0, 255).astype(np.uint8)
    big = np.asarray(Image.fromarray(leaves).resize((1600, 1200)))
    exif = [CLOCK, (33434, 1 / 378), (34855, 100), (33437, 1.8)]
    shot(tmp_path / "park.jpg", exif, pixels=big)
    m = measure(read_frame(tmp_path / "park.jpg"))
    (judged,) = compare([m])
    assert (m.stars, m.streaks, m.fwhm_px, m.shapes) == (0, 0, 0.0, []) and judged.verdict == "drop"
    assert judged.reasons == ["no night sky in it: daylight"]
    shot(tmp_path / "unknown.jpg", pixels=big)  # a messenger took the settings out
    (judged,) = compare([measure(read_frame(tmp_path / "unknown.jpg"))])
    assert judged.reasons == [Light.NO_STARS.value] and judged.stars == 0


def test_a_night_without_settings_keeps_its_stars(tmp_path):
    picture, _ = stars_in(np.random.default_rng(6), 200, (900, 1200))
    shot(tmp_path / "a.jpg", pixels=np.clip(picture, 0, 255).astype(np.uint8))
    assert measure(read_frame(tmp_path / "a.jpg")).stars > 150
    assert Metadata().camera == ""


def test_what_was_measured_long_ago_keeps_its_time():
    # stored before sources were: the time is right, only what it came from is not known
    old = {"time": 1784148480.0}
    assert time_words(old, "Europe/Lisbon") == "15 Jul 2026, 21:48 (Europe/Lisbon), from the file"
    assert time_words({**old, "local": 1784148480.0, "time_source": ""}, "UTC").endswith("zone not known")
