"""Bumps, rotations and the light of frames, on figures made up here: no picture is drawn."""

import struct
from types import SimpleNamespace

import numpy as np
import pytest
from inline import Inline
from stacked import errors
from starfield import Field, make

from vinter.core.frames.lenswarp import LensWarp, parse
from vinter.core.frames.measure import Measure
from vinter.core.stack.photometry.normalization import Normalization, _surface, light_ratio, terms
from vinter.core.stack.pipeline import Settings, stack
from vinter.core.stack.registration import motion_model
from vinter.core.stack.registration.bumps import find_bumps
from vinter.core.stack.registration.geometry import as_rotation, pixels, rays, small_turn, turn, vector_of
from vinter.core.stack.registration.groups import in_order, left_out, reference_of
from vinter.core.stack.registration.star_matching import Alignment, vote_shift, vote_turn

SIZE, FOCAL = (4032, 3024), 2800.0
CENTRE = ((SIZE[0] - 1) / 2, (SIZE[1] - 1) / 2)
K = np.array([[FOCAL, 0, CENTRE[0]], [0, FOCAL, CENTRE[1]], [0, 0, 1]])
POLE = np.array([0.1, -0.8, 0.6]) / np.linalg.norm([0.1, -0.8, 0.6])
RATE = 7.292e-5


def aligned(times, reference, knocked=None, rng=None):
    """Alignments of a turning sky to the reference; ``knocked`` maps a frame to the camera's rotation vector
    from there on."""
    cameras, camera = [], np.eye(3)
    for i in range(len(times)):
        camera = small_turn(np.array((knocked or {}).get(i, (0, 0, 0)), float)) @ camera
        cameras.append(camera)
    out = []
    for i, t in enumerate(times):
        # a star's ray in frame i, from its ray in the reference: undo the reference's camera, turn the sky,
        # apply this one
        to_frame = cameras[i] @ turn(POLE, RATE * (t - times[reference])) @ cameras[reference].T
        h = K @ to_frame.T @ np.linalg.inv(K)
        if rng is not None:
            h = h + rng.normal(0, 1, (3, 3)) * [[1e-6, 1e-6, 0.05], [1e-6, 1e-6, 0.05], [1e-9, 1e-9, 0]]
        out.append(Alignment(True, "", h / h[2, 2]))
    return out, cameras


def test_small_turns_and_rotations_of_homographies_are_each_others_inverse():
    vector = np.array([0.002, -0.004, 0.001])
    assert vector_of(small_turn(vector)) == pytest.approx(vector, abs=1e-7)
    assert np.allclose(small_turn(np.zeros(3)), np.eye(3))
    r = turn(POLE, 0.03)
    assert np.allclose(as_rotation(5 * K @ r @ np.linalg.inv(K), FOCAL, CENTRE), r, atol=1e-12)
    xy = np.array([[10.0, 20.0], [4000.0, 3000.0], [2015.5, 1511.5]])
    assert np.allclose(pixels(rays(xy, FOCAL, -0.03, CENTRE), FOCAL, -0.03, CENTRE), xy, atol=1e-6)


@pytest.mark.parametrize("reference", [0, 4, 9])
def test_a_bump_is_found_wherever_the_reference_lies(reference):
    times = np.arange(10) * 22.0
    found, cameras = aligned(times, reference, {6: (0.001, 0.004, 0.002)}, np.random.default_rng(1))
    groups = find_bumps(found, times, True, reference, SIZE, FOCAL)
    assert [n == groups.number[reference] for n in groups.number] == [
        (i >= 6) == (reference >= 6) for i in range(10)
    ]
    assert groups.number[reference] == 0 and len(groups.moved) == 2
    other = 0 if reference >= 6 else 9
    true = cameras[reference] @ cameras[other].T
    assert np.abs(vector_of(groups.moved[1] @ true.T)).max() * FOCAL < 0.6
    assert groups.rate == pytest.approx(RATE * POLE, abs=0.01 * RATE)


def test_pauses_are_no_bumps_and_a_quiet_take_has_one_group():
    times = np.array([0, 20, 40, 60, 400, 420, 440, 900.0])
    found, _ = aligned(times, 3, rng=np.random.default_rng(2))
    assert set(find_bumps(found, times, True, 3, SIZE, FOCAL).number) == {0}
    # without a clock the pauses look like long steps, along the sky's own way
    assert set(find_bumps(found, np.arange(8.0), False, 3, SIZE, FOCAL).number) == {0}
    sideways, _ = aligned(times, 3, {5: tuple(0.004 * np.cross(POLE, [0, 0, 1.0]))})
    assert len(set(find_bumps(sideways, np.arange(8.0), False, 3, SIZE, FOCAL).number)) == 2


