"""The kernels that combine a tile, against the same rules written plainly for one place at a time."""

import cv2
import numpy as np
import pytest

from vinter.core.frames.mosaic import PEDESTAL, SPAN
from vinter.core.stack.combining.blanking import blank
from vinter.core.stack.combining.kernels import Rules, combine, join
from vinter.core.stack.combining.light import normalize_into
from vinter.core.stack.combining.methods import Method
from vinter.core.stack.combining.noise_seen import noise_seen

KAPPA = 3.5
NOISE = np.array([[900.0, 0.4], [400.0, 0.2], [1600.0, 0.0]])


def kept_of(values, method, noise, spread):
    """Which samples of one place and colour stay by the rules of the manual, written without haste."""
    there = values > 0
    if not there.any():
        return there
    mean = values[there].mean()
    sigma = np.sqrt(max(noise[0] + noise[1] * max(mean - PEDESTAL, 0), 1))
    if method == "median" or (method in ("clip", "weighted") and there.sum() > 10):
        middle = np.median(values[there])
        scatter = 1.4826 * np.median(np.abs(values[there] - middle))
        return there & (np.abs(values - middle) <= KAPPA * np.maximum(sigma * spread, scatter))
    if method in ("clip", "weighted"):
        return by_the_others(values, there, sigma, spread)
    return there


def place_by_place(values, method, noise, weights, spread):
    """(value, samples kept) of the colours of one place (n, 3): what is left out in one colour is left out in
    all."""
    kept = np.stack([kept_of(values[:, c], method, noise[c], spread) for c in range(3)], axis=1)
    there, out = values > 0, []
    if method in ("clip", "weighted"):
        together = (kept | ~there).all(axis=1)
        kept = together[:, None] & there if (together[:, None] & there).any() else there
    for c in range(3):
        v, k = values[:, c], kept[:, c]
        if not there[:, c].any():
            out.append((0.0, 0))
            continue
        value = {"median": lambda v=v, c=c: np.median(v[there[:, c]]), "trails": lambda v=v: v.max()}.get(
            method, lambda v=v, k=k: np.average(v[k], weights=weights[k])
        )()
        out.append((value, k.sum()))
    return out


def by_the_others(values, kept, sigma, spread):
    kept = kept.copy()
    while kept.sum() > 1:
        index, worst = np.flatnonzero(kept), []
        for i in index:
            others = values[index[index != i]]
            scatter = others.std() if len(index) > 3 else 0
            floor = sigma * spread[i] + (0.05 * others.mean() if len(index) <= 3 else 0)
            worst.append(
                abs(values[i] - others.mean()) / (max(floor, scatter) * np.sqrt(1 + 1 / len(others)))
            )
        if max(worst) <= KAPPA:
            break
        out = index[np.argmax(worst)] if len(index) > 2 else index[np.argmax(values[index])]
        kept[out] = False
    return kept


def a_cube(n, seed, holes=0.1, outliers=0.05):
    drawn = np.random.default_rng(seed)
    level = PEDESTAL + drawn.uniform(200, 9000, (1, 6, 9, 3))
    deviation = np.sqrt(NOISE[:, 0] + NOISE[:, 1] * (level - PEDESTAL))
    cube = level + drawn.normal(0, 1, (n, 6, 9, 3)) * deviation
    cube += (drawn.uniform(size=cube.shape) < outliers) * drawn.uniform(8, 60, cube.shape) * deviation
    cube = np.clip(cube.round(), 1, 65535).astype(np.uint16)
    cube[drawn.uniform(size=cube.shape[:3]) < holes] = 0
    cube[:, 0, 0] = 0
    cube[1:, 0, 1] = 0
    return cube


@pytest.mark.parametrize("method", [str(m) for m in Method])
@pytest.mark.parametrize(
    ("n", "uneven"), [(1, False), (2, False), (3, True), (6, False), (10, True), (11, True), (24, False)]
)
def test_every_place_is_what_the_plain_rules_give(method, n, uneven):
    cube = a_cube(n, 10 * n + uneven)
    drawn = np.random.default_rng(n)
    weights = drawn.uniform(0.3, 2, n).astype(np.float32) if uneven else np.ones(n, np.float32)
    spread = drawn.uniform(1, 1.6, n).astype(np.float32) if uneven else np.ones(n, np.float32)
    found = combine(cube, Rules(Method(method), NOISE, weights, spread, KAPPA))
    shape, out, count, lost = cube.shape[1:], found.picture, found.count, found.left_out
    unlike = 0
    for y, x in np.ndindex(*shape[:2]):
        rows = place_by_place(
            cube[:, y, x].astype(float), method, NOISE, weights.astype(float), spread.astype(float)
        )
        if any(count[y, x, c] != rows[c][1] for c in range(3)):
            unlike += 1  # a sample that lies on the limit to the last digit may fall to either side
            continue
        for c, (value, _) in enumerate(rows):
            assert out[y, x, c] == pytest.approx(value, rel=1e-5)
    assert unlike <= 1
    given = (cube[..., 1] > 0).sum(axis=0)
    expected = np.where(given > 0, 1 - count[..., 1] / np.maximum(given, 1), 0)
    assert lost == pytest.approx(expected, abs=1e-6)


