"""Branches, leaves and the gaps between them: the share of sky against drawn trees."""

import cv2
import numpy as np
import pytest

from vinter.core.stack.masking.silhouette import in_detail, sky_level
from vinter.core.stack.masking.sky_mask import _holes_filled, _StarCounts, find_sky

HEIGHT, WIDTH = 420, 560


def sky_light():
    y, x = np.mgrid[:HEIGHT, :WIDTH].astype(np.float32)
    return 60 * (1 + 0.5 * y / HEIGHT + 0.4 * np.exp(-(((x - 180) / 120) ** 2)))


def tree(rng, fine=4):
    """True share of sky of a hill with a tree: drawn ``fine`` times as large and made small."""
    big = np.full((HEIGHT * fine, WIDTH * fine), 255, np.uint8)
    cv2.rectangle(big, (0, 340 * fine), (WIDTH * fine, HEIGHT * fine), 0, -1)

    def branch(x, y, angle, length, thick):
        to = (x + length * np.cos(angle), y - length * np.sin(angle))
        ends = [tuple(round(v * fine) for v in p) for p in ((x, y), to)]
        cv2.line(big, *ends, 0, max(round(thick * fine), 1), cv2.LINE_AA)
        if length > 24:
            for turn in (-0.45, 0.4):
                branch(*to, angle + turn + rng.normal(0, 0.1), length * 0.72, thick * 0.66)
        else:
            for at in rng.normal(to, 9, (10, 2)):
                cv2.circle(big, tuple(int(v * fine) for v in at), int(rng.uniform(1.5, 3) * fine), 0, -1)

    branch(280, 345, np.pi / 2, 84, 9)
    return cv2.resize(big, (WIDTH, HEIGHT), interpolation=cv2.INTER_AREA).astype(np.float32) / 255