def test_frames_that_were_not_aligned_belong_to_the_stand_before_them():
    times = np.arange(9) * 20.0
    found, _ = aligned(times, 1, {6: (0.0, 0.006, 0.0)})
    found[5] = Alignment(False, "cloud")
    assert find_bumps(found, times, True, 1, SIZE, FOCAL).number == [0, 0, 0, 0, 0, 0, 1, 1, 1]
    few = [*found[:2], *[Alignment(False, "cloud")] * 7]
    assert find_bumps(few, times, True, 1, SIZE, FOCAL).number == [0] * 9


def test_two_bumps_are_three_groups_and_a_shaking_hand_is_none():
    times = np.arange(12) * 20.0
    found, _ = aligned(times, 5, {3: (0.003, 0, 0), 8: (0, -0.003, 0)})
    number = find_bumps(found, times, True, 5, SIZE, FOCAL).number
    assert [len(set(number[a:b])) for a, b in ((0, 3), (3, 8), (8, 12), (0, 12))] == [1, 1, 1, 3]
    rng = np.random.default_rng(3)
    shaking, _ = aligned(times, 5, {i: tuple(rng.normal(0, 0.004, 3)) for i in range(12)})
    assert set(find_bumps(shaking, times, True, 5, SIZE, FOCAL).number) == {
        0
    }  # left to a turn for every frame


def test_shifts_and_turns_are_voted_for():
    rng = np.random.default_rng(5)
    stars = rng.uniform(0, 1, (200, 2)) * SIZE
    moved = stars + np.array([120.0, -75.0])
    assert vote_shift(stars, moved)[:2, 2] == pytest.approx([120, -75], abs=4)
    a = np.radians(3.5)
    turned = (
        (stars - CENTRE) @ np.array([[np.cos(a), np.sin(a)], [-np.sin(a), np.cos(a)]])
        + CENTRE
        + [400.0, 90.0]
    )
    h = vote_turn(stars, turned)
    there = stars @ h[:2, :2].T + h[:2, 2]
    assert np.median(np.hypot(*(there - turned).T)) < 20


# what frames show that are kept, doubted and dropped by themselves
SHOWS = {"keep": {}, "doubt": {"clipped_fraction": 0.05}, "drop": {"stars": 4}}


def frame(name, **values):
    base = {
        "width": 4032,
        "height": 3024,
        "kind": "bayer",
        "fwhm_px": 3.3,
        "stars": 500,
        "exposure_s": 10.0,
        "file": name,
        "iso": 1600,
        "time": None,
        "elongation": 1.1,
        "trail_px": 0.0,
        "background": 0.02,
        "noise": 0.001,
        "clipped_fraction": 0.0,
        "streaks": 0,
        "raw": "sensor",
        "raw_reasons": [],
    }
    m = Measure(**{**base, **SHOWS[values.pop("shows", "keep")], **values})
    return SimpleNamespace(
        path=SimpleNamespace(name=name),
        measure=m,
        size=(m.width, m.height),
        pattern=1,
        time=values.get("time"),
    )


def test_order_reference_and_what_is_left_out():
    frames = [frame("b", time=20.0), frame("a", time=40.0), frame("c", time=0.0)]
    assert [f.path.name for f in in_order(frames)] == ["c", "b", "a"]
    assert [f.path.name for f in in_order([*frames, frame("aa")])] == ["a", "aa", "b", "c"]
    judged = [
        frame("0", shows="doubt"),
        frame("1"),
        frame("2", shows="doubt"),
        frame("3", shows="drop"),
        frame("4", shows="drop"),
    ]
    assert (
        reference_of(judged, "auto") == 1
        and reference_of(judged[2:], "auto") == 0
        and reference_of(judged[3:], "auto") == 1
    )
    lit = [frame(str(i), brightest=0.2 if i in (2, 3) else 0.03) for i in range(6)]
    assert reference_of(lit, "auto") == 4  # not the middle one, which a lamp lit
    out = left_out([frame("0"), frame("1", width=4000), frame("2", fwhm_px=9.0), frame("3"), frame("4")], 0)
    assert set(out) == {1, 2} and "4000 x 3024" in out[1] and "9.0 px wide against 3.3" in out[2]


