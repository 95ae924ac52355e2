"""Samples through a homography: against a function that is known everywhere, and against whole shifts that
must change nothing."""

import numpy as np
import pytest

from vinter.core.stack.registration.resample import STEEPEST, resample

SIZE = 260


def bumps(x, y):
    """Round stars of 1.5 px deviation, 26 px apart, on a sky that rises to the right; three colours of
    different height."""
    star = np.exp(-(((x % 26) - 13) ** 2 + ((y % 26) - 13) ** 2) / (2 * 1.5**2))
    return np.stack([6000 + 4 * x + k * star for k in (3000, 8000, 15000)], axis=-1)


def turned(degrees, scale=1.0, tilt=0.0):
    a = np.radians(degrees)
    about = np.array([[1, 0, SIZE / 2], [0, 1, SIZE / 2], [0, 0, 1]])
    turn = np.array(
        [
            [scale * np.cos(a), -scale * np.sin(a), 0.37],
            [scale * np.sin(a), scale * np.cos(a), -2.81],
            [tilt, -tilt, 1],
        ]
    )
    return about @ turn @ np.linalg.inv(about)


def sampled(to_frame):
    y, x = np.mgrid[0:SIZE, 0:SIZE].astype(float)
    out = np.empty((SIZE, SIZE, 3), np.uint16)
    resample(bumps(x, y).round().astype(np.uint16), to_frame, out)
    h = np.stack([x, y, np.ones_like(x)], axis=-1) @ to_frame.T
    u, v = h[..., 0] / h[..., 2], h[..., 1] / h[..., 2]
    inside = (u > 4) & (u < SIZE - 5) & (v > 4) & (v < SIZE - 5)
    return out, bumps(u, v), inside


@pytest.mark.parametrize(
    ("degrees", "scale", "tilt"),
    [
        (0, 1, 0),
        (0.2, 1, 0),
        (1.5, 1.001, 2e-6),
        (-6, 0.99, -1e-5),
        (6.5, 1.01, 0),
        (25, 1, 0),
        (90, 1, 0),
        (180, 1, 0),
        (3, 1, 4e-5),
    ],
)
def test_a_known_function_comes_out_where_the_homography_puts_it(degrees, scale, tilt):
    out, truth, inside = sampled(turned(degrees, scale, tilt))
    assert inside.mean() > 0.6
    error = (out - truth)[inside]
    assert (
        np.abs(error).max() < 0.01 * 15000
    )  # what a cubic through the samples of so narrow a star can miss at its top
    assert error.std(axis=0).max() < 18 and abs(error.mean()) < 1
    slope = np.stack(np.gradient(truth[..., 2]), axis=-1)[inside]
    shift = np.linalg.lstsq(slope, error[:, 2], rcond=None)[0]
    assert np.abs(shift).max() < 0.01


def test_whole_shifts_change_no_sample_and_places_off_the_frame_take_its_edge():
    frame = np.random.default_rng(3).integers(1, 65535, (90, 120, 3)).astype(np.uint16)
    for dx, dy in ((0, 0), (5, -3), (-7, 11), (40, 2), (-130, 0), (0, 200)):
        out = np.empty((90, 120, 3), np.uint16)
        resample(frame, np.array([[1, 0, dx], [0, 1, dy], [0, 0, 1.0]]), out)
        rows, columns = np.clip(np.arange(90) + dy, 0, 89), np.clip(np.arange(120) + dx, 0, 119)
        assert np.array_equal(out, frame[np.ix_(rows, columns)])


def test_both_ways_agree_where_one_takes_over_from_the_other():
    frame = bumps(*np.mgrid[0:SIZE, 0:SIZE].astype(float)[::-1]).round().astype(np.uint16)
    edge = np.degrees(np.arcsin(STEEPEST))
    level, steep = (np.empty_like(frame) for _ in range(2))
    resample(frame, turned(edge - 1e-7), level)
    resample(frame, turned(edge + 1e-7), steep)
    difference = level[30:-30, 30:-30].astype(float) - steep[30:-30, 30:-30]
    assert 0 < difference.std() < 15  # not one and the same, but alike


def test_beside_a_very_bright_star_no_sample_is_lost():
    frame = np.full((60, 60, 3), 300, np.uint16)
    frame[30, 30] = 65535
    out = np.empty((60, 60, 3), np.uint16)
    resample(frame, np.array([[1, 0, 0.4], [0, 1, 0.4], [0, 0, 1.0]]), out)
    assert (
        out.min() >= 1 and out.max() > 20000
    )  # the kernel undershoots; 0 would mean that there is no sample
