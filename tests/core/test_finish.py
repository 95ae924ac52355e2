"""The finish on pictures whose right answer is known."""

import json
from dataclasses import replace

import cv2
import numpy as np
import pytest
import tifffile
from PIL import Image

from vinter.core.errors import BadInput
from vinter.core.finish.canvas import Canvas, fresh
from vinter.core.finish.controls import lines
from vinter.core.finish.export import Output, export
from vinter.core.finish.guard import limits
from vinter.core.finish.linear_light import LinearLight
from vinter.core.finish.moves.areas import Area, Areas
from vinter.core.finish.moves.corners import Corners
from vinter.core.finish.moves.curve import BRIGHTEST, LUT_SIZE, curve_table
from vinter.core.finish.moves.light_balance import TARGET_SKY, Light, LightBalance
from vinter.core.finish.recipe import RECIPE, Recipe, parse_recipe, recipe_from, recipe_of
from vinter.core.finish.render import Renderer, dithered_8bit, to_8bit
from vinter.core.finish.scene import load_scene, prepare, save_scene
from vinter.core.finish.suggestion import suggest
from vinter.core.formats.exif import Taken
from vinter.core.formats.pictures import PictureInfo
from vinter.core.frames.frame import Colour
from vinter.core.frames.raw import colour_from
from vinter.core.stack.file import read_stack

NEUTRAL = (0.5, 1.0, 0.7)


def edit(**moves):
    """A recipe in the short form of version 1, brought up to date."""
    return recipe_from(moves)


def picture(height=300, width=400, tilt=0.0, noise=0.0005):
    """A sky of one colour (tilted glow if asked), a dark ground below row 240, and its mask."""
    rng = np.random.default_rng(0)
    y, x = np.mgrid[:height, :width]
    level = 0.02 * (1 + tilt * x / width)
    rgb = level[..., None] * np.array(NEUTRAL)
    mask = np.where(y < 240, 255, 0).astype(np.uint8)
    rgb = np.where((y < 240)[..., None], rgb, 0.002 * np.array(NEUTRAL))
    return (rgb + rng.normal(0, noise, rgb.shape)).astype(np.float32), mask


def scene(**kwargs):
    return prepare(*picture(**kwargs), Colour(NEUTRAL))


def linear(encoded):
    e = np.asarray(encoded, float)
    return np.where(e <= 0.04045, e / 12.92, ((e + 0.055) / 1.055) ** 2.4)


def sky_of(canvas):
    return np.median(canvas.rgb[50:200, 50:350].reshape(-1, 3), axis=0)


def test_untouched_sky_is_neutral_at_the_target_level():
    assert linear(sky_of(Renderer(scene()).render(Recipe()))) == pytest.approx([TARGET_SKY] * 3, rel=0.03)


def test_brightness_is_in_stops_and_only_where_asked():
    renderer = Renderer(scene())
    plain, lifted = renderer.render(Recipe()), renderer.render(edit(sky={"brightness": 1}))
    assert linear(sky_of(lifted)) / linear(sky_of(plain)) == pytest.approx([2] * 3, rel=0.02)
    assert np.allclose(plain.rgb[270:], lifted.rgb[270:])


def test_floor_darkens_by_the_magnitudes_it_says():
    renderer = Renderer(scene())
    ratio = linear(sky_of(renderer.render(edit(floor=1.1)))) / linear(sky_of(renderer.render(Recipe())))
    assert -2.5 * np.log10(ratio) == pytest.approx([1.1] * 3, abs=0.05)


def test_glow_takes_the_gradient_out():
    renderer = Renderer(scene(tilt=0.8))

    def slope(canvas):
        return np.median(linear(canvas.rgb[50:200, 340:390])) / np.median(linear(canvas.rgb[50:200, 10:60]))

    assert slope(renderer.render(Recipe())) > 1.5
    assert slope(renderer.render(edit(glow=1))) == pytest.approx(1.0, abs=0.05)


def test_a_higher_kelvin_is_warmer():
    renderer = Renderer(scene())
    cool, warm = (sky_of(renderer.render(edit(sky={"kelvin": k}))) for k in (4000, 7000))
    assert cool[2] > cool[0] and warm[0] > warm[2]


CAMERA = np.array([[0.92, -0.32, -0.09], [-0.36, 1.17, 0.20], [-0.05, 0.16, 0.60]])  # XYZ to camera