def lit(flux, noise, rng):
    n = len(flux)
    return SimpleNamespace(
        stars=SimpleNamespace(peak=np.full(n, 5000.0), flux=flux), light=flux * rng.normal(1, noise, n)
    )


def test_light_is_the_median_ratio_with_its_error_and_few_stars_say_nothing():
    rng = np.random.default_rng(6)
    flux = 10 ** rng.uniform(3, 5, 400)
    pairs = np.c_[np.arange(400), np.arange(400)]
    ratios = [light_ratio(lit(0.62 * flux, 0.05, rng), lit(flux, 0.05, rng), pairs) for _ in range(30)]
    values, errors = np.array(ratios).T
    assert values.mean() == pytest.approx(0.62, rel=0.005) and values.std() == pytest.approx(
        errors.mean(), rel=0.5
    )
    assert light_ratio(lit(flux, 0, rng), lit(flux, 0, rng), pairs[:10]) == (1.0, 1.0)
    assert light_ratio(lit(flux, 0, rng), lit(flux, 0, rng), pairs[:0]) == (1.0, 1.0)


def test_a_surface_is_fitted_through_outliers_and_few_cells_give_a_level():
    rng = np.random.default_rng(7)
    xy = rng.uniform(0, 1, (150, 2)) * SIZE
    true = np.array([[40, -30, 20, 10, -5, 8], [90, 0, 0, 0, 0, 0], [0, 0, 60, 0, 0, -60]], float)
    values = terms(xy[:, 0] / SIZE[0], xy[:, 1] / SIZE[1]) @ true.T + rng.normal(0, 1, (150, 3))
    values[:20] += 900  # a lamp
    u = np.linspace(0, 1, 6)
    found, wanted = (terms(u, u[::-1]) @ k.T for k in (_surface(values, xy, SIZE, 5.0), true))
    assert np.abs(found - wanted).max() < 2.5
    level = _surface(values[20:30], xy[20:30], SIZE, 5.0)
    assert (level[:, 1:] == 0).all() and level[1, 0] == pytest.approx(90, abs=1.5)
    assert not _surface(values[:0], xy[:0], SIZE, 5.0).any()


def test_a_match_says_what_it_changes():
    assert Normalization().plain and Normalization().shift == 0
    sloped = Normalization(surface=np.array([[0.0] * 6, [600, 1200, 0, 0, 0, 0], [0.0] * 6]))
    assert not sloped.plain and sloped.shift == pytest.approx(1200 / 60000)


def test_warps_without_sense_are_refused():
    def packed(count, *values):
        return struct.pack(f">I{len(values)}d", count, *values)

    plain = (1.0, 0, 0, 0, 0, 0)
    assert parse(packed(1, *plain, 0.5, 0.5)) == LensWarp((plain,), (0.5, 0.5))
    for bad in (
        b"",
        packed(2, *plain, *plain, 0.5, 0.5),
        packed(1, *plain),
        packed(1, 9.0, 0, 0, 0, 0, 0, 0.5, 0.5),
        packed(1, float("nan"), 0, 0, 0, 0, 0, 0.5, 0.5),
        packed(1, *plain, 3.0, 0.5),
    ):
        assert parse(bad) is None
    assert LensWarp((plain,), (0.5, 0.5)).most_px(SIZE) == pytest.approx(0, abs=1e-9)


@pytest.mark.parametrize("bumped", [{}, {8: (35.0, -12.0, 0.6)}])
def test_of_very_many_frames_some_tell_the_lens_and_each_its_own_turn(tmp_path, monkeypatch, bumped):
    """The fit holds a few frames however many there are; those that it did not see lie as well."""
    fitted = []
    fit = motion_model._fit
    monkeypatch.setattr(motion_model, "MOST_FITTED", 6)
    monkeypatch.setattr(motion_model, "LEAST_OF_GROUP", 3)
    monkeypatch.setattr(
        motion_model, "_fit", lambda start, *more: fitted.append(len(start.angles)) or fit(start, *more)
    )
    spec = Field(
        count=16, width=900, height=680, focal=720.0, stars=380, angle=0.14, streak=None, bumped=bumped
    )
    (tmp_path / "frames").mkdir()
    truth, *_ = make(tmp_path / "frames", spec)
    report = stack([tmp_path / "frames"], tmp_path / "o.tif", Settings(), pool=Inline()).report
    off = errors(report, truth, spec)
    assert report["model"] == "rotation" and len(off) == 16 and fitted and max(fitted) <= 8
    assert max(np.sqrt((e**2).mean()) for e in off) < 0.05 and max(e.max() for e in off) < 0.1
