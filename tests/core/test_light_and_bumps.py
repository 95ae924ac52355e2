"""Difficult takes by the independent generator: bumps, slips, changing light, other exposures, awkward
ground."""

from dataclasses import replace

import cv2
import numpy as np
import pytest
import tifffile
from inline import Inline
from stacked import combined, errors
from starfield import Field, camera, checks, draw, ground_pattern, horizon, make, unmoved, write

from vinter.core.errors import BadInput
from vinter.core.stack.combining.methods import Method
from vinter.core.stack.masking.brush import Stroke, chosen
from vinter.core.stack.pipeline import Settings, stack

EASY = Field(count=7, width=900, height=680, focal=720.0, stars=380, angle=0.14, streak=None)


RUNS = {}


def run(folder, spec, keep=None, **settings):
    """The stack, its picture and its registration's errors; the same frames are stacked once for all
    tests."""
    key = repr((spec, settings))
    if keep is None and key in RUNS:
        return RUNS[key]
    folder.mkdir(exist_ok=True)
    truth, *_ = make(folder, spec)
    result = stack(
        [folder], folder.parent / f"{folder.name}.tif", Settings(**settings), pool=Inline(), keep=keep
    )
    RUNS[key] = result, tifffile.imread(result.picture), errors(result.report, truth, spec)
    return RUNS[key]


def is_well_registered(errors_px):
    """The bars: 0.05 px RMS, 0.2 px in the worst place."""
    return max(np.sqrt((e**2).mean()) for e in errors_px) < 0.05 and max(e.max() for e in errors_px) < 0.2


def shifts(report):
    return report["tripod"]["frames"]