def picture_of(rng, sky, ground_light=0.06, noise=1.2):
    light = sky_light()
    uneven = cv2.resize(rng.uniform(0.7, 1.3, (HEIGHT // 9, WIDTH // 9)).astype(np.float32), (WIDTH, HEIGHT))
    light = light * sky + ground_light * light * uneven * (1 - sky)
    return (light + rng.normal(0, noise, light.shape)).astype(np.float32)


def rough(sky):
    """The ground as brightness alone gives it: closed, its gaps filled, its leaves lost."""
    body = cv2.morphologyEx((sky < 0.5).astype(np.uint8), cv2.MORPH_OPEN, np.ones((5, 5), np.uint8))
    body = cv2.morphologyEx(body, cv2.MORPH_CLOSE, np.ones((9, 9), np.uint8))
    contours, _ = cv2.findContours(body, cv2.RETR_EXTERNAL, cv2.CHAIN_APPROX_NONE)
    largest = max(contours, key=cv2.contourArea)
    return cv2.drawContours(np.zeros_like(body), [largest], -1, 1, -1)


def likeness(found, true):
    """Intersection over union of ground, by shares."""
    return np.minimum(1 - found, 1 - true).sum() / np.maximum(1 - found, 1 - true).sum()


def never(piece, sky):
    return False


@pytest.mark.parametrize("seed", [1, 2, 3])
def test_a_tree_is_found_leaf_by_leaf(seed):
    rng = np.random.default_rng(seed)
    sky = tree(rng)
    before = rough(sky)
    found = in_detail(before, picture_of(rng, sky), never)
    assert likeness(found, sky) > 0.97 > likeness(1 - before.astype(float), sky)
    crown = np.s_[60:300, 150:420]
    assert likeness(found[crown], sky[crown]) > 0.8  # of leaves a few pixels wide and the gaps between them
    assert abs(float(found[crown].mean()) - float(sky[crown].mean())) < 0.02


def framed(rng, light, size=(30, 40), top=260):
    """A dark wall with an opening (high, wide) through which something of a share of the sky's light is
    seen."""
    sky = np.ones((HEIGHT, WIDTH), np.float32)
    sky[200:] = 0
    picture = picture_of(rng, sky)
    place = np.s_[top : top + size[0], 200 : 200 + size[1]]
    picture[place] = light * sky_light()[place] + rng.normal(0, 1.2, size)
    return (sky < 0.5).astype(np.uint8), picture


def test_an_opening_is_sky_when_its_light_is_the_skys_and_its_stars_agree():
    rng = np.random.default_rng(5)
    wall, picture = framed(rng, 1.0)
    inside = np.s_[264:286, 204:236]
    assert in_detail(wall, picture, never)[inside].min() > 0.9
    assert in_detail(wall, picture, lambda piece, sky: bool(piece.sum() > 400))[inside].max() < 0.1
    for light in (0.45, 2.5):  # a dim wall, a lit window
        wall, picture = framed(rng, light)
        assert np.median(in_detail(wall, picture, never)[inside]) == 0


BELOW_ROOF = np.s_[206:330, 170:270]


@pytest.mark.parametrize(("light", "top"), [(2.5, 245), (10.0, 245), (10.0, 220)])
@pytest.mark.parametrize("size", [(30, 40), (9, 6)])
def test_the_edge_of_a_lit_window_is_no_sky(light, top, size):
    """Between its light and the dark wall lies a line as light as the sky."""
    wall, picture = framed(np.random.default_rng(5), light, size, top)
    share = in_detail(wall, cv2.GaussianBlur(picture, (0, 0), 1.0), never)
    assert share[BELOW_ROOF].max() == 0


@pytest.mark.parametrize(
    ("light", "size", "blur"),
    [(4.0, (4, 3), 1.0), (4.0, (5, 5), 0.8), (2.5, (9, 6), 1.0), (2.5, (30, 40), 1.0), (40.0, (4, 3), 1.0)],
)
@pytest.mark.parametrize("top", [214, 228])
def test_a_window_close_under_the_roof_is_no_sky(light, size, blur, top):
    """However small: of its edge, nor of what the lens spreads about it."""
    for seed in (5, 6):
        wall, picture = framed(np.random.default_rng(seed), light, size, top)
        share = in_detail(wall, cv2.GaussianBlur(picture, (0, 0), blur), never)
        assert share[BELOW_ROOF].max() == 0


def test_an_opening_brighter_than_the_sky_is_a_window():
    wall, picture = framed(np.random.default_rng(5), 1.35, top=220)
    share = in_detail(wall, cv2.GaussianBlur(picture, (0, 0), 1.0), never)
    assert share[224:246, 204:236].max() == 0 and share[BELOW_ROOF].sum() < 15


def test_a_star_in_a_small_gap_leaves_it_sky():
    wall, picture = framed(np.random.default_rng(5), 1.0, (9, 9), top=220)
    picture[224, 204] += 2000
    found = in_detail(wall, cv2.GaussianBlur(picture, (0, 0), 0.8), never)
    assert found[222:227, 202:207].min() > 0.9


def test_a_small_light_far_below_the_roof_is_no_sky():
    """Not even one of the sky's own light."""
    wall, picture = framed(np.random.default_rng(5), 1.0, (9, 6), top=290)
    assert in_detail(wall, picture, never)[BELOW_ROOF].max() == 0


def test_a_small_gap_below_the_roof_is_sky():
    wall, picture = framed(np.random.default_rng(5), 1.0, (9, 6), top=220)
    assert in_detail(wall, picture, never)[222:227, 201:205].min() > 0.9


@pytest.mark.parametrize(("side", "is_sky"), [(62, True), (180, False)])
def test_beside_branches_stars_are_overlooked_and_a_small_gap_without_one_is_sky(side, is_sky):
    """As light as the sky and framed: of 62 px it would hold four stars by its size, under three
    off its border; of 180 px over thirty."""
    rng, middle = np.random.default_rng(7), np.array([280, 230])
    sky = np.ones((HEIGHT, WIDTH), np.float32)
    (left, top), (right, low) = (middle + sign * (side // 2 + 14) for sign in (-1, 1))
    sky[top:low, left:right] = 0
    sky[low - 4 :] = 0
    ground = (sky < 0.5).astype(np.uint8)
    sky[top + 14 : low - 14, left + 14 : right - 14] = 1
    stars = rng.uniform((0, 0), (WIDTH, HEIGHT), (round(3.85 / 62**2 * WIDTH * HEIGHT), 2))
    x, y = stars.astype(int).T
    counts = _StarCounts(stars[cv2.dilate(ground, np.ones((9, 9), np.uint8))[y, x] == 0], 1)
    found = in_detail(ground, picture_of(rng, sky), counts.starless)
    gap = found[top + 20 : low - 20, left + 20 : right - 20]
    assert gap.min() > 0.9 if is_sky else gap.max() < 0.1


def test_ground_as_light_as_the_sky_is_left_alone():
    rng = np.random.default_rng(6)
    sky = np.ones((HEIGHT, WIDTH), np.float32)
    sky[250:] = 0
    hill = (sky < 0.5).astype(np.uint8)
    assert np.array_equal(in_detail(hill, picture_of(rng, sky, ground_light=0.9), never), 1 - hill)
    everything = np.zeros_like(hill)
    assert in_detail(everything, picture_of(rng, sky), never).min() == 1


def test_the_skys_light_is_carried_over_the_ground():
    known = np.ones((HEIGHT, WIDTH), np.uint8)
    known[200:, 100:400] = 0
    log = np.log(sky_light()).astype(np.float32)
    off = sky_level(log, known) - log
    assert np.abs(off[:180]).max() < 0.06 and np.abs(off[200:220, 150:350]).max() < 0.12


@pytest.mark.parametrize(("low", "is_sky"), [(1.0, True), (0.8, False)])
def test_where_no_star_shows_the_light_tells_sky_from_ground(low, is_sky):
    """Haze or a Moon hides the stars near the horizon. Light that goes on without a step is the sky's, also
    between a trunk and the picture's edge; a step where the stars end is a shore."""
    rng = np.random.default_rng(5)
    height, width, shore = 400, 600, 170
    y, x = np.mgrid[:height, :width].astype(np.float32)
    plane = 100 + 30 * y / height + 6 * x / width
    plane[shore:] *= low
    plane[350:] = 12
    plane[:, 470:478][shore - 20 :] = 12  # a trunk
    plane += rng.normal(0, 0.6, plane.shape).astype(np.float32)
    stars = np.c_[rng.uniform(0, 2 * width, 3000), rng.uniform(0, 2 * (shore - 20), 3000)]
    mask = find_sky(plane.astype(np.float32), stars, (2 * width, 2 * height), frames=8)
    beside, left = mask[2 * 300, 2 * 560], mask[2 * 300, 2 * 200]
    assert ((beside > 250) == is_sky) and ((left > 250) == is_sky)
    assert mask[2 * 60, 2 * 560] > 250 and mask[2 * 375, 2 * 300] < 5 and mask[2 * 300, 2 * 474] < 128


@pytest.mark.parametrize("starry", [True, False])
def test_what_texture_adds_to_dark_ground_is_sky_where_stars_stand(starry):
    """The texture's outline runs from a roof to a hill, over the sky between them."""
    rng = np.random.default_rng(12)
    y, x = np.mgrid[:HEIGHT, :WIDTH]
    roof, hill = (x > 150) & (x < 260) & (y > 180), (x >= 400) & (y > 200)
    ground = (y > 330) | roof | hill
    wedge = (x >= 260) & (x < 400) & (y > 200) & ~ground
    plane = picture_of(rng, (~ground).astype(np.float32))
    stars = rng.uniform(0, [2 * WIDTH, 2 * HEIGHT], (9000, 2))
    shown = ~ground if starry else ~(ground | wedge)
    stars = stars[shown[(stars[:, 1] / 2).astype(int), (stars[:, 0] / 2).astype(int)]]
    light = (ground | wedge).astype(np.uint8)
    mask = find_sky(plane, stars, (2 * WIDTH, 2 * HEIGHT), frames=8, light=light)[::2, ::2]
    assert (mask[wedge] > 127).mean() == pytest.approx(1.0 if starry else 0.0, abs=0.06)
    assert (mask[ground] < 128).mean() > 0.99 and (mask[~(ground | wedge)] > 127).mean() > 0.99


@pytest.mark.parametrize(
    ("behind", "light", "is_sky"), [("branch", 1.0, True), ("branch", 0.7, False), ("bank", 1.0, False)]
)
def test_sky_that_a_branch_closes_in_against_the_frames_edge_stays_sky(behind, light, is_sky):
    """So small that no star shows there; a pond under a bank, as bright as the sky, is none."""
    y, x = np.mgrid[:HEIGHT, :WIDTH]
    ground, hole = y > 340, (y > 290) & (x < 113)
    if behind == "branch":
        ground |= (np.abs(y - 285) < 6) & (x < 125) | (np.abs(x - 119) < 6) & (y > 280)
        hole &= ~ground
    else:
        ground |= (y > 240) & (x < 150)
        ground &= ~hole
    plane = np.where(ground, 4.0, np.where(hole, 50.0 * light, 50.0)).astype(np.float32)
    stars = np.random.default_rng(14).uniform(0, [WIDTH, 240], (500, 2))
    filled = _holes_filled(ground.astype(np.uint8), plane, _StarCounts(stars, 8))
    assert (filled[hole] == 0).all() == is_sky and (filled[hole] == 1).all() != is_sky
    assert (filled[:240] == 0).all()
