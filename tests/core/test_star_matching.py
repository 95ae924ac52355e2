"""Registration, lens model and mask on made-up star lists and scenes with known answers."""

from dataclasses import replace

import numpy as np
import pytest
from starfield import Field, make, places

from vinter.core.frames.measuring import clean
from vinter.core.frames.reading import read_frame
from vinter.core.frames.stars import Stars, find_stars
from vinter.core.stack.masking.motion import not_sky
from vinter.core.stack.masking.sky_mask import find_sky, usable_sky
from vinter.core.stack.registration.motion_model import fit_rotation, lifted, lowered, pixels, rays
from vinter.core.stack.registration.star_matching import (
    align,
    apply,
    fitted,
    moving,
    mutual_pairs,
    vote_shift,
    weights,
)

rng = np.random.default_rng(5)


def listed(xy, seen=None):
    """Stars at places, the first the brightest."""
    n = len(xy)
    ones = np.ones(n)
    stars = Stars(
        x=xy[:, 0],
        y=xy[:, 1],
        flux=np.linspace(9, 1, n),
        peak=ones,
        fwhm=ones * 3,
        elongation=ones,
        angle=ones * 0,
        error=ones * 0.1,
    )
    return stars if seen is None else stars.take(seen)


def burst(spec, noise=0.05, n=500):
    edge = 1.1 * np.array([spec.width, spec.height]) / 2 / spec.focal
    directions = np.c_[rng.uniform(-edge, edge, (n, 2)), np.ones(n)]
    directions /= np.linalg.norm(directions, axis=1, keepdims=True)
    out = []
    for i in range(spec.count):
        xy = places(spec, directions, i) + rng.normal(0, noise, (n, 2))
        out.append(listed(xy, ((xy > 0) & (xy < [spec.width, spec.height])).all(axis=1)))
    return out


def test_frames_minutes_apart_are_found_by_their_common_shift():
    spec = Field(count=5, angle=0.9)  # 40 px a frame: beyond the first search radius
    stars = burst(spec)
    found = align(stars, np.arange(5.0), 2)
    assert all(a.used for a in found)
    assert max(a.residual_px for a in found) < 0.3


def test_a_bumped_tripod_is_followed():
    spec = Field(count=8, angle=0.06)
    stars = burst(spec)
    moved = [s if i < 5 else listed(s.xy + np.array([57.0, -31.0])) for i, s in enumerate(stars)]
    assert all(a.used for a in align(moved, np.arange(8.0), 4))


def test_a_frame_of_noise_is_left_out_not_warped():
    stars = burst(Field(count=5))
    stars[3] = listed(rng.uniform(0, 1200, (400, 2)))
    found = align(stars, np.arange(5.0), 2)
    assert [a.used for a in found] == [True, True, True, False, True] and "stars" in found[3].reason


def test_lamps_and_hot_pixels_that_stand_still_do_not_vote():
    spec = Field(count=9, angle=0.2)
    lamps = rng.uniform(100, 1000, (60, 2))
    stars = [listed(np.r_[lamps, s.xy]) for s in burst(spec)]
    free = moving(stars, 4)
    assert not free[0][:60].any() and free[0][60:].mean() > 0.9
    found = align(stars, np.arange(9.0), 4)
    assert all(a.used for a in found)
    assert abs(np.linalg.norm(apply(found[0].homography, lamps) - lamps, axis=1)).min() > 2


def test_a_tracked_camera_has_no_motion_to_judge_by():
    still = rng.uniform(0, 1200, (300, 2))
    stars = [listed(still + rng.normal(0, 0.05, still.shape)) for _ in range(6)]
    assert all(f.all() for f in moving(stars, 3))
    assert all(
        a.used and np.abs(a.homography - np.eye(3)).max() < 0.2 for a in align(stars, np.arange(6.0), 3)
    )


def test_mutual_pairs_and_votes():
    a = rng.uniform(0, 1000, (200, 2))
    b = a + np.array([83.0, -40.0])
    assert np.hypot(*(vote_shift(a, b)[:2, 2] - [83, -40])) < 4
    pairs = mutual_pairs(a, a[::-1] + 0.2, 2.0)
    assert len(pairs) > 190 and (pairs[:, 0] == 199 - pairs[:, 1]).mean() > 0.95


