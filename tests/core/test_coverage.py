"""How much of a pixel is sky along the skyline, on drawn edges."""

import cv2
import numpy as np
import pytest

from vinter.core.finish.coverage import covered

SIZE = (300, 420)


def drawn(sky: float, ground: float, wings: float, seed: int) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """A hilly skyline through a lens with wings: picture, the mask's edge (three times as wide as the
    picture's own), and the true ground with its texture."""
    rng = np.random.default_rng(seed)
    y, x = np.mgrid[: SIZE[0], : SIZE[1]].astype(float)
    true = np.clip(150 + 12 * np.sin(x / 40) - y + 0.5, 0, 1)
    texture = ground * (1 + 0.25 * cv2.GaussianBlur(rng.normal(0, 2, SIZE), (0, 0), 1.5))
    light = true * sky + (1 - true) * texture
    seen = (1 - wings) * cv2.GaussianBlur(light, (0, 0), 0.6) + wings * cv2.GaussianBlur(light, (0, 0), 1.8)
    rgb = np.repeat((seen + rng.normal(0, 0.02 * ground, SIZE))[..., None], 3, axis=2).astype(np.float32)
    return rgb, cv2.GaussianBlur(true, (0, 0), 1.2).astype(np.float32), texture


@pytest.mark.parametrize("seed", [3, 4])
def test_the_first_row_of_ground_is_as_dark_as_the_next_once_the_sky_is_taken_off(seed):
    sky, ground = 1.0, 0.06
    rgb, mask, texture = drawn(sky, ground, 0.12, seed)
    left = rgb[..., 1] - covered(rgb, mask) * (sky - ground)
    first = np.argmax(covered(rgb, mask) < 0.3, axis=0)
    columns = np.arange(SIZE[1])
    rows = [float(np.median(left[first + k, columns])) for k in range(8)]
    true = [float(np.median(texture[first + k, columns])) for k in range(8)]
    for k in range(4):
        assert rows[k] == pytest.approx(true[k], abs=0.1 * ground), (k, rows, true)
    # what lies farther is ground and nothing else
    assert covered(rgb, mask)[200:].max() == 0


def test_a_bright_wall_below_the_sky_is_not_taken_for_its_light():
    rgb, mask, _ = drawn(1.0, 0.06, 0.0, 5)
    wall = mask[:, 200:260] < 0.002
    rgb[:, 200:260][wall] += 0.03
    assert covered(rgb, mask)[170:, 200:260].max() == 0


def test_under_a_towns_dome_the_edge_is_no_more_sky_than_it_is():
    """The sky beside the ground is three times as bright as half of the sky: with its share of sky put too
    high, houses got a black outline."""
    sharp = (np.arange(SIZE[0])[:, None] < 230) * np.ones(SIZE[1])
    sharp[10:30, 10:30] = 0  # a sign high up: the picture's whole sky is looked at
    true = cv2.GaussianBlur(sharp, (0, 0), 1.0)
    sky = 1 + 5 * (np.arange(SIZE[0]) / 230)[:, None] ** 2
    rgb = np.repeat((true * sky + (1 - true) * 0.05)[..., None], 3, axis=2).astype(np.float32)
    share = covered(rgb, cv2.GaussianBlur(true, (0, 0), 1.2).astype(np.float32))
    assert share[224:236] == pytest.approx(true[224:236], abs=0.09)


def test_leaves_and_twigs_that_the_mask_passed_over_are_ground_as_far_as_they_are():
    """A twig of half a pixel lets half of the sky's light through: none of it is taken for light of its
    own."""
    rng = np.random.default_rng(7)
    true = np.ones(SIZE)
    true[200:] = 0
    leaf, twig = np.s_[180:186, 100:106], np.s_[150:200, 300:302]
    true[leaf], true[twig] = 0, 0.5
    light = cv2.GaussianBlur(true + 0.08 * (1 - true), (0, 0), 0.8) + rng.normal(0, 0.01, SIZE)
    rgb = np.repeat(light[..., None], 3, axis=2).astype(np.float32)
    mask = np.ones(SIZE, np.float32)
    mask[200:] = 0
    share = covered(rgb, cv2.GaussianBlur(mask, (0, 0), 1.2))
    seen = cv2.GaussianBlur(true, (0, 0), 0.8)
    assert share[181:185, 101:105].max() < 0.15
    assert share[175:190, 300:302] == pytest.approx(seen[175:190, 300:302], abs=0.12)
    assert share[20:140].min() >= 1  # far from the ground nothing is asked


@pytest.mark.filterwarnings("error")
def test_a_picture_without_a_sky_has_no_edge_to_look_at():
    """A sky of a few pixels whose surroundings are ground: nothing is divided by nothing."""
    rgb = np.random.default_rng(6).uniform(0.1, 0.2, (120, 160, 3)).astype(np.float32)
    mask = np.zeros((120, 160), np.float32)
    mask[60, 40:44] = 0.4
    assert np.array_equal(covered(rgb, mask), mask)
