"""How finished pictures leave: kinds, colour spaces, prints, names over them; opened by other programs."""

import io
import json

import cv2
import numpy as np
import pytest
import tifffile
from PIL import Image, ImageCms

from vinter.core.errors import BadInput
from vinter.core.finish.canvas import fresh
from vinter.core.finish.destinations import DESTINATIONS, for_destination, print_width
from vinter.core.finish.export import Output, export, kind_of, sharpened, sized
from vinter.core.finish.moves.curve import BRIGHTEST, Contrast, Curve
from vinter.core.finish.moves.light_balance import Light, LightBalance
from vinter.core.finish.overlay import scale_of
from vinter.core.finish.recipe import recipe_of
from vinter.core.finish.render import Renderer
from vinter.core.finish.scene import prepare
from vinter.core.formats.exif import Taken
from vinter.core.formats.icc import COLOUR_SPACES, DISPLAY_P3, in_space, profile
from vinter.core.formats.pictures import PictureInfo
from vinter.core.sky import galaxy
from vinter.core.stack.file import keep_solved, read_stack
from vinter.core.stack.plate_solve import Solution

TAKEN = Taken(make="Marlet", model="Marlet 7", time=1812589930.0, iso=1600, exposure_s=10.0)
INFO = PictureInfo("Tide mill", "Mill, 24 × 10 s", TAKEN)
RECIPE = recipe_of(LightBalance(sky=Light(brightness=1.5)), Curve(sky=Contrast(contrast=1.4)))


@pytest.fixture
def stack(tmp_path):
    """A smooth coloured sky with a few bright places, as a stack's file."""
    rng = np.random.default_rng(5)
    y, x = np.mgrid[:300, :400] / 400
    rgb = np.stack([0.02 + 0.02 * x, 0.02 + 0.01 * y, 0.03 - 0.02 * x], axis=-1)
    rgb[rng.integers(20, 280, 40), rng.integers(20, 380, 40)] += 0.5
    rgb += rng.normal(0, 2e-4, rgb.shape)
    path = tmp_path / "s.tif"
    data = {"neutral": [1, 1, 1], "matrix": [[1, 0, 0], [0, 1, 0], [0, 0, 1]]}
    tifffile.imwrite(path, rgb.astype(np.float32), photometric="rgb", description=json.dumps(data))
    return path


def test_a_profile_of_ours_is_understood_by_another_program():
    """A colour management that knows nothing of ours brings P3 numbers back to the sRGB ones they came
    from."""
    colours = np.random.default_rng(1).integers(0, 256, (64, 64, 3)).astype(np.uint8)
    wide = np.clip(in_space(np.asarray(colours / 255, np.float32), DISPLAY_P3), 0, 1)
    image = Image.fromarray(np.asarray(wide * 255 + 0.5, np.uint8))
    back = ImageCms.profileToProfile(
        image,
        io.BytesIO(profile(DISPLAY_P3)),
        ImageCms.createProfile("sRGB"),
        renderingIntent=ImageCms.Intent.RELATIVE_COLORIMETRIC,
        outputMode="RGB",
    )
    off = np.abs(np.asarray(back).astype(int) - colours.astype(int))
    assert np.percentile(off, 99) <= 3 and np.median(off) <= 1
    named = ImageCms.getProfileDescription(ImageCms.ImageCmsProfile(io.BytesIO(profile(DISPLAY_P3))))
    assert named.strip() == COLOUR_SPACES[DISPLAY_P3]
    assert profile(DISPLAY_P3) == profile(DISPLAY_P3) and len(profile(DISPLAY_P3)) % 4 == 0


def test_colours_beyond_srgb_fit_into_display_p3():
    """The pure green of P3 has a negative red in sRGB: kept until it is written, it is 0, 1, 0 there."""
    linear = np.linalg.solve(
        np.array([[0.82246, 0.17754, 0.0], [0.03319, 0.96681, 0.0], [0.01708, 0.07240, 0.91052]]),
        np.array([0.0, 1.0, 0.0]),
    )
    encoded = np.sign(linear) * (1.055 * np.abs(linear) ** (1 / 2.4) - 0.055)
    out = in_space(np.asarray(encoded, np.float32).reshape(1, 1, 3), DISPLAY_P3)[0, 0]
    assert out == pytest.approx([0, 1, 0], abs=0.02)


@pytest.mark.parametrize("suffix", ["jpg", "tif", "png"])
def test_every_kind_carries_profile_density_and_words(stack, tmp_path, suffix):
    out = tmp_path / f"o.{suffix}"
    made = export(stack, RECIPE, out, Output(width=300, space=DISPLAY_P3, dpi=240), INFO)
    assert (made.width, made.height) == (300, 225)
    assert made.centimetres == pytest.approx((3.175, 2.381), abs=0.01)
    if suffix == "tif":
        with tifffile.TiffFile(out) as file:
            tags = file.pages[0].tags
            assert tags["InterColorProfile"].value == profile(DISPLAY_P3)
            assert tags["XResolution"].value[0] / tags["XResolution"].value[1] == pytest.approx(240)
            assert b"Mill, 24 \xc3\x97 10 s" in bytes(tags[700].value) and tags["Model"].value == "Marlet 7"
        return
    with Image.open(out) as image:
        assert image.info["icc_profile"] == profile(DISPLAY_P3)
        assert image.info["dpi"][0] == pytest.approx(240, abs=0.1)
        assert image.getxmp()["xmpmeta"]["RDF"]["Description"]["title"]["Alt"]["li"]["text"] == "Tide mill"