def test_rays_and_pixels_are_inverse():
    xy = rng.uniform(0, 4000, (200, 2))
    back = pixels(rays(xy, 2800, -0.015, (2015.5, 1511.5)), 2800, -0.015, (2015.5, 1511.5))
    assert np.abs(back - xy).max() < 1e-3


def test_refraction_is_undone():
    zenith = np.array([0.0, -np.cos(0.35), np.sin(0.35)])
    v = rays(rng.uniform(0, 3000, (300, 2)), 2800, 0.0, (2015.5, 1511.5))
    v = v[v @ zenith > np.sin(np.radians(2))]
    assert np.abs(lowered(lifted(v, zenith), zenith) - v).max() < 1e-6


@pytest.mark.parametrize("k1", [0.0, -0.05, 0.03])
def test_the_lens_follows_from_the_burst(k1):
    spec = Field(count=10, angle=0.3, k1=k1)
    stars = burst(spec, noise=0.08)
    model = fit_rotation(
        stars, align(stars, np.arange(10.0), 5), 5, (spec.width, spec.height), 0.8 * spec.focal
    )
    assert model.focal == pytest.approx(spec.focal, rel=0.005)
    assert model.k1 == pytest.approx(k1, abs=0.004)


@pytest.mark.parametrize("seed", range(4))
def test_few_stars_that_hardly_moved_still_lie_well_in_the_corners(seed):
    """Twenty faint stars over half a minute tell no lens: the first guess holds it."""
    spec, drawn = Field(count=12, angle=0.004), np.random.default_rng(seed)
    edge = np.array([spec.width, spec.height]) / 2 / spec.focal
    directions = np.c_[drawn.uniform(-edge, edge, (20, 2)), np.ones(20)]
    directions /= np.linalg.norm(directions, axis=1, keepdims=True)
    seen = [listed(places(spec, directions, i) + drawn.normal(0, 0.45, (20, 2))) for i in range(12)]
    stars = [replace(s, error=np.full(20, 0.45)) for s in seen]
    model = fit_rotation(
        stars, align(stars, np.arange(12.0), 6), 6, (spec.width, spec.height), 1.15 * spec.focal
    )
    x, y = np.meshgrid((-1, 0, 1), (-1, 0, 1))
    corners = np.c_[x.ravel() * edge[0], y.ravel() * edge[1], np.ones(9)]
    corners /= np.linalg.norm(corners, axis=1, keepdims=True)
    for i in range(12):
        off = model.to_reference(i, places(spec, corners, i)) - places(spec, corners, 6)
        assert np.hypot(*off.T).max() < 1.0


def test_two_frames_do_not_make_a_lens():
    stars = burst(Field(count=2))
    assert fit_rotation(stars, align(stars, np.arange(2.0), 1), 1, (1600, 1200), 1250) is None


def test_no_ground_means_all_sky_and_few_stars_too():
    plane = np.full((300, 400), 0.02, np.float32) + rng.normal(0, 0.001, (300, 400)).astype(np.float32)
    assert find_sky(plane, rng.uniform(0, [800, 600], (500, 2)), (800, 600)).min() == 255
    assert find_sky(plane, rng.uniform(0, [800, 600], (10, 2)), (800, 600)).min() == 255


def test_a_tree_and_a_gradient_are_told_apart():
    y, x = np.mgrid[:300, :400]
    sky = 0.02 * (1 + x / 400)
    tree = (np.abs(x - 200) < 6 + (y - 100) / 8) & (y > 100)
    plane = np.where(tree | (y > 260), 0.003, sky) + rng.normal(0, 0.0008, sky.shape)
    stars = rng.uniform(0, [800, 600], (1500, 2))
    land = tree | (y > 260)
    stars = stars[
        ~land[(stars[:, 1] / 2).astype(int).clip(0, 299), (stars[:, 0] / 2).astype(int).clip(0, 399)]
    ]
    mask = find_sky(plane.astype(np.float32), stars, (800, 600))[::2, ::2] > 127
    assert (mask & ~land).sum() / (mask | ~land).sum() > 0.98


