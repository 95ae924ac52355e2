"""What is taken off the sky at the edge of the ground."""

import numpy as np
import pytest

from vinter.core.finish.canvas import Canvas
from vinter.core.finish.ground_light import ground_light
from vinter.core.finish.linear_light import LinearLight
from vinter.core.finish.scene import prepare
from vinter.core.frames.frame import Colour

GROUND, SKY = 0.004, 0.1
LEVEL = np.full(3, 0.08, np.float32)


def edge(share, light, texture=0.0):
    """Sky over ground, and between them a row of a share of sky and of a light of its own."""
    rgb = np.full((80, 120, 3), GROUND, np.float32)
    rgb *= 1 + texture * np.random.default_rng(1).normal(0, 1, rgb.shape).astype(np.float32)
    rgb[:40], rgb[40] = SKY, light
    sky = np.zeros((80, 120), np.float32)
    sky[:40], sky[40] = 1, share
    return Canvas(rgb, sky, np.eye(3), np.ones(3))


def taken(canvas, smooth=SKY, **more):
    light = {
        "smooth": np.full((1, 1, 3), smooth, np.float32),
        "below": np.full((5, 8, 3), GROUND, np.float32),
    }
    return LinearLight(level=LEVEL, **light, **more).on(canvas).rgb


@pytest.mark.long("a loop is compiled")
@pytest.mark.parametrize("share", [0.02, 0.05, 0.1])
def test_ground_that_is_called_a_little_sky_does_not_turn_black(share):
    """A share too large by a hundredth would take all the light that dark ground has."""
    row = taken(edge(share, GROUND))[40]
    assert row == pytest.approx(0.85 * GROUND, rel=0.2)


@pytest.mark.parametrize("share", [0.2, 0.45, 0.8, 1.0])
def test_the_skys_light_in_an_edge_goes_as_it_does_in_the_sky(share):
    light = share * SKY + (1 - share) * GROUND
    out = taken(edge(share, light))
    assert out[40] == pytest.approx(light - share * 0.08, rel=0.02)
    assert out[:40] == pytest.approx(SKY - 0.08, rel=1e-3) and out[41:] == pytest.approx(GROUND, rel=1e-3)


def test_an_edge_is_as_bright_as_its_ground_in_the_mean():
    share = np.full((120, 1), 0.1, np.float32)
    grain = np.random.default_rng(2).normal(0, 0.3 * GROUND, (120, 3))
    row = taken(edge(share[:, 0], 0.1 * SKY + 0.9 * (GROUND + grain), 0.3))[40].mean()
    assert row == pytest.approx(0.1 * (SKY - 0.08) + 0.9 * GROUND, rel=0.05)


def test_brightened_corners_brighten_the_ground_that_an_edge_keeps():
    gain = np.full((5, 8, 1), 2.0, np.float32)
    row = taken(edge(0.05, GROUND), smooth=2 * SKY, gain=gain)[40]
    assert row == pytest.approx(2 * GROUND - 0.4 * (2 * GROUND - 0.95 * 0.75 * 2 * GROUND), rel=0.03)


def test_what_is_mostly_sky_keeps_the_grain_of_the_sky():
    grain = np.random.default_rng(3).normal(0, 0.3 * SKY, (120, 3))
    share, light = np.r_[0.1, np.full(119, 0.8)], 0.8 * SKY + 0.2 * GROUND + grain
    assert taken(edge(share, light))[40, 1:].mean() == pytest.approx(light[1:].mean() - 0.8 * 0.08)


def test_the_grounds_light_is_known_near_ground_alone():
    canvas = edge(0.5, 1.0)
    scene = prepare(canvas.rgb, np.asarray(canvas.sky * 255, np.uint8), Colour())
    scene.rgb[41:] = GROUND
    found = ground_light(scene)
    assert found[-1] == pytest.approx(GROUND, rel=1e-3) and found[0] == pytest.approx(0)
    scene.rgb[41:] *= 2  # it is worked out once
    assert np.array_equal(ground_light(scene), found)
