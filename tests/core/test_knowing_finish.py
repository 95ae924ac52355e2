"""Edits that know the picture: level and white by the stars, glow without the galaxy, areas, repairs, stars,
limits."""

from dataclasses import replace

import cv2
import numpy as np
import pytest
from fields import LENS, SITE, fields_of

from vinter.core.camera.illuminant import light_srgb
from vinter.core.errors import BadInput
from vinter.core.finish.guard import VISIBLE_NOISE, ends, seen_noise
from vinter.core.finish.looks import LOOKS, fitted, portable
from vinter.core.finish.moves.areas import Area, Areas
from vinter.core.finish.moves.colour import Colour as Tones
from vinter.core.finish.moves.colour import SkySaturation
from vinter.core.finish.moves.corners import Corners
from vinter.core.finish.moves.curve import Contrast, Curve
from vinter.core.finish.moves.detail import Contrast as LocalContrast
from vinter.core.finish.moves.detail import Detail
from vinter.core.finish.moves.geometry import Geometry
from vinter.core.finish.moves.gradient_removal import GradientRemoval
from vinter.core.finish.moves.light_balance import LightBalance, light_of
from vinter.core.finish.moves.repair import Repair, Spot
from vinter.core.finish.moves.stars import Stars
from vinter.core.finish.overlay import overlay
from vinter.core.finish.recipe import Recipe, parse_recipe, recipe_of
from vinter.core.finish.render import PartRenderer, Renderer, to_8bit
from vinter.core.finish.scene import prepare
from vinter.core.finish.suggestion import by_stars, suggest
from vinter.core.frames.raw import colour_from
from vinter.core.simulate.raw_colour import MATRIX, NEUTRAL, reddened
from vinter.core.sky.brightness import ray_airmass

COLOUR = colour_from(np.array(NEUTRAL), np.array(MATRIX).reshape(3, 3))
TILTS = (1.7, -3.2)


@pytest.fixture(scope="module")
def panels():
    """Two pictures of the simulated phone, tilted by known angles, their fields solved from a pose that is
    off."""
    return fields_of(((176, 24, TILTS[0]), (190, 30, TILTS[1])), LENS, SITE)


@pytest.fixture(scope="module")
def scene(panels):
    one = panels[0]
    return prepare(one.rgb, (one.sky * 255).astype(np.uint8), COLOUR, 1200, one.field)


def test_the_stars_know_how_the_phone_was_tilted(panels):
    for panel, tilt in zip(panels, TILTS, strict=True):
        own = prepare(panel.rgb, (panel.sky * 255).astype(np.uint8), COLOUR, 600, panel.field)
        assert abs(abs(own.tilt) - abs(tilt)) < 0.1
        # turned back by it, the same picture's up is up
        level = Renderer(own).render(recipe_of(Geometry(level=own.tilt)))
        zenith = np.array(panel.field.zenith)
        middle = panel.field.directions(np.array([[panel.field.width / 2, panel.field.height / 2]]))[0]
        above = middle + 0.05 * zenith
        x, y, _ = panel.field.places(np.stack([middle, above / np.linalg.norm(above)]))
        shares = np.c_[(x + 0.5) / panel.field.width, (y + 0.5) / panel.field.height]
        at = level.pixels(shares)
        step = at[1] - at[0]
        assert abs(np.degrees(np.arctan2(step[0], -step[1]))) < 0.1


def test_a_sun_like_star_comes_out_white(scene):
    white = scene.white
    assert white.stars > 60 and white.error < 0.03
    # as it is seen there, through the air in the middle of the sky
    field, share = scene.field, np.array(scene.sky.shape[::-1])
    y, x = np.nonzero(scene.sky[::20, ::20] > 0.98)
    places = np.c_[x, y] * 20 / share * [field.width, field.height]
    air = np.median(ray_airmass(field.altitudes(places)))
    seen = np.array(NEUTRAL) * reddened(SITE.extinction * np.array([air]))[0]
    for found, true in ((white.red, seen[0]), (white.blue, seen[2])):
        assert abs(-2.5 * np.log10(found / true)) < 0.03
    kelvin, cast = by_stars(scene)
    light = LightBalance().sky.model_copy(update={"kelvin": kelvin, "cast": cast})
    shown = LightBalance.matrix(light, scene) @ seen
    assert np.abs(2.5 * np.log10(shown / shown.mean())).max() < 0.03


