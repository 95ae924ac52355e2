"""Samples put in order by a network of exchanges, and what is read off them; places under a moving window."""

import numpy as np
import pytest

from vinter.core.frames.windowed import windowed
from vinter.core.stack.combining.ordering import middle, network, order, scatter


@pytest.mark.parametrize("count", [1, 2, 3, 7, 11, 16, 20, 33, 64, 101])
def test_any_number_of_samples_is_put_in_order(count):
    drawn = np.random.default_rng(count)
    rows = drawn.integers(0, 40, (count, 300)).astype(np.uint16)  # many of them alike
    found = rows.copy()
    order(found, network(count))
    assert np.array_equal(found, np.sort(rows, axis=0))


@pytest.mark.parametrize("count", [1, 2, 3, 8, 13, 20])
def test_median_and_scatter_are_of_the_samples_that_are_there(count):
    drawn = np.random.default_rng(count)
    rows = np.sort(drawn.integers(0, 60000, (count, 40)).astype(np.uint16), axis=0)
    for at in range(40):
        for given in range(1, count + 1):
            there = rows[count - given :, at].astype(float)
            centre = middle(rows, at, given)
            assert centre == np.median(there)
            assert scatter(rows, at, given, centre) == np.median(np.abs(there - centre))


def planted(places, sigma=0.9, size=(60, 80), sky=0.0):
    y, x = np.mgrid[: size[0], : size[1]]
    out = np.full(size, sky)
    for px, py in places:
        out += 500 * np.exp(-((x - px) ** 2 + (y - py) ** 2) / (2 * sigma**2))
    return out.astype(np.float32)


def test_a_star_is_placed_to_a_hundredth_from_a_pixel_aside():
    places = np.array([[20.3, 30.7], [50.0, 12.5], [3.2, 4.1]])
    x, y = windowed(planted(places), places[:, 0].round() + 0.4, places[:, 1].round() - 0.3, 1.3)
    assert np.hypot(x - places[:, 0], y - places[:, 1])[:2].max() < 0.01
    assert np.hypot(x[2] - 3.2, y[2] - 4.1) < 0.05  # the frame's edge cuts its window


def test_where_no_light_is_there_is_no_place():
    x, y = windowed(np.zeros((40, 40), np.float32), np.array([20.0]), np.array([20.0]), 1.3)
    assert np.isnan([x, y]).all()
    x, y = windowed(np.full((40, 40), -3, np.float32), np.array([20.0]), np.array([20.0]), 1.3)
    assert np.isnan([x, y]).all()