def xyz_of(kelvin):
    """XYZ of a black body or, from 5000 K on, of daylight, by tables that this test brings along."""
    xy = {2700: (0.4599, 0.4106), 3500: (0.4053, 0.3907), 5000: (0.3457, 0.3585), 6500: (0.3127, 0.3290)}
    xy |= {7500: (0.2990, 0.3149), 10000: (0.2787, 0.2920)}
    x, y = xy[kelvin]
    return np.array([x / y, 1, (1 - x - y) / y])


@pytest.mark.parametrize("shot_in", [5000, 6500])
@pytest.mark.parametrize("kelvin", [2700, 3500, 5000, 6500, 7500, 10000])
def test_a_grey_in_any_light_comes_out_grey(kelvin, shot_in):
    neutral = CAMERA @ xyz_of(shot_in)
    colour = colour_from(neutral / neutral[1], CAMERA)
    assert colour.kelvin == pytest.approx(shot_in, rel=0.02)
    grey = CAMERA @ xyz_of(kelvin) * 0.02 / neutral[1]
    flat = np.broadcast_to(grey, (64, 64, 3)).astype(np.float32)
    made = prepare(flat, None, colour)
    canvas = LightBalance(sky=Light(kelvin=kelvin)).apply(fresh(made), made)
    rgb = canvas.rgb[32, 32] / canvas.rgb[32, 32, 1]
    assert rgb == pytest.approx([1, 1, 1], abs=0.02)


def test_cast_moves_green_only():
    renderer = Renderer(scene())
    shifted = linear(sky_of(renderer.render(edit(sky={"cast": 0.3})))) / linear(
        sky_of(renderer.render(Recipe()))
    )
    assert shifted == pytest.approx([1, 2**-0.3, 1], rel=0.02)


def test_contrast_turns_about_its_pivot():
    renderer = Renderer(scene())
    soft, hard = (sky_of(renderer.render(edit(sky={"contrast": c})))[1] for c in (1, 1.6))
    assert soft < 0.3 and hard < soft
    # a level of 0.30 of the screen's range stays where it is, whatever the contrast
    places = np.linspace(0, 1, LUT_SIZE)
    at = (((0.30 + 0.055) / 1.055) ** 2.4 / BRIGHTEST) ** 0.5  # by the definition of sRGB
    for contrast in (0.5, 1.0, 1.6, 3.0):
        assert np.interp(at, places, curve_table(contrast)) == pytest.approx(0.30, abs=1e-3)


def test_core_is_brightest_where_it_was_put():
    renderer = Renderer(scene())
    lit, plain = (
        linear(renderer.render(r).rgb[:200])
        for r in (edit(core={"x": 0.25, "y": 0.3, "brightness": 1}), Recipe())
    )
    gain = lit / plain
    at = np.median(gain[85:95, 95:105])
    assert at == pytest.approx(2, rel=0.05) and np.median(gain[85:95, 350:390]) == pytest.approx(1, abs=0.01)


@pytest.mark.parametrize(("ratio", "wanted"), [("1:1", 1.0), ("4:5", 0.8), ("16:9", 16 / 9), ("full", 4 / 3)])
def test_crop_has_its_ratio(ratio, wanted):
    h, w = Renderer(scene()).render(edit(crop={"ratio": ratio}, level=3)).sky.shape
    assert w / h == pytest.approx(wanted, rel=0.02)


def test_level_turns_a_tilted_horizon_straight_and_leaves_no_empty_corner():
    height, width, tilt = 300, 400, 4.0
    y, x = np.mgrid[:height, :width]
    sky = y < 220 + np.tan(np.radians(tilt)) * (x - 200)  # falls to the right: the camera leaned left
    rgb = np.where(sky[..., None], 0.02, 0.001) * np.ones(3, np.float32)
    tilted = prepare(rgb.astype(np.float32), np.where(sky, 255, 0).astype(np.uint8), Colour())

    def edge(canvas):
        rows = (canvas.sky > 0.5).sum(axis=0)
        return np.degrees(np.arctan(np.polyfit(np.arange(len(rows)), rows, 1)[0]))

    assert edge(Renderer(tilted).render(Recipe())) == pytest.approx(4, abs=0.2)
    assert edge(Renderer(tilted).render(edit(level=-4))) == pytest.approx(0, abs=0.2)


