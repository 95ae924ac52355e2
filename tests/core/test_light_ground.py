"""Ground as bright as the sky and brighter: its outline against drawn skylines, and what is no ground."""

import cv2
import numpy as np
import pytest
from scenes import Scene, make, overlap, share_of_sky, star_errors

from vinter.core.stack.masking.light_ground import light_ground, outlined, textured
from vinter.core.stack.pipeline import Settings, stack


@pytest.mark.long("frames are drawn and stacked")
@pytest.mark.parametrize(("ground", "light", "seed"), [("conifers", 1.0, 5), ("hills", 1.6, 1)])
def test_moonlit_ground_is_found_and_the_sky_alone_aligns(tmp_path, ground, light, seed):
    """Its patches are taken for stars by the hundred, and they stand still: frames had been laid on them."""
    s = Scene(
        width=2016, height=1512, focal=1400.0, stars=6000, count=6, gap=6.0, sky=5.0, seed=seed,
        ground=ground, ground_light=light,
    )  # fmt: skip
    make(tmp_path / "frames", s)
    report = stack([tmp_path / "frames"], tmp_path / "out.tif", Settings(workers=1)).report
    mask = cv2.imread(str(tmp_path / "out.mask.png"), cv2.IMREAD_GRAYSCALE)
    sky, low = overlap(mask, share_of_sky(s))
    assert sky > 0.98 and low > 0.95
    errors = star_errors(s, report, share_of_sky(s))
    assert np.median(errors) < 0.1 and errors.max() < 0.5
    assert all(row["used"] for row in report["frames"])


def sky_with(rng, patches=0.0):
    """Log light of a smooth sky with a band, and with patches of a share of its light in it."""
    y, x = np.mgrid[:400, :600].astype(np.float32)
    light = 100 * (1 + 0.4 * np.exp(-(((x - 200) / 90) ** 2)) + 0.3 * y / 400)
    small = rng.uniform(-1, 1, (400 // 8, 600 // 8)).astype(np.float32)
    light *= 1 + patches * (y > 200) * cv2.resize(small, (600, 400), interpolation=cv2.INTER_CUBIC)
    return light + rng.normal(0, 0.7, light.shape).astype(np.float32)


def sources_of(rng, moved, below=None, stand=0):
    """Places in two frames: stars that moved, and patches below a row that did not."""
    stars = rng.uniform((20, 20), (1180, below or 780), (80, 2))
    ground = rng.uniform((20, below or 20), (1180, 780), (stand, 2))
    return [
        np.concatenate([stars, ground]),
        np.concatenate([stars + moved, ground + rng.normal(0, 0.4, ground.shape)]),
    ]


def test_a_smooth_sky_has_no_such_ground():
    rng = np.random.default_rng(1)
    assert not light_ground(sky_with(rng), sources_of(rng, (9.0, 2.0))).any()


def test_clouds_of_stars_are_no_ground_for_their_stars_move():
    rng = np.random.default_rng(2)
    picture, sources = sky_with(rng, patches=0.2), sources_of(rng, (9.0, 2.0))
    assert textured(picture, np.concatenate(sources)).any()  # textured it is
    assert not light_ground(picture, sources).any()


@pytest.mark.parametrize("share", [0.12, 0.35])
def test_a_hill_is_outlined_to_a_pixel_or_two(share):
    rng = np.random.default_rng(3)
    picture, row = sky_with(rng), 280 + 25 * np.sin(np.arange(600) / 60)
    hill = np.arange(400)[:, None] > row[None, :]
    small = rng.uniform(-1, 1, (400 // 6, 600 // 6)).astype(np.float32)
    picture *= 1 + share * hill * cv2.resize(small, (600, 400), interpolation=cv2.INTER_CUBIC)
    found = light_ground(picture, sources_of(rng, (9.0, 2.0), below=520, stand=60))
    off = np.abs(np.argmax(found, axis=0) - row)
    assert np.median(off) < 2.5 and (off < 6).mean() > 0.9


def test_where_the_sky_is_nowhere_sure_the_rough_ground_stays():
    body = np.ones((100, 120), np.uint8)
    assert np.array_equal(outlined(body, np.ones((100, 120), np.float32)), body)
