"""What a finish measures in the picture itself: cut light, noise that shows, pictures by day, the glow."""

import cv2
import numpy as np
import pytest
from scipy.interpolate import BSpline

from vinter.core.finish import smooth_glow
from vinter.core.finish.cut_light import white_where_cut
from vinter.core.finish.guard import limits
from vinter.core.finish.looks import LOOKS
from vinter.core.finish.moves.light_balance import LightBalance
from vinter.core.finish.moves.noise_reduction import NoiseReduction, Smoothing
from vinter.core.finish.recipe import recipe_of
from vinter.core.finish.render import Renderer, to_8bit
from vinter.core.finish.scene import prepare
from vinter.core.finish.suggestion import suggest
from vinter.core.frames.frame import Colour
from vinter.core.frames.raw import colour_from
from vinter.core.simulate.raw_colour import MATRIX, NEUTRAL

COLOUR = colour_from(np.array(NEUTRAL), np.array(MATRIX).reshape(3, 3))
TILTS = (1.7, -3.2)


def test_what_is_cut_is_white_and_all_else_keeps_its_colour():
    """All colours end at one number; a camera whose white is (0.5, 1, 0.6) would show that pink."""
    colour = Colour(neutral=(0.5, 1.0, 0.6))
    rgb = np.full((80, 120, 3), 0.02, np.float32)
    rgb[20:40, 30:50] = 1.0
    rgb[60, 60] = (0.45, 0.8, 0.5)
    found = white_where_cut(rgb, colour)
    balanced = found[30, 40] / np.array(colour.neutral)
    assert np.ptp(balanced) < 1e-5 and balanced[0] > 1
    untouched = np.ones((80, 120), bool)
    untouched[20:40, 30:50] = False
    assert np.array_equal(found[untouched], rgb[untouched])
    merged = rgb * 3  # beyond white the exposures of a bracket go on
    assert white_where_cut(merged, colour) is merged


def grainy(seed=3):
    """A dark sky, white by the camera, with noise alike in its colours, and stars of two tints."""
    rng = np.random.default_rng(seed)
    rgb = np.array(NEUTRAL, np.float32) * 0.03 + rng.normal(0, 0.0022, (300, 400, 3)).astype(np.float32)
    for k, (x, y) in enumerate(rng.uniform(20, 280, (40, 2))):
        tint = np.array(NEUTRAL) * ((1.5, 1, 0.6), (0.7, 1, 1.4))[k % 2]
        gy, gx = np.mgrid[int(y) - 4 : int(y) + 5, int(x) - 4 : int(x) + 5]
        image = np.exp(-((gx - x) ** 2 + (gy - y) ** 2) / (2 * 1.3**2))[..., None]
        rgb[int(y) - 4 : int(y) + 5, int(x) - 4 : int(x) + 5] += (0.25 * image * tint).astype(np.float32)
    return prepare(np.clip(rgb, 0, 1), None, COLOUR)


def chroma(picture):
    return cv2.cvtColor(picture, cv2.COLOR_RGB2YCrCb).astype(float)[..., 1:] - 128


def test_colour_noise_is_smoothed_and_stars_keep_their_colour():
    scene = grainy()
    bright = recipe_of(LightBalance(sky={"brightness": 2.0}))

    def made(colour):
        return to_8bit(
            Renderer(scene).render(bright.with_moves(NoiseReduction(sky=Smoothing(colour=colour))))
        )

    rough, calm = chroma(made(0.0)), chroma(made(0.9))
    luma = made(0.0)[..., 1].astype(float)
    stars = luma > np.percentile(luma, 99.3)
    sky = cv2.dilate(stars.astype(np.uint8), np.ones((15, 15))) == 0
    assert (calm[sky].std(axis=0) < 0.45 * rough[sky].std(axis=0)).all()
    assert np.abs(calm[stars]).mean() > 0.88 * np.abs(rough[stars]).mean()