def test_a_trunk_too_narrow_to_be_a_gap_is_ground_by_its_darkness():
    """Three fifths as bright as the sky, and stars on both sides within its width."""
    drawn = np.random.default_rng(3)
    y, x = np.mgrid[:300, :400]
    trunk, low = (np.abs(x - 200) < 7) & (y > 80) & (y <= 260), y > 260
    sky = np.where(low, 0.003, np.where(trunk, 0.02 * np.exp(-0.5), 0.02)) + drawn.normal(0, 6e-4, x.shape)
    stars = drawn.uniform(0, [800, 600], (3000, 2))
    at = (stars / 2).astype(int).clip(0, [399, 299])
    stars = stars[~(trunk | low)[at[:, 1], at[:, 0]]]
    found = find_sky(sky.astype(np.float32), stars, (800, 600))[::2, ::2] > 127
    assert found[trunk].mean() < 0.3 and found[~(trunk | low)].mean() > 0.99


def test_ground_as_bright_as_the_sky_is_seen_by_texture_weaker_than_the_noise():
    """Grain of four fifths of the noise, standing still while the stars pass: seen; a sixth of it: not."""
    height, width, noise = 240, 320, 10.0
    land = np.arange(height) >= 140
    grain = np.random.default_rng(5).normal(0, 1, (height, width)).astype(np.float32)

    def ground(amplitude):
        planes, homographies = [], []
        for i in range(6):
            plane = 1000 + np.random.default_rng(10 + i).normal(0, noise, (height, width)).astype(np.float32)
            plane[land] += amplitude * noise * grain[land]
            planes.append(plane)
            homographies.append(np.array([[1, 0, -12.0 * i], [0, 1, 0], [0, 0, 1]]))
        return not_sky(planes, homographies)[0]

    seen, unseen = ground(0.8), ground(1 / 6)
    assert seen[150:].mean() > 0.9 and seen[:130].max() == 0 and unseen.max() == 0
    faint = ground(0.45)  # no single frame shows it: the mean of all does
    assert faint[150:].mean() > 0.9 and faint[:130].max() == 0


def test_what_moves_otherwise_than_the_stars_is_seen_at_three_quarters_of_the_noise():
    """Grain that drifts against the stars, as leaves or reeds do: no mean of the frames holds it."""
    height, width, noise = 240, 320, 10.0
    land = np.arange(height) >= 120
    grain = np.random.default_rng(5).normal(0, 1, (height, width)).astype(np.float32)

    def share_seen(amplitude):
        planes, homographies = [], []
        for i in range(8):
            plane = 1000 + np.random.default_rng(30 + i).normal(0, noise, (height, width)).astype(np.float32)
            plane[land] += amplitude * noise * np.roll(grain, -7 * i, axis=1)[land]
            planes.append(plane)
            homographies.append(np.array([[1, 0, -12.0 * i], [0, 1, 0], [0, 0, 1]]))
        seen = not_sky(planes, homographies)[0]
        assert seen[:100].max() == 0
        return seen[140:].mean()

    assert share_seen(0.75) > 0.8 and share_seen(0.4) < 0.05


def test_usable_sky_keeps_off_edges():
    mask = np.full((100, 120), 255, np.uint8)
    mask[70:] = 0
    usable = usable_sky(mask)
    assert (
        usable[:3].max() == 0
        and usable[:, :3].max() == 0
        and usable[68:].max() == 0
        and usable[20, 20] == 255
    )


def test_stars_are_measured_where_and_as_wide_as_they_are():
    y, x = np.mgrid[:400, :400]
    plane = 1000 + rng.normal(0, 5, (400, 400))
    truth = rng.uniform(20, 380, (60, 2))
    for cx, cy in truth:
        plane += 600 * np.exp(-((x - cx) ** 2 + (y - cy) ** 2) / (2 * 1.5**2))
    found = find_stars(plane.astype(np.float32)).stars
    pairs = mutual_pairs((found.xy - 0.5) / 2, truth, 1.0)
    assert len(pairs) > 50
    assert np.median(np.hypot(*((found.xy[pairs[:, 0]] - 0.5) / 2 - truth[pairs[:, 1]]).T)) < 0.05
    assert np.median(found.fwhm) == pytest.approx(2 * 2.355 * 1.5, rel=0.12)


def test_a_streak_is_not_a_star():
    plane = 1000 + rng.normal(0, 5, (300, 300))
    for t in np.linspace(0, 1, 600):
        plane[int(50 + 150 * t), int(40 + 200 * t)] += 120
    found = find_stars(plane.astype(np.float32))
    assert len(found.stars) < 3


