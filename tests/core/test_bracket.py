"""Exposure brackets: found in a folder, and merged without what moved; the scene is drawn here, with its
truth."""

import numpy as np
import pytest

from vinter.core.errors import BadInput
from vinter.core.frames.brackets import find_brackets, same_pattern
from vinter.core.frames.measure import Measure
from vinter.core.stack.bracket import merge, merge_files

W, H = 900, 600


def scene():
    """Light of a dim yard, 1 at a phone's white for the middle exposure, with a window 20 times as bright."""
    rng = np.random.default_rng(2)
    y, x = np.mgrid[:H, :W].astype(np.float32)
    base = 0.03 + 0.10 * (y / H) + 0.02 * np.sin(x / 23) * np.cos(y / 31)
    bricks = rng.normal(0, 1, (H // 6, W // 6)).repeat(6, 0).repeat(6, 1) * 0.006
    light = base + np.where(y > 250, bricks, 0)
    light[330:420, 600:720] = 2.5 + 0.3 * np.sin(x[330:420, 600:720] / 9)
    return np.stack([1.05 * light, light, 0.8 * light], axis=-1)


def shots(evs, shifts, person=True, seed=5):
    """Frames of the scene by EV: shot noise and read noise, clipped, shifted, somebody walking through."""
    rng, truth, out = np.random.default_rng(seed), scene(), []
    for k, (ev, (dx, dy)) in enumerate(zip(evs, shifts, strict=True)):
        light = np.roll(truth, (dy, dx), axis=(0, 1)).copy()
        if person:
            light[300:460, 100 + 130 * k : 150 + 130 * k] = 0.22
        seen = light * 2**ev
        seen = seen + rng.normal(0, 1, seen.shape) * np.sqrt(1e-6 + 2e-5 * seen)
        out.append(np.clip(seen, -0.01, 1.0).astype(np.float32))
    return truth, out


def merged(evs, shifts, said=True, **more):
    truth, frames = shots(evs, shifts, **more)
    lights = [2.0**ev if said else None for ev in evs]
    names = [f"IMG_{i}.dng" for i in range(len(evs))]
    middle = evs.index(0)
    return truth, frames[middle], merge([lambda f=f: f for f in frames], lights, middle, names)


@pytest.mark.parametrize("said", [True, False])
def test_a_window_that_was_clipped_is_there_and_the_dark_has_less_noise(said):
    truth, alone, made = merged((-5, 0, 2), ((0, 0), (0, 0), (0, 0)), said, person=False)
    window, dark = np.s_[340:410, 610:710], np.s_[20:200, 20:880]
    assert alone[window].max() <= 1.0
    assert np.abs(made.rgb[window] / truth[window] - 1).mean() < 0.03
    assert np.abs(made.rgb.mean(axis=(0, 1)) / truth.mean(axis=(0, 1)) - 1).max() < 0.02
    assert (made.rgb - truth)[dark].std() < 0.6 * (alone - truth)[dark].std()
    assert [p.ev for p in made.parts] == pytest.approx([-5, 0, 2], abs=0.08)
    assert made.range_ev == pytest.approx(7, abs=0.1) and made.moved.mean() < 0.01
    again = merged((-5, -1, 0), ((0, 0),) * 3, said, person=False)[2]  # the window clipped in two of them
    assert [p.moved for p in again.parts] == pytest.approx([0, 0, 0], abs=0.002)


def test_somebody_who_walked_through_is_seen_once():
    truth, _, made = merged((-2, 0, 2), ((0, 0),) * 3)
    here = np.s_[310:450, 235:275]  # where she stood in the reference
    assert np.abs(made.rgb[here] - 0.22).mean() < 0.01
    for gone in (np.s_[310:450, 105:145], np.s_[310:450, 365:405]):
        assert np.abs(made.rgb[gone] - truth[gone]).mean() < 0.004  # as if she had not been there
    assert 0.05 < made.moved.mean() < 0.09  # two places of 160 by 50 px and their rims


def test_frames_held_by_hand_are_laid_on_the_reference():
    truth, alone, made = merged((-2, 0, 2), ((7, -4), (0, 0), (-9, 5)), person=False)
    shifts = [p.shift for p in made.parts]
    assert shifts[0] == pytest.approx((7, -4), abs=0.3) and shifts[2] == pytest.approx((-9, 5), abs=0.3)
    for part in (np.s_[440:560, 40:560], np.s_[20:240, 40:860]):  # bricks, and the smooth wall
        assert (made.rgb - truth)[part].std() < 0.75 * (alone - truth)[part].std()


def test_stars_that_moved_are_not_doubled():
    rng = np.random.default_rng(8)
    stars = rng.integers(30, [H // 3, W - 30], (60, 2))
    frames = []
    for k, ev in enumerate((-2, 0, 2)):
        light = np.full((H, W), 0.05)
        for y, x in stars:
            light[y : y + 3, x + 9 * k : x + 9 * k + 3] += 0.15
        seen = light * 2.0**ev
        seen += rng.normal(0, 1, seen.shape) * np.sqrt(1e-6 + 2e-5 * seen)
        frames.append(np.repeat(np.clip(seen, 0, 1)[..., None], 3, axis=2).astype(np.float32))
    made = merge([lambda f=f: f for f in frames], [0.25, 1.0, 4.0], 1, ["a", "b", "c"])
    at = [[made.rgb[y + 1, x + 9 * k + 1, 1] - 0.05 for y, x in stars] for k in range(3)]
    assert np.median(at[1]) == pytest.approx(0.15, abs=0.02)
    assert abs(np.median(at[0])) < 0.01 and abs(np.median(at[2])) < 0.01


def test_what_cannot_be_merged_says_why():
    _, frames = shots((0, 0), ((0, 0),) * 2)
    with pytest.raises(BadInput, match=r"b\.dng: 800 × 600 px"):
        merge([lambda: frames[0], lambda: frames[1][:, :800]], [1.0, 4.0], 0, ["a.dng", "b.dng"])
    with pytest.raises(BadInput, match="3 to 9 frames, not 0"):
        merge_files([])


# ---- found in a folder


def frame(number, seconds, iso=100, time=None, **more):
    nothing = dict.fromkeys(Measure.__dataclass_fields__, None) | {"make": "Marlet", "model": "7"}
    given = {"file": f"{number:03d}.dng", "exposure_s": seconds, "iso": iso, "width": 4000, "height": 3000}
    return Measure(**nothing | given | {"time": time, "kind": "bayer", "f35": 24.0} | more)


def test_brackets_are_found_by_their_exposures():
    times = [0.25, 1.0, 4.0] * 2
    frames = [frame(i, s, time=1e9 + 8.0 * i) for i, s in enumerate(times)]
    assert find_brackets(frames) == [[0, 1, 2], [3, 4, 5]]
    assert same_pattern(frames, find_brackets(frames))
    assert find_brackets([frame(i, 10.0, time=1e9 + 12.0 * i) for i in range(20)]) == []
    by_iso = [frame(i, 1.0, iso, 1e9 + 3.0 * i) for i, iso in enumerate((100, 400, 1600))]
    assert find_brackets(by_iso) == [[0, 1, 2]]


def test_frames_apart_in_time_or_of_another_lens_are_no_bracket():
    apart = [frame(i, s, time=1e9 + 600.0 * i) for i, s in enumerate((0.25, 1.0, 4.0))]
    assert find_brackets(apart) == []
    lenses = [
        frame(i, s, f35=f, time=1e9 + 5.0 * i) for i, (s, f) in enumerate(((0.25, 24), (1.0, 13), (4.0, 24)))
    ]
    assert find_brackets(lenses) == []
    silent = [frame(i, None, time=1e9 + 5.0 * i) for i in range(4)]
    assert find_brackets(silent) == []
    ten = [frame(i, 2.0**i / 64, time=1e9 + 5.0 * i) for i in range(10)]
    assert [len(b) for b in find_brackets(ten)] == [9]
