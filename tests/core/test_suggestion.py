"""What a finish begins with: white by the stars, ground by its own light, the core brightened where it is."""

from dataclasses import replace

import numpy as np
import pytest

from vinter.core.finish.looks import LOOKS
from vinter.core.finish.moves.core_light import CoreLight
from vinter.core.finish.moves.light_balance import LightBalance
from vinter.core.finish.render import Renderer, to_8bit
from vinter.core.finish.scene import prepare
from vinter.core.finish.smooth_glow import surface
from vinter.core.finish.star_white import StarWhite
from vinter.core.finish.suggestion import by_stars, night_white, suggest
from vinter.core.frames.frame import Colour
from vinter.core.stack.photometry.sky_light import under_moon

COLOUR = Colour((0.46, 1.0, 0.71))
SKY = np.array([0.0092, 0.02, 0.0142])  # grey in this camera's colours
H, W = 480, 640


def scene(ground=0.3, night=True, tilt=0.0, corner=0.0):
    """A grey sky of even light over ground of a share of it; a corner darker by a share."""
    rng = np.random.default_rng(1)
    y, x = np.mgrid[:H, :W]
    sky = np.where(y < 0.75 * H, 255, 0).astype(np.uint8)
    light = np.ones((H, W)) * (1 + tilt * x / W)
    light *= 1 - corner * np.clip((x / W - 0.8) * 5, 0, 1) * np.clip((y / H - 0.4) * 3, 0, 1)
    light = np.where(sky > 0, light, ground)
    rgb = light[..., None] * SKY * (1 + rng.normal(0, 0.01, (H, W, 3)))
    return prepare(rgb.astype(np.float32), sky, COLOUR, night=night)


def levels(made, recipe):
    picture = to_8bit(Renderer(made).render(recipe))[..., 1]
    return float(np.median(picture[made.sky > 0.98])), float(np.median(picture[made.sky < 0.02]))


@pytest.mark.parametrize("look", LOOKS)
@pytest.mark.parametrize("ground", [0.05, 0.3, 1.0, 1.6])
def test_ground_however_bright_is_not_paler_than_the_sky(look, ground):
    """From a dark field to snow under the Moon."""
    made = scene(ground)
    sky, below = levels(made, LOOKS[look][1](made))
    assert below < sky and sky > 20


@pytest.mark.parametrize("ground", [0.2, 0.9])
def test_under_a_moon_sky_and_ground_are_brighter(ground):
    made = scene(ground)
    dark, lit = (levels(m, suggest(m)) for m in (made, replace(made, moonlit=True)))
    assert lit[0] > 1.25 * dark[0] and lit[1] > 1.1 * dark[1] and lit[1] < lit[0]


def test_a_sky_is_moonlit_when_it_is_brighter_than_its_moonless_zenith_allows():
    dark = {"zenith": 21.5, "by_altitude": [[22.0, 20.7], [46.0, 21.2]]}
    town = {"zenith": 20.2, "by_altitude": [[22.0, 19.1], [54.0, 19.9]]}
    moon = {"zenith": 21.3, "by_altitude": [[22.0, 18.2], [46.0, 18.8]]}
    assert [under_moon(s) for s in (dark, town, moon, None, {}, {"zenith": 21.0, "by_altitude": []})] == [
        False, False, True, False, False, False,
    ]  # fmt: skip


def test_dark_ground_is_lifted_and_bright_ground_is_not():
    dark, bright = (suggest(scene(g)).of(LightBalance) for g in (0.1, 1.2))
    assert dark.ground.brightness > dark.sky.brightness - 0.5
    assert bright.ground.brightness < bright.sky.brightness - 1.0


def test_water_that_mirrors_is_not_brighter_than_its_sky():
    made = scene(0.1)
    rgb = made.rgb.copy()
    rgb[int(0.9 * H) :] = SKY.astype(np.float32) * np.float32(0.7)  # a third of the ground is a pond
    pond = replace(made, rgb=rgb)
    picture = to_8bit(Renderer(pond).render(suggest(pond)))[..., 1].astype(float)
    assert np.median(picture[int(0.93 * H) :]) < np.median(picture[pond.sky > 0.98])


def test_white_and_cast_are_the_stars_a_little_cooler_and_none_is_invented():
    plain = scene()
    assert night_white(plain)[1] == 0.0
    told = replace(plain, white=StarWhite(red=0.5, blue=0.62, red_error=0.02, blue_error=0.02, stars=80))
    kelvin, cast = by_stars(told)
    balance = suggest(told).of(LightBalance)
    assert balance.sky.kelvin == pytest.approx(kelvin - 250, abs=10) and abs(balance.sky.cast - cast) < 0.001
    assert balance.ground.cast == balance.sky.cast != 0
    grey = to_8bit(Renderer(plain).render(suggest(plain)))[: H // 2].reshape(-1, 3)
    red, green, blue = np.median(grey, axis=0)
    assert abs(green - (red + blue) / 2) < 5  # a grey sky goes neither green nor magenta


def test_the_cores_light_is_laid_only_where_the_core_is(monkeypatch):
    made = scene()
    assert suggest(made).of(CoreLight).brightness > 0  # no field: the brightest place may be it
    monkeypatch.setattr(type(made), "holds_core", property(lambda self: False))
    assert suggest(made).of(CoreLight).brightness == 0


@pytest.mark.parametrize("corner", [0.3, 0.6])
def test_the_smooth_glow_does_not_run_away_over_a_dark_corner(corner):
    made = scene(tilt=0.3, corner=corner)
    x, y = np.meshgrid((np.arange(64) + 0.5) / 64, (np.arange(48) + 0.5) / 48)
    glow = surface(made.glow, x, y)[..., 1]
    shown = made.rgb[..., 1].reshape(48, 10, 64, 10).mean(axis=(1, 3))
    sky = made.sky.reshape(48, 10, 64, 10).mean(axis=(1, 3)) > 0.98
    assert (glow / shown)[sky].max() < 1 + corner * 0.6
