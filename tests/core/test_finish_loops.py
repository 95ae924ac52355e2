"""The compiled loops of the finish against the library's plain ways."""

import cv2
import numpy as np
import pytest

from vinter.core.finish.loops.grain import COLUMNS, ROWS, calmer, colours_of, details, weights
from vinter.core.finish.loops.neighbours import drawn_in
from vinter.core.finish.loops.pixels import light_of, shrunk
from vinter.core.finish.loops.star_light import disc, over_opening, thinner


@pytest.mark.parametrize("wide", [3, 5, 7])
def test_what_stands_over_a_disc_is_what_an_opening_takes_away(wide):
    rgb = np.random.default_rng(2).random((57, 83, 3)).astype(np.float32)
    light = light_of(rgb, 1e6)
    shape = cv2.getStructuringElement(cv2.MORPH_ELLIPSE, (wide, wide))
    wanted = light - cv2.morphologyEx(light, cv2.MORPH_OPEN, shape)
    assert over_opening(rgb, disc(wide)) == pytest.approx(wanted, abs=1e-6)


def test_a_star_is_worn_down_to_the_least_about_it_and_the_sky_stays():
    rgb = np.full((70, 40, 3), 0.2, np.float32) + np.random.default_rng(4).random((70, 40, 3)) * 0.01
    rgb = rgb.astype(np.float32)
    rgb[31:34, 0:3] += 0.5  # at the edge, across two bands of rows that are worked apart
    rgb[50, 20] += 0.6
    whole, half = (
        thinner(rgb, np.ones((70, 40), np.float32), disc(5), much, 0.02, 0.1) for much in (1.0, 0.5)
    )
    assert whole[50, 20].max() < 0.22 and whole[50, 20] == pytest.approx(
        rgb[49:52, 19:22].min(axis=(0, 1)), abs=0.01
    )
    assert half[50, 20] == pytest.approx((rgb[50, 20] + whole[50, 20]) / 2, abs=1e-6)
    assert whole[32, 0] == pytest.approx(rgb[31:34, 0:2].reshape(-1, 3).min(axis=0), abs=1e-6)
    assert np.array_equal(whole[:25], rgb[:25])


def test_smoothing_weighs_what_lies_about_a_pixel_as_a_gaussian_does():
    rgb = np.random.default_rng(5).random((50, 60, 3)).astype(np.float32)
    luma = cv2.cvtColor(rgb, cv2.COLOR_RGB2YCrCb)[..., 0]
    for sigma in (0.6, 0.87, 1.74, 2.2):
        soft = cv2.GaussianBlur(luma, (0, 0), sigma)
        assert details(rgb, weights(sigma)) == pytest.approx((luma - soft)[::ROWS, ::COLUMNS], abs=3e-3)
        calm = calmer(
            rgb,
            colours_of(shrunk(rgb, 2)),
            weights(sigma),
            luma * 0 + 1,
            np.array([[0.0, 0.0], [1.0, 1.0]]),
            np.full(2, 1e6),
        )
        # grain so strong that nothing stands out of it: all light is smoothed, and the colours stay
        assert cv2.cvtColor(calm, cv2.COLOR_RGB2YCrCb)[..., 0] == pytest.approx(soft, abs=3e-3)
        assert calm - rgb == pytest.approx(np.repeat((soft - luma)[..., None], 3, axis=2), abs=4e-3)


def test_a_colour_is_drawn_in_about_the_middle_and_the_others_stay():
    soft = cv2.GaussianBlur(np.random.default_rng(3).random((90, 130, 3)).astype(np.float32), (0, 0), 2.5)
    larger, middle = np.array([1.02, 1.0, 0.985]), np.array([60.0, 41.0])
    out = drawn_in(soft, larger, middle)
    y, x = np.mgrid[:90, :130].astype(np.float32)
    for c in range(3):
        at = [(v - m) * larger[c] + m for v, m in ((x, middle[0]), (y, middle[1]))]
        wanted = cv2.remap(
            soft[..., c],
            *(v.astype(np.float32) for v in at),
            cv2.INTER_CUBIC,
            borderMode=cv2.BORDER_REPLICATE,
        )
        assert np.abs(out[..., c] - wanted).max() < 0.01
    assert np.array_equal(out[..., 1], soft[..., 1])