def test_gaps_between_few_stars_are_no_ground():
    drawn = np.random.default_rng(8)
    for count in (45, 90, 300):
        for _ in range(6):
            stars = drawn.uniform(0, [1600, 1200], (count, 2))
            assert (
                find_sky(
                    np.full((600, 800), 100.0, np.float32), np.tile(stars, (5, 1)), (1600, 1200), frames=5
                ).min()
                == 255
            )


def test_the_error_of_a_stars_place_is_as_large_as_it_is(tmp_path):
    spec = Field(count=2, stars=1500, width=1400, height=1000, ground=False, streak=None)
    truth, *_ = make(tmp_path, spec)
    pulls, errors = [], []
    for name, true in truth.items():
        stars = find_stars(clean(read_frame(tmp_path / name))[1]).stars
        pairs = mutual_pairs(stars.xy, true, 1.0)
        pulls.append((stars.xy[pairs[:, 0]] - true[pairs[:, 1]]) / stars.error[pairs[:, 0], None])
        errors.append(stars.error[pairs[:, 0]])
    pulls, errors = np.concatenate(pulls), np.concatenate(errors)
    assert errors.max() > 4 * errors.min()
    for part in (errors < np.median(errors), errors >= np.median(errors)):
        assert 0.6 < 1.4826 * np.median(np.abs(pulls[part])) < 1.4


def test_a_pair_tells_by_the_errors_of_both_its_stars():
    a, b = listed(np.zeros((3, 2))), listed(np.zeros((3, 2)))
    a = replace(a, error=np.array([0.03, 0.3, 0.3]))
    b = replace(b, error=np.array([0.04, 0.4, 0.04]))
    tells = weights(a, b, np.array([[0, 0], [1, 1], [0, 2], [2, 1]]))
    # errors of 0.05, 0.5, 0.05 and 0.5 px: the inverse of what the two make together
    assert tells / tells[0] == pytest.approx([1, 0.1, 1, 0.1])


def test_sharp_places_count_more_than_vague_ones():
    drawn = np.random.default_rng(2)
    true = np.array([[1.001, 0.02, 5.0], [-0.02, 0.999, -3.0], [2e-6, -1e-6, 1.0]])
    corners = np.array([[0.0, 0], [1600, 0], [0, 1200], [1600, 1200]])
    off = {"weighted": [], "alike": []}
    for _ in range(12):
        a, error = drawn.uniform(0, [1600, 1200], (200, 2)), np.r_[np.full(30, 0.02), np.full(170, 0.25)]
        b = apply(true, a) + drawn.normal(0, 1, (200, 2)) * error[:, None]
        for name, weight in (("weighted", 0.1 / error), ("alike", np.ones(200))):
            off[name].append(
                np.hypot(*(apply(fitted(a, b, np.eye(3), weight), corners) - apply(true, corners)).T).mean()
            )
    assert np.mean(off["weighted"]) < 0.4 * np.mean(off["alike"])
    # noiseless places give the homography back whatever they weigh
    a = drawn.uniform(0, [1600, 1200], (40, 2))
    assert fitted(a, apply(true, a), np.eye(3), drawn.uniform(0.1, 3, 40)) == pytest.approx(true, abs=1e-9)


def test_a_sky_fuller_than_there_is_room_for_is_read_all_the_same(monkeypatch):
    from vinter.core.frames import stars as module

    drawn = np.random.default_rng(6)
    plane = drawn.normal(100, 1, (300, 400)).astype(np.float32)
    y, x = np.mgrid[:300, :400]
    for sx, sy, f in zip(
        drawn.uniform(10, 390, 120),
        drawn.uniform(10, 290, 120),
        10 ** drawn.uniform(1.3, 3, 120),
        strict=True,
    ):
        plane += (f * np.exp(-((x - sx) ** 2 + (y - sy) ** 2) / (2 * 1.2**2))).astype(np.float32)
    whole = find_stars(plane).stars
    monkeypatch.setattr(module, "PIXELS", 60)  # the first room overflows, the second does not
    assert np.array_equal(find_stars(plane).stars.xy, whole.xy) and len(whole) > 90
    monkeypatch.setattr(
        module, "MOST_PIXELS", 60
    )  # both do: the brighter stars alone are sought, with room as there is
    monkeypatch.setattr(
        module, "_extracted", lambda signal, pixels, **how: module.sep.set_extract_pixstack(300_000)
    )
    fewer = find_stars(plane).stars
    assert 30 < len(fewer) < len(whole) and fewer.peak.min() > 1.5 * whole.peak.min()