def test_smoothing_lowers_the_noise_but_keeps_a_star():
    rgb, mask = picture(noise=0.002)
    rgb[100:103, 200:203] += 0.2
    s = prepare(rgb, mask, Colour(NEUTRAL))
    renderer = Renderer(s)
    before, after = (
        renderer.render(Recipe()),
        renderer.render(edit(sky={"light_smoothed": 0.8, "colour_smoothed": 0.8})),
    )
    assert after.rgb[20:90, 20:180].std() < 0.6 * before.rgb[20:90, 20:180].std()
    assert after.rgb[101, 201, 1] == pytest.approx(before.rgb[101, 201, 1], rel=0.05)


def test_the_guard_speaks_when_an_edit_outruns_the_data():
    s = scene(noise=0.0015)
    for recipe, loud in ((Recipe(), False), (edit(sky={"brightness": 4, "contrast": 2}, floor=2), True)):
        found = limits(s, recipe, to_8bit(Renderer(s).render(recipe)))
        assert ("beyond its noise" in found.words[0]) is loud
    blotchy = edit(sky={"light_smoothed": 0.6})
    assert any("blotches" in w for w in limits(s, blotchy, to_8bit(Renderer(s).render(blotchy))).words)


def test_the_guard_predicts_the_noise_that_comes_out():
    s = scene(noise=0.001)
    recipe = edit(sky={"brightness": 1.5, "contrast": 1.3})
    out = Renderer(s).render(recipe).rgb[20:200, 20:380, 1]
    measured = 1.4826 * np.median(np.abs(out - np.median(out))) * 255
    assert limits(s, recipe, np.zeros((4, 4, 3), np.uint8)).sky_noise == pytest.approx(measured, rel=0.15)


def test_unchanged_steps_are_not_run_again(monkeypatch):
    renderer = Renderer(scene(tilt=0.5))
    renderer.render(edit(glow=0.5))
    monkeypatch.setattr(LinearLight, "on", lambda *a: pytest.fail("what was done to linear light ran again"))
    renderer.render(edit(glow=0.5, sky={"light_smoothed": 0.3}))


def test_what_moves_do_together_is_what_they_do_one_after_the_other():
    """Moves of linear light are done in one pass; a fringe, or an area painted between them, parts them."""
    one = scene(tilt=0.8)
    moves = suggest(one).with_moves(Corners(amount=0.5)).moves()
    area = Areas(list=(Area(points=((0.2, 0.2), (0.35, 0.25)), radius=0.05, amount=0.6),))
    for more in ((), (Corners(amount=0.5, red=0.8, blue=-0.4),), (area,)):
        recipe = recipe_of(*moves).with_moves(*more)
        canvas = fresh(one)
        for move in recipe.moves():
            canvas = move.apply(canvas, one)
        together = Renderer(one).render(recipe)
        assert np.abs(together.rgb - canvas.rgb).max() < 1e-5
        assert np.abs(together.rgb - canvas.rgb).mean() < 1e-6
        assert together.background == pytest.approx(canvas.background)


@pytest.mark.parametrize("size", [(1, 1), (1, 40), (40, 1), (2, 2), (3, 5), (33, 2)])
def test_a_picture_of_a_few_pixels_goes_through_every_loop(size):
    rgb, sky = np.full((*size, 3), 0.02, np.float32), np.full(size, 0.5, np.float32)
    one = replace(scene(), rgb=rgb, sky=sky)
    one.rgb[0, 0] = 0.4
    recipe = parse_recipe(
        json.dumps(
            {
                "corners": {"amount": 0.5, "red": 0.8},
                "noise_reduction": {"sky": {"colour": 0.5, "light": 0.5}},
                "detail": {"sky": {"haze": 0.3}},
                "colour": {"sky": {"saturation": 0.3, "red": 0.4}},
                "stars": {"smaller": 0.5, "colour": 0.5, "fewer": 0.5, "sharper": 0.5},
                "fine_scales": {"one": 0.5, "two": 0.5, "four": 0.5},
            }
        )
    )
    first, second = (Renderer(one).render(recipe).rgb for _ in range(2))
    assert first.shape == (*size, 3) and np.isfinite(first).all() and np.array_equal(first, second)