def sharp(picture, spec, top):
    """Slope of the ground's checks against the truth as the reference (of a slipping camera: the middle
    frame) saw it: 1 when they are as sharp as drawn."""
    pattern = checks(spec, *unmoved(spec, spec.count // 2)) if any(spec.slip) else ground_pattern(spec)
    truth = cv2.GaussianBlur(pattern, (0, 0), 0.6)[top:-25, 30:-30]
    return np.polyfit(truth.ravel(), (picture[top:-25, 30:-30, 1] * 15871).ravel(), 1)[0]


def test_a_bumped_tripod_makes_two_groups_and_the_ground_stays_sharp(tmp_path):
    spec = replace(EASY, bumped={4: (35.0, -12.0, 0.6)})
    result, picture, off = run(tmp_path / "a", spec)
    rows = shifts(result.report)
    assert [r["group"] for r in rows] == [0] * 4 + [1] * 3
    assert result.report["tripod"]["groups"] == 2 and not result.report["tripod"]["held"]
    ground = result.report["ground"]
    assert [ground[k] for k in ("way", "frames", "moved", "laid", "lit")] == ["mean", 4, 3, 0, []]
    assert is_well_registered(off)
    assert sharp(picture, spec, int(horizon(spec).max()) + 30) == pytest.approx(1, abs=0.08)
    mask = cv2.imread(str(result.mask), cv2.IMREAD_GRAYSCALE) > 127
    sky = np.mgrid[: spec.height, : spec.width][0] <= horizon(spec)[None, :]
    assert (mask & sky).sum() / (mask | sky).sum() > 0.98
    # nothing of the other stand's ground has come into the sky beside the skyline
    strip = sky & (np.mgrid[: spec.height, : spec.width][0] > horizon(spec)[None, :] - 45) & mask
    assert np.percentile(picture[..., 1][strip], 2) * 15871 > 0.9 * spec.sky


def test_a_knock_of_hundreds_of_pixels_with_a_turn_is_followed(tmp_path):
    spec = replace(EASY, bumped={4: (230.0, 60.0, 3.0)}, ground=False)
    result, _, off = run(tmp_path / "a", spec)
    assert result.report["frames_used"] == EASY.count and is_well_registered(off)


@pytest.mark.parametrize(
    ("land", "slip"), [("dark", (0.7, 0.2)), ("bright", (0.7, 0.2)), ("dark", (1.3, -0.5))]
)
def test_a_slipping_tripod_is_seen_and_its_ground_laid_back(tmp_path, land, slip):
    spec = replace(EASY, slip=slip, land=land)
    result, picture, off = run(tmp_path / "a", spec)
    assert is_well_registered(off)
    rows = shifts(result.report)
    at = next(i for i, r in enumerate(rows) if r["file"] == result.report["reference"])
    low = np.array([spec.width / 2, 0.9 * spec.height])
    for i, r in enumerate(rows):
        if r["ground_shift"] is None:
            continue
        k = np.array(
            [[spec.focal, 0, (spec.width - 1) / 2], [0, spec.focal, (spec.height - 1) / 2], [0, 0, 1]]
        )
        moved = k @ camera(spec, at) @ camera(spec, i).T @ np.linalg.inv(k) @ [*low, 1]
        true = moved[:2] / moved[2] - low
        # the mean over a wide strip is a little larger than in its middle
        assert r["ground_shift"] == pytest.approx(1.15 * true, abs=0.3 + 0.1 * np.hypot(*true))
    assert sum(r["ground_shift"] is not None for r in rows) >= 5
    assert sharp(picture, spec, int(horizon(spec).max()) + 30) == pytest.approx(1, abs=0.06)


@pytest.mark.long("several stacks are made")
def test_frames_of_other_brightness_are_brought_to_one_and_count_less(tmp_path):
    spec = replace(EASY, light={2: 0.5, 5: 0.7}, glow={1: (300.0, 0.0), 6: (0.0, 500.0)})
    result, picture, _ = run(tmp_path / "a", spec, method="weighted")
    rows = shifts(result.report)
    assert [r["light"] for r in rows] == pytest.approx([1, 1, 0.5, 1, 1, 0.7, 1], abs=0.02)
    assert rows[2]["weight"] < 0.6 * rows[3]["weight"] and rows[5]["weight"] < 0.8 * rows[3]["weight"]
    assert rows[1]["background_shift"] * 15871 == pytest.approx(-300, rel=0.15)
    # the sky is as even as in a take without disturbances: no frame's glow is left in it
    calm, reference, _ = run(tmp_path / "b", EASY, method="weighted")
    difference = cv2.GaussianBlur((picture - reference)[40:450, 40:-40, 1], (0, 0), 20) * 15871
    assert np.abs(difference).max() < 15
    assert result.report["noise_by_count"][-1][1] > 1.02 * calm.report["noise_by_count"][-1][1]
    # left as they are, the bright frames stand out
    _, loud, _ = run(tmp_path / "c", spec, method="mean", match="off")
    assert np.abs(cv2.GaussianBlur((loud - reference)[40:450, 40:-40, 1], (0, 0), 20)).max() * 15871 > 60


def test_frames_of_half_the_exposure_are_scaled(tmp_path):
    spec = replace(EASY, gain={0: 0.5, 1: 0.5, 2: 0.5})
    result, picture, off = run(tmp_path / "a", spec)
    assert [r["scaled"] for r in shifts(result.report)[:4]] == pytest.approx([2, 2, 2, 1], rel=0.02)
    assert is_well_registered(off)
    _, reference, _ = run(tmp_path / "b", EASY)
    assert np.median(picture[60:400]) == pytest.approx(np.median(reference[60:400]), rel=0.01)


@pytest.mark.parametrize(
    ("land", "sky_iou"), [("dark", 0.99), ("bright", 0.97), ("water", 0.98), ("trees", 0.97)]
)
def test_the_mask_knows_ground_as_bright_as_the_sky_water_and_trees(tmp_path, land, sky_iou):
    spec = Field(count=8, width=1200, height=900, focal=950.0, stars=600, land=land, angle=0.1, streak=None)
    result, _, off = run(tmp_path / "a", spec)
    mask = cv2.imread(str(result.mask), cv2.IMREAD_GRAYSCALE) > 127
    sky = np.mgrid[: spec.height, : spec.width][0] <= horizon(spec)[None, :]
    assert (mask & sky).sum() / (mask | sky).sum() > sky_iou
    assert is_well_registered(off)  # reflected stars are not mistaken for stars


def test_bright_ground_is_found_from_four_frames_of_one_stand(tmp_path):
    spec = replace(EASY, land="bright", bumped={4: (35.0, -12.0, 0.6)})
    result, _, off = run(tmp_path / "a", spec)
    mask = cv2.imread(str(result.mask), cv2.IMREAD_GRAYSCALE) > 127
    sky = np.mgrid[: spec.height, : spec.width][0] <= horizon(spec)[None, :]
    assert (mask & sky).sum() / (mask | sky).sum() > 0.93  # the stars move 5 px only
    assert is_well_registered(off) and result.report["ground"]["frames"] == 4


def test_a_frame_without_ground_is_all_sky(tmp_path):
    result, _, _ = run(tmp_path / "a", replace(EASY, ground=False))
    assert cv2.imread(str(result.mask), cv2.IMREAD_GRAYSCALE).min() == 255
    assert result.report["ground"]["way"] == "none"


def ground_frame(folder, name, spec, change):
    """One more frame of the same stand, drawn and changed, beside the take."""
    rng = np.random.default_rng(77)
    folder.mkdir(exist_ok=True)
    empty = np.empty((0, 3)), np.empty(0)
    write(folder / name, change(draw(spec, *empty, 0, rng, np.empty(0, int))), spec)
    return folder / name


def test_a_ground_exposure_of_its_own_lies_on_the_ground_and_has_its_light(tmp_path):
    long = replace(EASY, gain={0: 8.0})
    own = ground_frame(tmp_path / "land", "land.dng", long, lambda m: np.roll(m, (2, 4), (0, 1)))
    result, picture, _ = run(tmp_path / "a", EASY, ground="own", ground_frames=(own,))
    row = result.report["ground"]["rows"][0]
    assert row["light"] == pytest.approx(8, rel=0.05) and row["moved_px"] == pytest.approx(4.5, abs=0.6)
    top = int(horizon(EASY).max()) + 30
    assert sharp(picture, EASY, top) > 0.7
    _, plain, _ = run(tmp_path / "b", EASY)
    assert np.median(picture[top:-25, :, 1]) == pytest.approx(np.median(plain[top:-25, :, 1]), rel=0.05)


def test_a_pair_focused_near_and_far_gives_the_sharper_half_of_each(tmp_path):
    spec = replace(EASY, gain={0: 8.0})
    half = spec.width // 2

    def soft(where):
        def change(mosaic):
            out = mosaic.astype(np.float32)
            for y in (0, 1):
                for x in (0, 1):
                    blurred = cv2.GaussianBlur(out[y::2, x::2], (0, 0), 2.5)
                    out[y::2, x::2] = np.where(
                        where(np.arange(blurred.shape[1]) * 2)[None, :], blurred, out[y::2, x::2]
                    )
            return np.round(out).astype(np.uint16)

        return change

    pair = (
        ground_frame(tmp_path / "land", "near.dng", spec, soft(lambda x: x > half)),
        ground_frame(tmp_path / "land", "far.dng", spec, soft(lambda x: x <= half)),
    )
    _, picture, _ = run(tmp_path / "a", EASY, ground="focus", ground_frames=pair)
    _, one, _ = run(tmp_path / "b", EASY, ground="own", ground_frames=pair[:1])
    top = int(horizon(EASY).max()) + 40
    for part in (np.s_[:, 60 : half - 60], np.s_[:, half + 60 : -60]):
        truth = cv2.GaussianBlur(ground_pattern(EASY), (0, 0), 0.6)[top:-25][part]
        both, single = (
            np.polyfit(truth.ravel(), (p[top:-25][part][..., 1] * 15871).ravel(), 1)[0]
            for p in (picture, one)
        )
        assert both > 0.8
    assert single < 0.4  # the right half of the near frame alone is soft


@pytest.mark.long("several stacks are made")
def test_a_join_of_near_and_far_that_was_painted_is_kept(tmp_path):
    """Two ground frames as sharp as each other but of other brightness in a corner: the painted one is taken
    where it was painted, the join is soft, and nothing else changes."""
    spec = replace(EASY, gain={0: 8.0})

    def spotted(mosaic):
        out = mosaic.copy()
        out[600:, :260] = np.clip(out[600:, :260].astype(int) + 1500, 0, 16383)
        return out

    pair = (
        ground_frame(tmp_path / "land", "near.dng", spec, lambda m: m),
        ground_frame(tmp_path / "land", "far.dng", spec, spotted),
    )
    choice = np.zeros((EASY.height, EASY.width), np.uint8)
    pictures = []
    for number in (1, 2):
        painted = chosen(choice, [Stroke(((20.0, 660.0), (160.0, 660.0)), 40.0, sky=False, frame=number)])
        cv2.imwrite(str(tmp_path / f"{number}.png"), painted)
        way = {"ground": "focus", "ground_frames": pair, "ground_choice": tmp_path / f"{number}.png"}
        pictures.append(run(tmp_path / f"{number}", EASY, **way)[1])
    change = np.abs(pictures[1] - pictures[0]).max(axis=2) * 15871
    inside, outside = change[640:675, 30:150], change[640:675, 400:]
    # the bright corner also counts in how much lighter that frame is taken to be as a whole
    assert 100 < np.median(inside) < 1500 / 8 and outside.max() < 2
    rim = change[655, 150:250]
    assert np.abs(np.diff(rim)).max() < 0.35 * rim.max()  # no edge
    small = tmp_path / "small.png"
    cv2.imwrite(str(small), choice[:50])
    with pytest.raises(BadInput, match=r"small\.png: not a grey picture of 900 x 680"):
        run(tmp_path / "x", EASY, **{**way, "ground_choice": small})


def test_ground_frames_that_do_not_fit_are_named(tmp_path):
    other = replace(EASY, width=800, height=600)
    small = ground_frame(tmp_path / "land", "small.dng", other, lambda m: m)
    with pytest.raises(BadInput, match=r"small\.dng.*another size"):
        run(tmp_path / "a", EASY, ground="own", ground_frames=(small,))
    with pytest.raises(BadInput, match="frames of its own"):
        Settings(ground="focus", ground_frames=(small,))


def reused(frames, registration, rest):
    return {
        "frames": frames,
        "ground_frames": 0,
        "registration": registration,
        "mask": rest,
        "ground": rest,
        "light": rest,
    }


@pytest.mark.long("a take is stacked six times")
def test_what_did_not_change_is_not_worked_out_again(tmp_path):
    keep = tmp_path / "kept"
    first, before, _ = run(tmp_path / "a", EASY, keep)
    assert first.report["reused"] == reused(0, False, False)
    files = [tmp_path / "a"]
    again = stack(files, tmp_path / "again.tif", Settings(), pool=Inline(), keep=keep)
    assert again.report["reused"] == reused(7, True, True)
    assert np.array_equal(tifffile.imread(again.picture), before)
    median = stack(files, tmp_path / "median.tif", Settings(method=Method.MEDIAN), pool=Inline(), keep=keep)
    fresh = stack(files, tmp_path / "fresh.tif", Settings(method=Method.MEDIAN), pool=Inline())
    assert median.report["reused"]["registration"] and not fresh.report["reused"]["registration"]
    assert np.array_equal(tifffile.imread(median.picture), tifffile.imread(fresh.picture))
    own = np.where(np.arange(EASY.height)[:, None] < 380, 255, 0).astype(np.uint8) * np.ones(
        (1, EASY.width), np.uint8
    )
    cv2.imwrite(str(tmp_path / "own.png"), own)
    masked = stack(files, tmp_path / "own.tif", Settings(mask=tmp_path / "own.png"), pool=Inline(), keep=keep)
    assert masked.report["reused"].items() >= reused(7, True, False).items()
    # a frame that is gone from disk, or was touched, is read again
    next(p for p in keep.iterdir() if p.suffix == ".npy").unlink()
    (tmp_path / "a" / "IMG_0003.dng").touch()
    third = stack(files, tmp_path / "third.tif", Settings(), pool=Inline(), keep=keep)
    assert third.report["reused"]["frames"] in (5, 6) and not third.report["reused"]["registration"]
    assert np.array_equal(tifffile.imread(third.picture), before)


def test_a_few_frames_are_judged_by_the_others(tmp_path):
    rng = np.random.default_rng(4)
    for n in (2, 3, 5):
        cube = np.clip(rng.normal(6000, 90, (n, 150, 150, 3)), 1, 65535).astype(np.uint16)
        cube[n - 1, 40:60, 40:60] += 2500
        out, count, _ = combined(cube)
        assert (count[40:60, 40:60] == n - 1).mean() > 0.97
        assert np.abs(out[40:60, 40:60].mean() - 6000) < 15
        assert (count[100:] == n).mean() > 0.985


def test_weights_make_the_noisy_frame_count_less():
    rng = np.random.default_rng(5)
    spread = np.array([1, 1, 1, 4])
    cube = np.clip(np.stack([rng.normal(6000, 60 * s, (200, 200, 3)) for s in spread]), 1, 65535).astype(
        np.uint16
    )
    plain, *_ = combined(cube, "mean")
    weighted, *_ = combined(cube, "weighted", 1 / spread**2, spread)
    assert weighted.std() == pytest.approx(60 / np.sqrt(3 + 1 / 16), rel=0.05)
    assert plain.std() == pytest.approx(60 * np.sqrt(3 + 16) / 4, rel=0.05)


def test_the_report_tells_how_noise_fell_with_the_frames(tmp_path):
    result, _, _ = run(tmp_path / "a", replace(EASY, count=9))
    counts, noise = zip(*result.report["noise_by_count"], strict=True)
    assert counts == (2, 3, 4, 6, 8, 9)
    assert np.array(noise) * np.sqrt(counts) == pytest.approx(np.full(6, noise[0] * np.sqrt(2)), rel=0.06)


def test_the_same_frame_twice_over_does_no_harm(tmp_path):
    (tmp_path / "a").mkdir()
    make(tmp_path / "a", replace(EASY, count=2))
    for path in sorted((tmp_path / "a").glob("*.dng")):
        for i in range(3):
            (path.parent / f"copy_{i}_{path.name}").write_bytes(path.read_bytes())
    result = stack([tmp_path / "a"], tmp_path / "out.tif", Settings(), pool=Inline())
    assert result.report["frames_used"] == 8
