"""How a picture was taken, in the files that leave: read by libraries that know nothing of ours."""

import io
import json
from dataclasses import fields, replace
from datetime import UTC, datetime

import numpy as np
import pytest
import tifffile
from PIL import Image, ImageCms

from vinter.core.finish.canvas import Canvas
from vinter.core.finish.export import EXPORT_KINDS, Output, expected_bytes, export, sized
from vinter.core.finish.moves.light_balance import Light, LightBalance
from vinter.core.finish.recipe import parse_recipe, recipe_of
from vinter.core.formats.exif import Taken, exif_bytes, taken_from
from vinter.core.formats.icc import DISPLAY_P3
from vinter.core.formats.pictures import PictureInfo
from vinter.core.frames.measure import Measure
from vinter.core.stack.file import About, read_about, write_stack

# what the clock shows, an hour ahead of Greenwich
LOCAL = datetime(2027, 6, 10, 1, 38, 50, 250_000, tzinfo=UTC).timestamp()
TAKEN = Taken(
    make="Marlet",
    model="Marlet 7",
    lens="Marlet 7 main",
    iso=1600,
    exposure_s=1 / 30,
    aperture=1.8,
    focal_mm=5.6,
    f35=24.0,
    time=LOCAL - 3600,
    local=LOCAL,
    zoned=True,
    place=(37.702, -8.772),
)
RECIPE = recipe_of(LightBalance(sky=Light(brightness=1.5)))
KINDS = ("jpg", "heic", "avif", "png", "tif", "linear.tif")


@pytest.fixture(scope="module")
def stack(tmp_path_factory):
    """A smooth sky with some grain, as a stack's file that says how it was taken."""
    rng = np.random.default_rng(5)
    y, x = np.mgrid[:300, :400] / 400
    rgb = np.stack([0.02 + 0.02 * x, 0.02 + 0.01 * y, 0.03 - 0.02 * x], axis=-1)
    path = tmp_path_factory.mktemp("exif") / "s.tif"
    write_stack(
        path, (rgb + rng.normal(0, 1e-4, rgb.shape)).astype(np.float32), None, About(frames=24, taken=TAKEN)
    )
    return path


def tags_of(path):
    """Tags of a picture by number, and those of its blocks of exposure and place."""
    if path.suffix == ".tif":
        with tifffile.TiffFile(path) as file:
            tags = {tag.code: tag.value for tag in file.pages[0].tags}
        numbers = {name: code for code, name in tifffile.TIFF.EXIF_TAGS.items()}
        places = {name: code for code, name in tifffile.TIFF.GPS_TAGS.items()}
        return (
            tags,
            {numbers[k]: v[0] / v[1] if isinstance(v, tuple) else v for k, v in tags[34665].items()},
            {places[k]: v for k, v in tags.get(34853, {}).items()},
        )
    with Image.open(path) as image:
        exif = image.getexif()
        return dict(exif), dict(exif.get_ifd(34665)), dict(exif.get_ifd(34853))


@pytest.mark.parametrize("kind", KINDS)
def test_camera_exposure_and_time_are_in_every_kind(stack, tmp_path, kind):
    out = tmp_path / f"o.{kind}"
    export(stack, RECIPE, out, info=PictureInfo("Mill", "Mill, 24 frames"))
    first, block, place = tags_of(out)
    assert (first[271], first[272], block[42036]) == ("Marlet", "Marlet 7", "Marlet 7 main")
    assert float(block[33434]) == pytest.approx(1 / 30) and float(block[33437]) == pytest.approx(1.8)
    assert (block[34855], block[41989]) == (1600, 24) and float(block[37386]) == pytest.approx(5.6)
    assert block[36867] == "2027:06:10 01:38:50"
    assert (block[36881], block[37521]) == ("+01:00", "250")
    assert not place


@pytest.mark.parametrize("kind", KINDS)
def test_the_place_is_there_only_when_it_is_wished(stack, tmp_path, kind):
    out = tmp_path / f"o.{kind}"
    export(stack, RECIPE, out, Output(place=True))
    _, _, place = tags_of(out)
    assert place[1] + place[3] == "NW"
    found = []
    for values in (place[2], place[4]):
        if len(values) == 6:  # numerators and denominators
            values = [a / b for a, b in zip(values[::2], values[1::2], strict=True)]
        found.append(sum(float(v) / 60**i for i, v in enumerate(values)))
    assert found == pytest.approx([37.702, 8.772], abs=1e-5)


def test_a_zone_that_is_not_known_is_not_made_up():
    unknown = replace(TAKEN, zoned=False)
    with_zone, without = (Image.Exif(), Image.Exif())
    with_zone.load(exif_bytes(TAKEN))
    without.load(exif_bytes(unknown))
    assert with_zone.get_ifd(34665)[36881] == "+01:00"
    assert 36881 not in without.get_ifd(34665)
    assert without.get_ifd(34665)[36867] == "2027:06:10 01:38:50"


@pytest.mark.parametrize(
    ("ahead", "said"),
    [
        (19800, "+05:30"),
        (-12600, "-03:30"),
        (0, "+00:00"),
        (3607, "+01:00"),
        (50400, "+14:00"),
        (4321, "+00:00"),
    ],
)
def test_zones_are_whole_quarters_of_an_hour(ahead, said):
    exif = Image.Exif()
    exif.load(exif_bytes(replace(TAKEN, local=TAKEN.time + ahead)))
    assert exif.get_ifd(34665)[36881] == said


