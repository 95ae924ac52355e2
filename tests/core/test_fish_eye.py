"""Fish-eye pictures solved from their stars alone, against skies drawn by the laws of such lenses as books
give them."""

import numpy as np
import pytest
from scipy.spatial.transform import Rotation

from vinter.core.camera.projection import fish_pixels, fish_rays
from vinter.core.sky.catalogue import stars_to
from vinter.core.stack.examination import Circumstances, field_of, mirrored_xy
from vinter.core.stack.fish_eye import fills_a_circle, solve_fish_eye

LAWS = {
    "equal angles": lambda a: a,
    "equal areas": lambda a: 2 * np.sin(a / 2),
    "stereographic": lambda a: 2 * np.tan(a / 2),
}


def drawn(law, size, turn, rng, across="short", centre=None, false=20):
    """Stars of a picture (n, 2), brightest first, with scatter, some of them missing and false ones among
    them."""
    vectors, v, _ = stars_to(5.5)
    rays = vectors @ turn.T
    angle = np.arccos(np.clip(rays[:, 2], -1, 1))
    reach = (min(size) if across == "short" else np.hypot(*size)) / 2
    r = LAWS[law](angle) / LAWS[law](np.pi / 2) * reach
    flat = np.hypot(rays[:, 0], rays[:, 1])
    middle = np.array(centre or ((size[0] - 1) / 2, (size[1] - 1) / 2))
    xy = middle + r[:, None] * rays[:, :2] / flat[:, None]
    seen = (angle < np.pi / 2) & (xy > 0).all(axis=1) & (xy < np.array(size)).all(axis=1)
    seen &= rng.random(len(v)) > 0.25
    order = np.argsort(v[seen] + rng.normal(0, 0.25, seen.sum()))
    found = xy[seen][order] + rng.normal(0, 0.25, (seen.sum(), 2))
    wrong = middle + rng.uniform(-1, 1, (false, 2)) * reach * 0.7
    return np.insert(found[:200], rng.integers(0, 200, false), wrong, axis=0)


@pytest.mark.parametrize(
    ("law", "size", "across", "centre"),
    [
        ("equal angles", (512, 512), "short", (249.0, 261.0)),
        ("equal areas", (640, 480), "short", None),
        ("equal areas", (1600, 1200), "diagonal", None),
        ("stereographic", (1024, 1024), "short", (515.0, 508.0)),
    ],
)
def test_a_whole_sky_is_solved_from_nothing(law, size, across, centre):
    rng = np.random.default_rng(len(law) + size[0])
    turn = Rotation.random(random_state=4 + size[1]).as_matrix()
    field = solve_fish_eye(drawn(law, size, turn, rng, across, centre), size)
    assert field is not None and field.matched > 60 and field.rms_px < 1.2
    off = Rotation.from_matrix(np.array(field.rotation) @ turn.T).magnitude()
    assert np.degrees(off) < 0.35
    if centre:
        assert np.hypot(*(np.array(field.middle) - centre)) < 1.5
    # a place half way to the edge means the direction that the lens's own law gives it
    angle = np.radians(50)
    reach = (
        LAWS[law](angle) / LAWS[law](np.pi / 2) * (min(size) if across == "short" else np.hypot(*size)) / 2
    )
    middle = np.array(centre or ((size[0] - 1) / 2, (size[1] - 1) / 2))
    for way in ((1, 0), (0, -1)):
        at = middle + reach * np.array(way)
        wanted = np.array([np.sin(angle) * way[0], np.sin(angle) * way[1], np.cos(angle)]) @ turn
        seen = field.directions(at[None])[0]
        assert np.degrees(np.arccos(np.clip(seen @ wanted, -1, 1))) < 0.6


def test_chance_and_mirrored_skies_are_not_believed():
    rng = np.random.default_rng(5)
    assert solve_fish_eye(rng.uniform(0, 512, (150, 2)), (512, 512)) is None
    turn = Rotation.random(random_state=2).as_matrix()
    stars = drawn("equal angles", (512, 512), turn, rng)
    assert solve_fish_eye(mirrored_xy(stars, 512), (512, 512)) is None
    assert solve_fish_eye(stars[:10], (512, 512)) is None


def test_a_picture_of_unknown_lens_is_tried_as_one_and_its_places_are_there_and_back():
    rng = np.random.default_rng(6)
    turn = Rotation.random(random_state=9).as_matrix()
    stars = drawn("equal areas", (640, 480), turn, rng)
    assert fills_a_circle(stars, (640, 480))
    field = field_of(stars, (640, 480), Circumstances())
    assert not isinstance(field, str) and field.layout == "fish-eye"
    xy = rng.uniform(100, 400, (50, 2))
    x, y, front = field.places(field.directions(xy))
    assert front.all() and np.abs(np.c_[x, y] - xy).max() < 0.01


def test_stars_of_other_pictures_fill_no_circle():
    rng = np.random.default_rng(8)
    everywhere = rng.uniform(0, 1, (300, 2)) * [1000, 1000]
    over_ground = rng.uniform(0, 1, (300, 2)) * [1000, 600]
    assert not fills_a_circle(everywhere, (1000, 1000)) and not fills_a_circle(over_ground, (1000, 1000))
    assert not fills_a_circle(rng.normal(500, 60, (300, 2)), (1000, 1000))  # a cluster


def test_the_law_is_its_own_inverse():
    rng = np.random.default_rng(7)
    xy = rng.uniform(0, 1000, (300, 2))
    xy = xy[np.hypot(*(xy - [500, 490]).T) < 540]  # as far as the most bent of them reaches
    for k in (-0.05, 0.0, 0.08):
        rays = fish_rays(xy, 330.0, k, (500.0, 490.0))
        assert np.abs(np.linalg.norm(rays, axis=1) - 1).max() < 1e-9
        assert np.abs(fish_pixels(rays, 330.0, k, (500.0, 490.0)) - xy).max() < 1e-4
    # straight ahead, to the side and behind: 0, 90 and 120 degrees as distances
    rays = np.array([[0, 0, 1.0], [1, 0, 0], [0, np.sin(np.radians(120)), np.cos(np.radians(120))]])
    at = fish_pixels(rays, 100.0, 0.0, (0.0, 0.0))
    assert at == pytest.approx(np.array([[0, 0], [50 * np.pi, 0], [0, 100 * np.radians(120)]]), abs=1e-6)