def test_a_picked_grey_comes_out_grey():
    for kelvin in (2900, 4100, 6200, 9000):
        to_camera = np.linalg.inv(np.array(COLOUR.matrix))
        # against the light whose white the camera's neutral is
        raw = (
            np.array(COLOUR.neutral)
            * (to_camera @ light_srgb(kelvin))
            / (to_camera @ light_srgb(COLOUR.kelvin))
        )
        found, cast = light_of(raw / raw[1], COLOUR)
        assert found == pytest.approx(kelvin, rel=0.02) and abs(cast) < 0.02


def test_glow_goes_and_the_galaxy_stays(panels):
    """A gradient is planted in the sky: under 3 % of it is left, and the band keeps its light within 5 %."""
    panel = panels[0]
    mask = (panel.sky * 255).astype(np.uint8)
    h, w = panel.sky.shape
    y, x = np.mgrid[:h, :w].astype(np.float32)
    level = float(np.median(panel.rgb[..., 1][panel.sky > 0.99]))
    planted = (
        level * (0.9 * (x / w) + 0.7 * (1 - x / w) * (y / h) ** 2)[..., None] * np.array([1.1, 1.0, 0.6])
    )
    lit = np.asarray(panel.rgb + planted * panel.sky[..., None], np.float32)
    scenes = [prepare(rgb, mask, COLOUR, 800, panel.field) for rgb in (panel.rgb, lit)]
    made = [Renderer(one).render(recipe_of(GradientRemoval(share=1.0))) for one in scenes]
    # in the picture's own levels again: the curve undone, base exposure and white taken out
    linear = [_linear(c, 1 / _gain(one)) for c, one in zip(made, scenes, strict=True)]
    sky = cv2.erode((made[0].sky > 0.99).astype(np.uint8), np.ones((9, 9))) > 0
    soft = [cv2.blur(cv2.medianBlur(np.ascontiguousarray(v[..., 1]), 5), (25, 25)) for v in linear]
    span = float(np.ptp(cv2.resize(planted[..., 1].astype(np.float32), soft[0].shape[::-1])[sky]))
    left = soft[1] - soft[0]
    left -= np.median(left[sky])
    assert np.sqrt(np.mean(left[sky] ** 2)) < 0.03 * span, np.sqrt(np.mean(left[sky] ** 2)) / span
    # the band over the sky beside it
    band = soft[0] > np.percentile(soft[0][sky], 92)
    beside = (soft[0] < np.percentile(soft[0][sky], 40)) & sky
    heights = [float(s[band & sky].mean() - s[beside].mean()) for s in soft]
    assert heights[1] == pytest.approx(heights[0], rel=0.05)


def _linear(canvas, scale):
    """The curve undone (contrast 1): encoded back to linear."""
    v = np.clip(canvas.rgb, 0, 1)
    v = np.where(v <= 0.04045, v / 12.92, ((v + 0.055) / 1.055) ** 2.4)
    return np.asarray(np.where(v > 0.5, 0.25 / np.maximum(1 - v, 1e-3), v) * scale, np.float32)


def _gain(own):
    """What a level of green becomes after white balance and base exposure."""
    return float(LightBalance.matrix(LightBalance().sky, own).sum(axis=1)[1])


def test_core_and_names_stand_where_the_sky_has_them(scene, panels):
    field = panels[0].field
    x, y, _ = field.pixels(np.array([[266.4168, -29.0078]]))
    assert scene.core == pytest.approx(((x[0] + 0.5) / field.width, (y[0] + 0.5) / field.height), abs=1e-3)
    found = overlay(field)
    names = {n for _, _, n in found.names}
    assert "Core of the galaxy" in names and "Sagittarius" in names and len(found.lines) > 60
    assert all(0 <= v <= 1 for line in found.lines for v in line)