def test_exports_open_elsewhere_with_size_depth_and_metadata(tmp_path):
    rgb, mask = picture()
    tifffile.imwrite(
        tmp_path / "s.tif",
        rgb,
        photometric="rgb",
        description=json.dumps({"neutral": NEUTRAL, "matrix": [[1, 0, 0], [0, 1, 0], [0, 0, 1]]}),
    )
    cv2.imwrite(str(tmp_path / "s.mask.png"), mask)
    recipe = suggest(prepare(*read_stack(tmp_path / "s.tif")))
    taken = Taken(make="Marlet", model="Marlet 7", time=1812589930.0, iso=1600, exposure_s=10.0)
    info = PictureInfo("Tide mill", "Mill & <core>, 24 × 10 s", taken)
    made = export(tmp_path / "s.tif", recipe, tmp_path / "o.jpg", Output(width=200), info)
    assert (made.width, made.height) == (200, 150)
    with Image.open(tmp_path / "o.jpg") as image:
        exif = image.getexif()
        assert image.size == (200, 150) and exif[272] == "Marlet 7" and exif.get_ifd(34665)[34855] == 1600
        assert "icc_profile" in image.info and 0x8825 not in exif  # no place
        told = image.getxmp()["xmpmeta"]["RDF"]["Description"]
        assert told["title"]["Alt"]["li"]["text"] == "Tide mill"
        assert told["description"]["Alt"]["li"]["text"] == "Mill & <core>, 24 × 10 s"
    export(tmp_path / "s.tif", recipe, tmp_path / "o.tif")
    wide = tifffile.imread(tmp_path / "o.tif")
    assert wide.dtype == np.uint16 and wide.shape == (300, 400, 3) and len(np.unique(wide)) > 1000
    export(tmp_path / "s.tif", recipe, tmp_path / "o.png")
    assert cv2.imread(str(tmp_path / "o.png"), cv2.IMREAD_UNCHANGED).dtype == np.uint16
    with pytest.raises(BadInput, match=r"\.gif"):
        export(tmp_path / "s.tif", recipe, tmp_path / "o.gif")


def test_a_scene_is_kept_and_found_again(tmp_path):
    s = scene(tilt=0.3)
    save_scene(tmp_path / "w.npz", s)
    back = load_scene(tmp_path / "w.npz")
    recipe = suggest(s)
    assert np.array_equal(to_8bit(Renderer(back).render(recipe)), to_8bit(Renderer(s).render(recipe)))


def test_recipes_out_of_bounds_name_the_field():
    with pytest.raises(BadInput, match=r"sky\.kelvin"):
        parse_recipe('{"sky": {"kelvin": 99999}}')
    with pytest.raises(BadInput, match="colour"):
        parse_recipe('{"colour": 1}')
    with pytest.raises(BadInput, match="JSON"):
        parse_recipe("{")


def test_a_place_in_the_cropped_and_turned_picture_is_found_in_the_whole():
    """A bright spot put at known shares must lie where to_shares says it does."""
    rgb, mask = picture(noise=0)
    rgb[118:123, 238:243] = 0.5
    canvas = Renderer(prepare(rgb, mask, Colour(NEUTRAL))).render(
        edit(level=5, crop={"ratio": "1:1", "size": 0.8, "x": 0.6, "y": 0.45})
    )
    y, x = np.unravel_index(int(np.argmax(cv2.GaussianBlur(canvas.rgb[..., 1], (0, 0), 2))), canvas.sky.shape)
    across, down, _ = canvas.to_shares @ [x, y, 1]
    assert (across, down) == pytest.approx((240.5 / 400, 120.5 / 300), abs=0.005)