def test_the_same_picture_in_both_spaces_looks_the_same(stack, tmp_path):
    seen = []
    for space in COLOUR_SPACES:
        out = tmp_path / f"{space}.jpg"
        export(stack, RECIPE, out, Output(space=space), INFO)
        with Image.open(out) as image:
            there = ImageCms.createProfile("sRGB")
            own = io.BytesIO(image.info["icc_profile"])
            seen.append(np.asarray(ImageCms.profileToProfile(image, own, there), float))
    assert np.abs(seen[0] - seen[1]).mean() < 1.5


def test_linear_light_is_what_the_curve_was_given(stack, tmp_path):
    assert kind_of("a.linear.tif").linear and not kind_of("a.tif").linear
    out = tmp_path / "o.linear.tif"
    export(stack, RECIPE, out, Output(), INFO)
    light = tifffile.imread(out)
    assert light.dtype == np.float32 and light.shape == (300, 400, 3)
    # encoded by the curve of the recipe it is the finished picture
    scene = prepare(*read_stack(stack))
    table = RECIPE.of(Curve).sky.table
    index = np.clip(np.sqrt(np.clip(light, 0, None) / BRIGHTEST) * (len(table) - 1) + 0.5, 0, len(table) - 1)
    wanted = Renderer(scene).render(RECIPE).rgb
    assert np.abs(table[index.astype(int)] - wanted).max() < 0.002


def test_a_print_is_as_wide_as_asked_and_sharper_than_a_screen(stack):
    assert print_width(30, 300) == 3543 and print_width(10, 254) == 1000
    recipe, how = for_destination(RECIPE, "print")
    assert how.width == DESTINATIONS["print"].width == print_width(30, 300) and how.dpi == 300
    assert how.sharpening > for_destination(RECIPE, "portrait")[1].sharpening > 0
    assert Output(dpi=600).blur == pytest.approx(2 * Output(dpi=300).blur)
    assert Output(dpi=300).blur > Output().blur
    assert recipe.moves()


def test_sharpening_makes_edges_steeper_without_rims_and_leaves_grain():
    rng = np.random.default_rng(3)
    one = prepare(np.full((200, 300, 3), 0.02, np.float32), None, read_stack_colour())
    rgb = np.full((200, 300, 3), 0.3) + rng.normal(0, 0.004, (200, 300, 1))
    edge = 1 / (1 + np.exp(-(np.arange(300) - 150) / 0.7))
    rgb += (0.3 * edge)[None, :, None]
    canvas = fresh(one)
    canvas = type(canvas)(np.asarray(rgb, np.float32), canvas.sky, canvas.to_shares, canvas.background)
    out = sharpened(canvas, 0.6, 1.1).rgb[..., 1]
    row, was = out.mean(axis=0), canvas.rgb[..., 1].mean(axis=0)
    assert np.diff(row).max() > 1.15 * np.diff(was).max()
    assert row.max() < was.max() + 0.06 and row.min() > was.min() - 0.06
    assert out[:, 20:100].std() < 1.25 * canvas.rgb[:, 20:100, 1].std()


def read_stack_colour():
    from vinter.core.frames.frame import Colour

    return Colour()


def looking_at(l_degrees, b_degrees, width, height, scale_arcsec):
    """A field whose middle lies at a place of the galaxy, north up."""
    ahead = galaxy.unit(*[np.array([v]) for v in radec(l_degrees, b_degrees)])[0]
    north = np.array([0.0, 0.0, 1.0])
    right = np.cross(ahead, north)
    right /= np.linalg.norm(right)
    down = np.cross(ahead, right)
    return Solution(
        rotation=np.stack([right, down, ahead]).tolist(),
        focal_px=206265 / scale_arcsec,
        k1=0.0,
        width=width,
        height=height,
        matched=100,
        rms_px=0.3,
        centre=radec(l_degrees, b_degrees),
        scale_arcsec=scale_arcsec,
        constellations=[],
        targets=[],
    )


def radec(l_degrees, b_degrees):
    from astropy.coordinates import SkyCoord

    place = SkyCoord(l=l_degrees, b=b_degrees, unit="deg", frame="galactic").icrs
    return float(place.ra.deg), float(place.dec.deg)


def test_names_and_a_scale_lie_where_the_sky_is(stack, tmp_path):
    field = looking_at(5, 0, 400, 300, 500)
    keep_solved(stack, field)
    plain, named = tmp_path / "a.png", tmp_path / "b.png"
    export(stack, RECIPE, plain, Output(), INFO)
    export(stack, RECIPE, named, Output(names=True), INFO)
    a, b = (cv2.imread(str(p), cv2.IMREAD_UNCHANGED).astype(int) for p in (plain, named))
    changed = np.abs(a - b).max(axis=2) > 3000
    assert 0.003 < changed.mean() < 0.2  # lines and words, not a veil
    assert (b[changed] >= a[changed] - 200).all()  # white over the picture
    canvas = fresh(prepare(*read_stack(stack), field=field))
    degrees, length = scale_of(canvas, field)
    assert degrees / length == pytest.approx(500 / 3600, rel=0.02) and length <= 0.16 * 400
    half = sized(canvas, 200)
    again, shorter = scale_of(half, field)
    assert again / shorter == pytest.approx(1000 / 3600, rel=0.02)


@pytest.mark.parametrize("wrong", [{"width": 3}, {"space": "cmyk"}, {"sharpening": 2.0}, {"dpi": 5.0}])
def test_an_output_out_of_range_is_named(wrong):
    with pytest.raises(BadInput, match=str(next(iter(wrong.values()))).rstrip("0").rstrip(".")):
        Output(**wrong)