def test_corners_are_given_back_what_is_asked(scene):
    plain, lifted = (Renderer(scene).render(recipe_of(Corners(amount=a))) for a in (0.0, 1.0))
    ratio = _linear(lifted, 1)[..., 1] / np.maximum(_linear(plain, 1)[..., 1], 1e-6)
    h, w = ratio.shape
    assert np.median(ratio[h // 2 - 20 : h // 2 + 20, w // 2 - 20 : w // 2 + 20]) == pytest.approx(
        1, abs=0.01
    )
    assert np.median(ratio[:25, :25]) == pytest.approx(2, rel=0.06)


def test_areas_do_what_they_say_where_they_lie(scene):
    def stroke(**changes):
        return Area(
            **{"points": ((0.2, 0.2), (0.35, 0.25)), "radius": 0.05, "softness": 0.4, "amount": 1.0} | changes
        )

    plain = _linear(Renderer(scene).render(Recipe()), 1)
    h, w = plain.shape[:2]
    inside, outside = (
        np.s_[int(0.21 * h) : int(0.24 * h), int(0.26 * w) : int(0.29 * w)],
        np.s_[: h // 2, w // 2 :],
    )

    def drawn(*areas):
        return _linear(Renderer(scene).render(recipe_of(Areas(list=areas))), 1)

    lit = drawn(stroke())
    assert np.median(lit[inside] / plain[inside]) == pytest.approx(2, rel=0.08)
    assert np.abs(lit[outside] - plain[outside]).max() < 1e-5
    warm = drawn(stroke(effect="warmth", amount=0.5))
    ratio = np.median(warm[inside] / plain[inside], axis=(0, 1))
    assert ratio[0] / ratio[2] == pytest.approx(2**0.5, rel=0.05) and ratio[1] == pytest.approx(1, abs=0.02)
    erased = drawn(stroke(), stroke(erase=True, amount=1.0))
    assert np.median(erased[inside] / plain[inside]) < 1.1
    ground_only = drawn(stroke(zone="ground"))
    assert np.abs(ground_only[inside] - plain[inside]).max() < 1e-4
    shade = drawn(Area(shape="gradient", points=((0.5, 0.0), (0.5, 0.5)), amount=-1.0))
    top, low = np.s_[2:6, w // 2 - 60 : w // 2 + 60], np.s_[int(0.55 * h) : int(0.6 * h), :]
    assert np.median(shade[top] / plain[top]) == pytest.approx(0.5, rel=0.06)
    assert np.abs(shade[low] - plain[low]).max() < 1e-5
    grey = drawn(stroke(shape="ellipse", points=((0.3, 0.25), (0.42, 0.36)), effect="colour", amount=-1.0))
    middle = grey[int(0.25 * h), int(0.3 * w)]
    assert np.ptp(middle) < 0.02 * middle.max() + 1e-4


def test_a_recipe_with_strokes_is_the_same_from_json(scene):
    area = Area(points=((0.2, 0.2), (0.35, 0.25)), amount=0.7)
    recipe = recipe_of(Areas(list=(area,)), Repair(spots=(Spot(x=0.5, y=0.3, radius=0.01),)))
    again = parse_recipe(recipe.model_dump_json())
    assert again == recipe
    a, b = (to_8bit(Renderer(scene).render(r)) for r in (recipe, again))
    assert np.array_equal(a, b)
    with pytest.raises(BadInput, match="areas"):
        parse_recipe('{"areas": {"list": [{"points": []}]}}')


def test_a_mended_place_has_the_grain_and_light_of_its_surroundings(scene):
    rng = np.random.default_rng(4)
    rgb = scene.rgb.copy()
    h, w = rgb.shape[:2]
    at = (int(0.3 * h), int(0.75 * w))
    gy, gx = np.mgrid[:h, :w]
    lamp = np.exp(-((gx - at[1]) ** 2 + (gy - at[0]) ** 2) / (2 * 3.0**2))[..., None]
    rgb += (0.4 * lamp).astype(np.float32)
    hurt = replace(scene, rgb=np.asarray(rgb + rng.normal(0, 0.0004, rgb.shape), np.float32))
    spot = Spot(x=(at[1] + 0.5) / w, y=(at[0] + 0.5) / h, radius=0.011)
    mended = Repair(spots=(spot,)).apply(_fresh(hurt), hurt).rgb
    disc = np.hypot(gx - at[1], gy - at[0]) < 8
    ring = (np.hypot(gx - at[1], gy - at[0]) > 20) & (np.hypot(gx - at[1], gy - at[0]) < 40)
    g = mended[..., 1]
    assert np.median(g[disc]) == pytest.approx(np.median(g[ring]), rel=0.05)
    grain = [1.4826 * np.median(np.abs(g[m] - np.median(g[m]))) for m in (disc, ring)]
    assert 0.6 < grain[0] / grain[1] < 1.6
    assert np.array_equal(mended[: at[0] - 40], hurt.rgb[: at[0] - 40])
    # at the very edge nothing breaks
    Repair(spots=(Spot(x=0.0, y=0.0, radius=0.02), Spot(x=1.0, y=1.0, radius=0.1))).apply(_fresh(hurt), hurt)


def _fresh(scene):
    from vinter.core.finish.canvas import fresh

    return fresh(scene)


def test_a_curve_goes_through_its_points_and_never_falls():
    from vinter.core.finish.moves.curve import BRIGHTEST, LUT_SIZE

    plain = Contrast(contrast=1.0)
    bent = Contrast(contrast=1.0, points=((0.25, 0.35), (0.6, 0.62)))
    at = [int(np.argmin(np.abs(plain.table - v))) for v in (0.25, 0.6)]
    assert [float(bent.table[i]) for i in at] == pytest.approx([0.35, 0.62], abs=2e-3)
    assert (np.diff(bent.table) >= -1e-7).all() and len(bent.table) == LUT_SIZE and BRIGHTEST > 1


def test_haze_moves_wide_light_and_leaves_stars_and_skyline_alone(scene):
    plain, clear = (
        Renderer(scene).render(recipe_of(Detail(sky=LocalContrast(haze=v)))).rgb[..., 1] for v in (0.0, 1.0)
    )
    sky = scene.sky > 0.99
    wide = [cv2.GaussianBlur(cv2.medianBlur(np.ascontiguousarray(v), 5), (0, 0), 8) for v in (plain, clear)]
    near, far = (d / scene.degrees_px for d in (0.6, 2.0))
    high = cv2.erode(sky.astype(np.uint8), np.ones((160, 160))) > 0
    parts = [
        np.std((cv2.GaussianBlur(v, (0, 0), near) - cv2.GaussianBlur(v, (0, 0), far))[high]) for v in wide
    ]
    assert parts[1] > 1.3 * parts[0]
    ground = scene.sky < 0.01
    assert np.abs(clear - plain)[ground].max() < 1e-3
    # no rim: along the skyline the sky changes no more than it does a little higher
    edge = cv2.distanceTransform((scene.sky > 0.98).astype(np.uint8), cv2.DIST_L2, 5)
    ratio = wide[1] / np.maximum(wide[0], 1e-4)
    near, far = ((edge > 3) & (edge < 9)), ((edge > 30) & (edge < 60))
    assert abs(np.median(ratio[near]) - np.median(ratio[far])) < 0.12


def test_stars_get_smaller_and_fewer_and_the_sky_stays(scene):
    def stars(move):
        return Renderer(scene).render(recipe_of(move)).rgb[..., 1]

    plain = stars(Stars())
    sky = cv2.erode((scene.sky > 0.99).astype(np.uint8), np.ones((15, 15))) > 0
    over = plain - cv2.medianBlur(np.ascontiguousarray(plain), 5)
    bright = (over > 0.25) & sky
    small = stars(Stars(smaller=1.0))
    assert small[bright].sum() < 0.9 * plain[bright].sum()
    few = stars(Stars(fewer=1.0))
    faint = (over > 0.03) & (over < 0.08) & sky
    assert few[faint].mean() < plain[faint].mean() - 0.01
    assert few[bright].sum() > 0.93 * plain[bright].sum()
    for changed in (small, few):
        assert np.median(changed[sky]) == pytest.approx(np.median(plain[sky]), abs=0.006)


def test_green_goes_red_stays(scene):
    rgb = np.full((60, 80, 3), 0.3, np.float32)
    rgb[:30, :, 1] = 0.4  # airglow
    rgb[30:, :40] = (0.5, 0.2, 0.25)  # a nebula
    from vinter.core.finish.canvas import Canvas

    canvas = Canvas(rgb, np.ones((60, 80), np.float32), np.eye(2, 3), np.ones(3))
    out = Tones(sky=SkySaturation(green=1.0, red=0.5)).apply(canvas, scene).rgb
    assert np.ptp(out[10, 10]) < 0.01 and out[10, 10].mean() == pytest.approx(0.3715, abs=0.01)
    assert out[45, 10, 0] - out[45, 10, 1] > 1.3 * 0.3
    assert np.allclose(out[45, 60], 0.3, atol=1e-5)


def test_every_slider_knows_where_the_data_end(scene):
    recipe = suggest(scene)
    noisy = replace(scene, noise=scene.noise * 30)
    found = ends(noisy, recipe)
    assert "light_balance.sky.brightness" in found
    at = recipe.with_moves(
        recipe.of(LightBalance).model_copy(
            update={
                "sky": recipe.of(LightBalance).sky.model_copy(
                    update={"brightness": found["light_balance.sky.brightness"]}
                )
            }
        )
    )
    assert seen_noise(noisy, at) == pytest.approx(VISIBLE_NOISE, rel=0.1)
    assert ends(replace(scene, noise=1e-9), recipe) == {}


def test_looks_differ_and_can_be_taken_along(scene, panels):
    made = {key: to_8bit(Renderer(scene).render(make(scene))) for key, (_, make) in LOOKS.items()}
    sky = scene.sky[: made["night"].shape[0], : made["night"].shape[1]] > 0.9
    warmth = {
        k: float(
            np.median(v[..., 0][sky[: v.shape[0], : v.shape[1]]])
            / np.median(v[..., 2][sky[: v.shape[0], : v.shape[1]]])
        )
        for k, v in made.items()
    }
    assert warmth["warm"] > warmth["restrained"] > warmth["cool"]
    other = prepare(panels[1].rgb, (panels[1].sky * 255).astype(np.uint8), COLOUR, 600, panels[1].field)
    recipe = suggest(scene).with_moves(Repair(spots=(Spot(),)), Curve(sky=Contrast(contrast=1.7)))
    moved = fitted(portable(recipe), other)
    assert moved.of(Repair).spots == () and moved.of(Curve).sky.contrast == 1.7
    assert moved.of(Geometry).level == pytest.approx(other.tilt, abs=0.06)


def test_a_part_at_full_size_is_that_part_of_the_whole(panels):
    """Levels of a part rendered by itself agree with the whole's, whatever the moves."""
    panel = panels[0]
    mask = (panel.sky * 255).astype(np.uint8)
    whole = prepare(panel.rgb, mask, COLOUR, None, panel.field)
    recipe = suggest(whole).with_moves(
        Geometry(), Areas(list=(Area(points=((0.4, 0.3), (0.6, 0.4)), amount=0.8),)), Corners(amount=0.4)
    )
    full = to_8bit(Renderer(whole).render(recipe)).astype(int)
    box = (700, 300, 600, 400)
    part = to_8bit(PartRenderer(whole, panel.rgb, mask, box).render(recipe)).astype(int)
    there = full[300:700, 700:1300]
    for strip in (np.s_[:], np.s_[:20], np.s_[-20:], np.s_[:, :20], np.s_[:, -20:]):
        assert np.abs(np.median(part[strip] - there[strip])) <= 1
        assert np.percentile(np.abs(part[strip] - there[strip]), 95) < 14