@pytest.mark.parametrize(
    ("seconds", "said"), [(1 / 8000, (1, 8000)), (0.4, (2, 5)), (10.0, (10, 1)), (3.2, (16, 5))]
)
def test_exposures_read_as_photographers_write_them(seconds, said):
    exif = Image.Exif()
    exif.load(exif_bytes(replace(TAKEN, exposure_s=seconds)))
    found = exif.get_ifd(34665)[33434]
    assert (found.numerator, found.denominator) == said


def test_a_stack_carries_how_it_was_taken_and_a_strange_one_says_nothing(stack):
    assert read_about(stack).taken == TAKEN
    assert taken_from("no data") == Taken() == taken_from({})
    assert taken_from(json.loads(json.dumps(TAKEN.data()))) == TAKEN


def test_what_somebody_knows_wins_over_the_file_and_the_rest_stays():
    better = Taken(iso=800, time=LOCAL, local=LOCAL)
    found = better.completed(TAKEN)
    assert (found.iso, found.time, found.zoned, found.model) == (800, LOCAL, False, "Marlet 7")
    assert Taken(iso=800).completed(TAKEN) == replace(TAKEN, iso=800)


def test_a_measure_of_a_file_without_a_zone_is_not_zoned():
    nothing = {f.name: "" if f.type == "str" else None for f in fields(Measure)}
    kept = nothing | {"time": 1e9, "local": 1e9, "time_source": ""}
    assert not Measure(**kept).taken.zoned
    assert Measure(**kept | {"time_source": "the GPS stamp"}).taken.zoned


def test_the_recipe_goes_with_the_picture(stack, tmp_path):
    export(stack, RECIPE, tmp_path / "o.jpg", info=PictureInfo("A < B & C"))
    told = Image.open(tmp_path / "o.jpg").getxmp()["xmpmeta"]["RDF"]["Description"]
    assert parse_recipe(told["recipe"].encode()) == RECIPE
    assert told["title"]["Alt"]["li"]["text"] == "A < B & C"


def test_linear_light_in_display_p3_is_the_same_light(stack, tmp_path):
    seen = {}
    for space in ("srgb", DISPLAY_P3):
        out = tmp_path / f"{space}.linear.tif"
        export(stack, RECIPE, out, Output(space=space))
        with tifffile.TiffFile(out) as file:
            profile = ImageCms.ImageCmsProfile(io.BytesIO(file.pages[0].tags["InterColorProfile"].value))
            seen[space] = (file.asarray(), ImageCms.getProfileDescription(profile).strip())
    assert seen["srgb"][1] == "sRGB, linear" and seen[DISPLAY_P3][1] == "Display P3, linear"
    matrix = np.array([[0.82246, 0.17754, 0.0], [0.03319, 0.96681, 0.0], [0.01708, 0.07240, 0.91052]])
    assert np.abs(seen[DISPLAY_P3][0] - seen["srgb"][0] @ matrix.T).max() < 1e-4


def test_a_picture_is_enlarged_only_on_request():
    y, x = np.mgrid[:60, :80] / 80
    canvas = Canvas(
        rgb=np.stack([x, y, x], axis=-1).astype(np.float32),
        sky=np.ones((60, 80), np.float32),
        to_shares=np.diag([1 / 80, 1 / 60, 1]),
        background=np.zeros(3),
    )
    assert sized(canvas, 200).sky.shape == (60, 80)
    large = sized(canvas, 200, enlarge=True)
    assert large.sky.shape == (150, 200) and large.rgb.shape == (150, 200, 3)
    wanted = (np.arange(200) + 0.5) / 200 - 0.5 / 80
    assert np.abs(large.rgb[75, 10:-10, 0] - wanted[10:-10]).max() < 0.003
    assert (large.to_shares @ [199, 149, 1])[:2] == pytest.approx([79.3 / 80, 59.3 / 60], abs=1e-6)
    assert sized(canvas, 8000, enlarge=True).sky.shape[1] == 320  # four times, no more


@pytest.mark.parametrize("kind", ["jpg", "heic", "avif", "png"])
def test_the_size_said_before_is_the_size_that_comes(kind):
    rng = np.random.default_rng(3)
    rgb = np.clip(0.2 + rng.normal(0, 0.02, (700, 1000, 3)), 0, 1).astype(np.float32)
    whole = Canvas(
        rgb=rgb, sky=np.ones(rgb.shape[:2], np.float32), to_shares=np.eye(3), background=np.zeros(3)
    )
    parts = [replace(whole, rgb=rgb[a : a + 256, :256], sky=whole.sky[:256, :256]) for a in (0, 400)]
    found = expected_bytes(parts, 700_000, EXPORT_KINDS[kind], EXPORT_KINDS[kind].quality or 100)
    real = expected_bytes([whole], 700_000, EXPORT_KINDS[kind], EXPORT_KINDS[kind].quality or 100)
    assert found == pytest.approx(real, rel=0.08)


def test_usual_quality_is_close_to_the_picture_and_less_is_smaller(stack, tmp_path):
    export(stack, RECIPE, tmp_path / "o.tif")
    wanted = tifffile.imread(tmp_path / "o.tif") / 257
    sizes = []
    for quality in (None, 80):
        out = tmp_path / f"{quality}.jpg"
        export(stack, RECIPE, out, Output(quality=quality))
        off = np.abs(np.asarray(Image.open(out), float) - wanted)
        assert off.mean() < (2.0 if quality is None else 4.0)
        sizes.append(out.stat().st_size)
    assert sizes[1] < 0.6 * sizes[0]
