"""Star shapes over the frame: the causes told apart on frames drawn with each of them."""

import numpy as np
import pytest

from vinter.core.frames.adaptive_moments import shapes
from vinter.core.frames.psf_map import cells, diagnosis

SIZE = (1600, 1200)
POLE = np.array([800.0, -900.0])


def frame(length, direction, sigma):
    """Stars drawn as streaks on a half-size plane; each argument a function of the place in full px."""
    rng = np.random.default_rng(11)
    plane = rng.normal(0, 3, (SIZE[1] // 2, SIZE[0] // 2))
    places = np.array(
        [(x, y) for x in np.arange(60, SIZE[0] - 60, 70) for y in np.arange(60, SIZE[1] - 60, 70)], float
    )
    places += rng.uniform(-8, 8, places.shape)
    j, i = np.mgrid[-14:15, -14:15]
    for x, y in places:
        cx, cy = (x - 0.5) / 2, (y - 0.5) / 2
        xi, yi, spot = int(cx), int(cy), np.zeros(i.shape)
        for s in np.linspace(-0.5, 0.5, 15):
            dx, dy = (
                s * length(x, y) / 2 * np.cos(direction(x, y)),
                s * length(x, y) / 2 * np.sin(direction(x, y)),
            )
            spot += np.exp(
                -((i + xi - cx - dx) ** 2 + (j + yi - cy - dy) ** 2) / (2 * (sigma(x, y) / 2) ** 2)
            )
        plane[yi - 14 : yi + 15, xi - 14 : xi + 15] += 3000 * spot / spot.max()
    return plane.astype(np.float32), places


def seen(length=lambda x, y: 0.0, direction=lambda x, y: 0.0, sigma=lambda x, y: 1.7):
    plane, xy = frame(length, direction, sigma)
    width, long, angle = shapes(plane, (xy[:, 0] - 0.5) / 2, (xy[:, 1] - 0.5) / 2)
    return cells(xy[:, 0], xy[:, 1], width, long, angle, SIZE)


def test_each_cause_is_told():
    around = [
        lambda x, y: 0.006 * np.hypot(*(np.array([x, y]) - POLE)),
        lambda x, y: np.arctan2(y - POLE[1], x - POLE[0]) + np.pi / 2,
    ]
    assert diagnosis(seen()) == "round everywhere"
    assert "shake" in diagnosis(seen(lambda x, y: 9.0, lambda x, y: 0.6))
    assert "turns over the frame" in diagnosis(seen(*around))
    assert "wider at the right" in diagnosis(seen(sigma=lambda x, y: 1.4 + 1.6 * x / SIZE[0]))
    spread = [lambda x, y: 9.0, lambda x, y: np.arctan2(y - 600, x - 800)]
    assert "different ways" in diagnosis(seen(*spread))
    assert "too few" in diagnosis([])


def test_cells_carry_the_direction_that_was_drawn():
    grid = seen(lambda x, y: 9.0, lambda x, y: 0.6)
    assert len(grid) == 12 and all(abs(c.angle - np.degrees(0.6)) < 4 for c in grid)
    assert all(c.elongation > 1.6 for c in grid)


def test_a_measured_frame_carries_its_map(tmp_path):
    from starfield import Field, make

    from vinter.core.frames.measuring import measure
    from vinter.core.frames.reading import read_frame

    make(tmp_path, Field(count=1, streak=None))
    found = measure(read_frame(tmp_path / "IMG_0000.dng"))
    assert len(found.shapes) >= 8 and found.shapes_say == "round everywhere"
    assert max(c.fwhm for c in found.shapes) == pytest.approx(2.3548 * 1.4, rel=0.2)