@pytest.mark.parametrize(
    ("method", "as_plain"), [("mean", np.mean), ("clip", np.mean), ("median", np.median)]
)
def test_the_noise_that_is_stated_is_that_of_the_method(method, as_plain):
    """The median of many normal samples is up to sqrt(pi / 2) times as noisy as their mean."""
    n, deviation = 24, 90.0
    cube = np.random.default_rng(5).normal(6000, deviation, (n, 256, 256, 3)).round().astype(np.uint16)
    ones = np.ones(n, np.float32)
    rules = Rules(Method(method), np.tile([deviation**2, 0.0], (3, 1)), ones, ones, 6.0)
    single, stacked = noise_seen(cube, np.full(cube.shape[1:], n, np.uint16), rules)
    assert single * SPAN == pytest.approx(deviation, rel=0.03)
    assert stacked * SPAN == pytest.approx(as_plain(cube[..., 1], axis=0).std(), rel=0.04)


def test_matched_light_is_scaled_and_shifted_and_clipped_samples_are_given_up():
    drawn = np.random.default_rng(4)
    samples = drawn.integers(1, 60000, (7, 11, 3)).astype(np.uint16)
    samples[2, 3] = 0
    surface = drawn.normal(0, 300, (3, 6))
    got = samples.copy()
    normalize_into(got, 0.8, surface, 500.0, 200.0, 4000.0, 3000.0, 55000.0)
    y, x = np.mgrid[:7, :11].astype(float)
    u, v = (500 + x) / 4000, (200 + y) / 3000
    terms = np.stack([np.ones_like(u), u, v, u * u, u * v, v * v], axis=-1)
    wanted = (samples.astype(float) - PEDESTAL) * 0.8 + PEDESTAL + terms @ surface.T
    wanted = np.where((samples == 0) | (samples >= 55000), 0, np.clip(np.floor(wanted + 0.5), 1, 65535))
    assert np.abs(got.astype(float) - wanted).max() <= 1  # a rounding
    assert (got[2, 3] == 0).all() and (got[samples >= 55000] == 0).all() and (samples >= 55000).any()


def test_sky_and_ground_are_joined_by_the_mask_and_where_no_sky_is():
    sky, ground = np.full((2, 3, 3), 100.0, np.float32), np.full((2, 3, 3), 20.0, np.float32)
    count = np.full((2, 3, 3), 5, np.uint16)
    count[1, 2] = 0
    mask = np.array([[255, 225, 0], [255, 127, 255]], np.uint8)
    join(sky, ground, mask, count)  # what is half sky shows it in the ground's frames already
    assert sky[..., 0] == pytest.approx(np.array([[100, 68, 20], [100, 20, 20]]))


@pytest.mark.parametrize("h", [np.eye(3), np.array([[1, 0.01, -7.3], [-0.02, 1, 4.6], [0, 1e-5, 1]])])
def test_what_is_no_sky_of_a_frame_gives_no_sample(h):
    """Blocks that are all sky, that are none, that are mixed, and such as lie beyond the frame's edge."""
    samples = np.full((100, 140, 3), 900, np.uint16)
    usable = np.zeros((120, 150), np.uint8)
    usable[:70, :90] = 255
    usable[20:24, 10:14] = 128
    blank(samples, usable, h)
    y, x = np.mgrid[:100, :140]
    there = np.stack([x, y, np.ones_like(x)], axis=-1) @ h.T
    place = np.asarray(there[..., :2] / there[..., 2:], np.float32)
    seen = cv2.remap(usable.astype(np.float32), place, None, cv2.INTER_LINEAR)
    wrong = (samples[..., 0] > 0) != (seen >= 249.5)
    assert wrong.mean() < 0.002  # a rounding, on the border
    assert (samples == samples[..., :1]).all() and 0.2 < (samples > 0).mean() < 0.7