def test_colour_noise_that_shows_is_said_and_gone_with_smoothing():
    scene = grainy()

    def words(colour):
        recipe = recipe_of(
            LightBalance(sky={"brightness": 3.0}), NoiseReduction(sky=Smoothing(colour=colour, light=0.3))
        )
        return " ".join(limits(scene, recipe, to_8bit(Renderer(scene).render(recipe))).words)

    assert "colour noise" in words(0.0) and "colour noise" not in words(0.9)


def test_a_finished_picture_without_a_night_sky_is_shown_as_it_is():
    """Patches of full and half colours, a sky whose blue is full, greys: nothing darker, nothing white."""
    shown = np.zeros((240, 320, 3), np.uint8)
    patches = [(255, 120, 10), (200, 255, 30), (90, 140, 255), (255, 255, 255), (128, 128, 128), (20, 20, 20)]
    for i, colour in enumerate(patches):
        shown[:, i * 53 : (i + 1) * 53] = colour
    shown[:, 318:] = patches[-1]
    encoded = shown.astype(np.float32) / 255
    linear = np.where(encoded <= 0.04045, encoded / 12.92, ((encoded + 0.055) / 1.055) ** 2.4)
    scene = prepare(linear.astype(np.float32), None, Colour(), night=False)
    drawn = to_8bit(Renderer(scene).render(suggest(scene))).astype(int)
    assert np.abs(drawn - shown)[10:-10, 5:-5].max() <= 4
    # light beyond white, of a gain map, still rolls off rather than being cut
    bright = prepare(np.asarray(linear * 3, np.float32), None, Colour(), night=False)
    assert to_8bit(Renderer(bright).render(suggest(bright)))[120, 4 * 53 + 20].max() < 250


def test_every_look_of_a_picture_by_day_keeps_its_light():
    rng = np.random.default_rng(4)
    linear = cv2.GaussianBlur(rng.uniform(0, 1, (120, 160, 3)).astype(np.float32), (0, 0), 9)
    linear = (linear - linear.min()) / np.ptp(linear)
    scene = prepare(linear, None, Colour(), night=False)
    own = to_8bit(Renderer(scene).render(suggest(scene))).astype(float)
    for key, (_, make) in LOOKS.items():
        drawn = to_8bit(Renderer(scene).render(make(scene))).astype(float)
        off = drawn.mean() - own.mean()
        assert abs(off) < 12 if key != "moonlit" else -60 < off < -15, key


def test_a_raw_by_day_is_as_bright_as_its_brightest_places():
    colour = Colour((0.5, 1.0, 0.7))
    ramp = np.linspace(0.001, 0.2, 320, dtype=np.float32)[None, :, None]
    light = ramp * np.array(colour.neutral, np.float32)
    scene = prepare(np.repeat(light, 240, axis=0), None, colour, night=False)
    drawn = to_8bit(Renderer(scene).render(suggest(scene)))
    assert drawn[120, 318].min() > 235 and drawn[120, 5].max() < 48


@pytest.mark.parametrize("shape", [(7,), (40_000,), (300, 200), (1, 1)])
def test_the_glow_is_read_at_any_number_of_places(shape):
    """A picture of 12 MP asks for 49,000 at once."""
    rng = np.random.default_rng(4)
    across, down = (count + 2 for count in smooth_glow.BUMPS)
    glow = np.r_[rng.normal(0, 0.01, (smooth_glow.POLYNOMIAL, 3)), np.zeros((across * down, 3))]
    glow[smooth_glow.POLYNOMIAL + 7 * down + 9] = 0.1
    x, y = rng.uniform(0, 1, shape), rng.uniform(0, 1, shape)
    wanted = smooth_glow.polynomial(x.ravel(), y.ravel()) @ glow[: smooth_glow.POLYNOMIAL]
    bump = BSpline.basis_element(np.arange(-2, 3), extrapolate=False)  # the seventh across, the ninth down
    one, other = (
        np.nan_to_num(bump(v.ravel() * count - (k - 1 + 0.5)))
        for v, count, k in zip((x, y), smooth_glow.BUMPS, (7, 9), strict=True)
    )
    wanted = wanted + 0.1 * (one * other)[:, None]
    assert smooth_glow.surface(glow, x, y) == pytest.approx(wanted.reshape(*shape, 3), abs=0.002)