def test_a_recipe_saved_by_the_first_version_says_the_same_today():
    old = {
        "level": -1.5,
        "crop": {"ratio": "4:5", "size": 0.9, "x": 0.4, "y": 0.6},
        "sky": {"kelvin": 3900, "cast": 0.1, "brightness": 1.6, "contrast": 1.3, "colour_smoothed": 0.35},
        "ground": {"light_smoothed": 0.25, "contrast": 1.05, "brightness": -0.5},
        "glow": 0.85,
        "floor": 1.1,
        "core": {"x": 0.3, "y": 0.2, "brightness": 0.35},
    }
    today = recipe_from(old).model_dump()
    assert today["version"] == RECIPE.version == 2
    geometry = {key: today["geometry"][key] for key in ("level", "ratio", "size", "x", "y")}
    assert geometry == {"level": -1.5, "ratio": "4:5", "size": 0.9, "x": 0.4, "y": 0.6}
    assert today["gradient_removal"] == {"share": 0.85, "plain": ()} and today["black_point"] == {
        "magnitudes": 1.1
    }
    assert today["light_balance"]["sky"] == {"kelvin": 3900, "cast": 0.1, "brightness": 1.6}
    assert today["light_balance"]["ground"] == {"kelvin": 5200, "cast": 0, "brightness": -0.5}
    assert [today["curve"][zone] for zone in ("sky", "ground")] == [
        {"contrast": 1.3, "highlights": 0, "points": ()},
        {"contrast": 1.05, "highlights": 0, "points": ()},
    ]
    assert today["noise_reduction"] == {
        "sky": {"colour": 0.35, "light": 0},
        "ground": {"colour": 0, "light": 0.25},
    }
    assert (today["core"]["x"], today["core"]["length"]) == (0.3, 0.22)
    assert recipe_from(today).model_dump() == today
    with pytest.raises(BadInput, match="version 9"):
        recipe_from({"version": 9})


def test_every_slider_runs_over_what_the_recipe_allows():
    shown = {c.path: c for line in lines(Recipe()) for c in (*line.sky, *line.ground)}
    assert [line.name for line in lines(Recipe())] == [
        "Level",
        "Corners",
        "White balance",
        "Town glow",
        "Dark and light",
        "Haze",
        "Core and areas",
        "Colour",
        "Stars",
        "Fine scales",
        "Noise",
        "Crop",
    ]
    assert set(shown["geometry.ratio"].options) == {"full", "free", "3:2", "4:5", "1:1", "16:9", "9:16"}

    def with_value(path, value):
        data = Recipe().model_dump()
        part, _, name = path.rpartition(".")
        inner = data
        for key in part.split("."):
            inner = inner[key]
        inner[name] = value
        return data

    for path, control in shown.items():
        if control.options:
            continue
        for value in (control.low, control.high, control.rest):
            recipe_from(with_value(path, value))
        for value in (control.low - 0.01, control.high + 0.01):
            with pytest.raises(BadInput, match=path.replace(".", r"\.")):
                recipe_from(with_value(path, value))


@pytest.mark.parametrize("shift", [-2.0, 0.0, 2.0])
def test_no_rim_at_the_skyline(shift):
    """A straight skyline over two pixels under a mask that is feathered and off by ``shift`` px: across it
    the
    finished picture only falls."""
    y = np.arange(400, dtype=float)[:, None] * np.ones((1, 300))
    cover = np.clip((200.5 - y) / 2 + 0.5, 0, 1)
    sky, ground = np.array([0.020, 0.040, 0.028]), np.array([0.002, 0.004, 0.003])
    rgb = cover[..., None] * sky + (1 - cover[..., None]) * ground
    rgb = (rgb + np.random.default_rng(3).normal(0, 2e-5, rgb.shape)).astype(np.float32)
    feather = cv2.GaussianBlur((y < 200.5 + shift).astype(np.float32), (0, 0), 1.3)
    made = prepare(rgb, np.round(255 * feather).astype(np.uint8), Colour(NEUTRAL))
    green = to_8bit(Renderer(made).render(suggest(made)))[..., 1].astype(int)
    profile = np.median(green, axis=1)[188:214]
    high, low = np.median(profile[:6]), np.median(profile[-6:])
    assert high > low + 10
    assert (np.diff(profile) <= 1.5).all(), profile
    assert profile.max() <= high + 2 and profile.min() >= low - 2, profile


def test_eight_bits_are_dithered_so_that_a_slow_gradient_has_no_bands():
    slow = np.linspace(0.2, 0.21, 600)[None, :] * np.ones((400, 1))
    canvas = Canvas(
        np.stack([slow] * 3, axis=-1).astype(np.float32),
        np.ones((400, 600), np.float32),
        np.eye(3)[:2],
        np.ones(3),
    )
    plain, fine = to_8bit(canvas)[..., 1].astype(float), dithered_8bit(canvas)[..., 1].astype(float)
    wanted = 255 * slow[0]
    assert np.abs(plain.mean(axis=0) - wanted).max() > 0.4
    assert np.abs(cv2.blur(fine, (15, 400))[200] - wanted)[10:-10].max() < 0.1
    assert np.array_equal(dithered_8bit(canvas), dithered_8bit(canvas))
