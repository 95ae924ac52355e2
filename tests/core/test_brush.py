"""Painting the sky mask: a wrong region is put right, its border on the picture's edge; nothing moves
elsewhere."""

import numpy as np
import pytest

from vinter.core.errors import BadInput
from vinter.core.stack.masking.brush import Stroke, painted

HEIGHT, WIDTH, ROOF = 300, 400, (180, 260)
SKYLINE = np.where(
    (np.arange(WIDTH) > ROOF[0]) & (np.arange(WIDTH) < ROOF[1]), 150, 220
)  # a house above a flat shore


def scene():
    """A noisy bright sky over dark ground, and which of it is sky."""
    sky = np.arange(HEIGHT)[:, None] < SKYLINE[None, :]
    rng = np.random.default_rng(5)
    picture = np.where(sky, 0.08, 0.012) * (1 + 0.08 * rng.standard_normal((HEIGHT, WIDTH)))
    return picture.astype(np.float32), sky


def test_a_house_taken_for_sky_is_painted_in_and_its_edges_are_found():
    picture, sky = scene()
    wrong = np.where(np.arange(HEIGHT)[:, None] < 220, 255, 0).repeat(WIDTH, 1).astype(np.uint8)
    stroke = Stroke(
        ((200.0, 180.0), (240.0, 180.0), (240.0, 210.0), (200.0, 210.0)), 28.0, sky=False
    )  # careless: 8 px over the edges
    after = painted(wrong, [stroke], picture) > 127
    assert np.count_nonzero(after != sky) < 0.12 * np.count_nonzero((wrong > 127) != sky)
    row = np.flatnonzero(~after[185])
    assert abs(row.min() - ROOF[0] - 1) <= 3 and abs(row.max() - ROOF[1] + 1) <= 3
    assert np.array_equal(after[:, :100], wrong[:, :100] > 127)


def test_a_later_stroke_wins_and_the_border_is_feathered():
    picture, _ = scene()
    blank = np.full((HEIGHT, WIDTH), 255, np.uint8)
    line = ((40.0, 60.0), (120.0, 60.0))
    ground = painted(blank, [Stroke(line, 12.0, sky=False)], picture)
    assert ground[60, 80] == 0 and 0 < ground[48:73, 80].max() < 256 and len(np.unique(ground)) > 20
    assert painted(blank, [Stroke(line, 12.0, sky=False), Stroke(line, 20.0, sky=True)], picture).min() == 255


def test_what_cannot_be_painted_is_refused():
    picture, _ = scene()
    with pytest.raises(BadInput, match="radius"):
        Stroke(((1.0, 1.0),), 0.0, sky=True)
    with pytest.raises(BadInput, match="points"):
        Stroke((), 5.0, sky=True)
    with pytest.raises(BadInput, match="size"):
        painted(np.zeros((5, 5), np.uint8), [], picture)
    with pytest.raises(BadInput, match="strokes"):
        painted(np.zeros((HEIGHT, WIDTH), np.uint8), [Stroke(((1.0, 1.0),), 5.0, sky=True)] * 401, picture)
    off = Stroke(((-900.0, -900.0),), 5.0, sky=False)
    assert painted(np.full((HEIGHT, WIDTH), 255, np.uint8), [off], picture).min() == 255
