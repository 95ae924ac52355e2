"""Dark corners measured from stars: a solved field whose lens and air are made up here."""

import tracemalloc
from dataclasses import asdict, replace
from pathlib import Path

import numpy as np
import pytest
from scipy.spatial import cKDTree

from vinter.core.camera.phones import SHIPPED
from vinter.core.camera.projection import east_north_up
from vinter.core.camera.solved_lens import with_corners
from vinter.core.frames.measure import Measure
from vinter.core.frames.stars import Stars
from vinter.core.sky.brightness import ray_airmass
from vinter.core.sky.catalogue import star_table, to_horizon
from vinter.core.sky.site import Site
from vinter.core.stack.ingest import Ingested, star_light
from vinter.core.stack.photometry.drift import drifting_stars
from vinter.core.stack.photometry.fitting import _noise, mag_lost
from vinter.core.stack.photometry.neighbours import light_expected
from vinter.core.stack.photometry.vignetting import (
    Source,
    Vignetting,
    corner_words,
    measure_vignetting,
    of_gear,
    vignetting_from,
)
from vinter.core.stack.plate_solve import Solution
from vinter.core.stack.registration.star_matching import Alignment

SITE = Site(lat=37.7, lon=-8.8, tz="Europe/Lisbon", zenith=21.5)
PLAIN = Measure(
    file="", kind="dng", width=0, height=0, iso=800, exposure_s=10.0, time=None, stars=300, fwhm_px=3.0,
    elongation=1.0, trail_px=0.0, background=0.01, noise=0.001, clipped_fraction=0.0, streaks=0, raw="sensor",
    raw_reasons=[],
)  # fmt: skip
UNIX, W, H, F = 1812588300.0, 4000, 3000, 2770.0


def field(altitude=40.0, azimuth=180.0):
    """A solution whose middle looks at an altitude and azimuth, upright."""
    forward = east_north_up(np.array([altitude]), np.array([azimuth]))[0]
    right = np.cross(forward, [0, 0, 1])
    right /= np.linalg.norm(right)
    camera = np.stack([right, np.cross(forward, right), forward])
    return Solution(
        rotation=(camera @ to_horizon(SITE, UNIX)).tolist(),
        focal_px=F,
        k1=0.0,
        width=W,
        height=H,
        matched=100,
        rms_px=0.5,
        centre=(0, 0),
        scale_arcsec=206265 / F,
        constellations=[],
        targets=[],
    )


def in_magnitudes(r2, corner):
    return corner * (0.6 * r2 + 0.4 * r2**2)


def cut_by_the_barrel(r2, corner):
    r2 = np.minimum(r2, 1)
    return -2.5 * np.log10(1 - (1 - 10 ** (-0.4 * corner)) * (0.7 * r2 + 0.3 * r2**2))


def seen(solution, corner, air, rng, scatter=0.15, fall=in_magnitudes):
    """Places and light of the catalogue's stars through a lens and an air."""
    vectors, v, _ = star_table()
    ra, dec = np.degrees(np.arctan2(vectors[:, 1], vectors[:, 0])), np.degrees(np.arcsin(vectors[:, 2]))
    x, y, front = solution.pixels(np.c_[ra, dec])
    up = np.clip((vectors @ to_horizon(SITE, UNIX).T)[:, 2], -1, 1)
    there = front & (x > 0) & (x < W) & (y > 0) & (y < H) & (v < 6.5) & (up > 0.05)
    r2 = ((x - (W - 1) / 2) ** 2 + (y - (H - 1) / 2) ** 2) / (((W - 1) / 2) ** 2 + ((H - 1) / 2) ** 2)
    # what a surface loses, less what a flat picture's pixel sees less of it, is what a star loses
    theta = np.arctan(np.hypot(x - (W - 1) / 2, y - (H - 1) / 2) / F)
    mag = (
        v
        + fall(r2, corner)
        + 7.5 * np.log10(np.cos(theta))
        + air / np.maximum(up, 0.05)
        + rng.normal(0, scatter, len(v))
    )
    # a circle of 8 px holds neighbours too, and a ring from 12 to 18 px around it is taken off
    near = front & (np.abs(x - W / 2) < W / 2 + 50) & (np.abs(y - H / 2) < H / 2 + 50) & (v < 9.0)
    places, light = np.c_[x, y][near], 1e6 * 10 ** (-0.4 * mag[near])
    at = np.c_[x, y][there]
    within = [
        np.array([light[found].sum() for found in cKDTree(places).query_ball_point(at, radius)])
        for radius in (8.0, 12.0, 18.0)
    ]
    return catalogued(at), (within[0] - 64 / 180 * (within[2] - within[1])).astype(np.float32)


def catalogued(xy):
    """Stars at places, all alike."""
    n = len(xy)
    return Stars(
        x=xy[:, 0], y=xy[:, 1], flux=np.ones(n), peak=np.full(n, 900.0), fwhm=np.full(n, 3.0),
        elongation=np.ones(n), angle=np.zeros(n), error=np.full(n, 0.1),
    )  # fmt: skip


@pytest.mark.parametrize(("corner", "air"), [(0.6, 0.22), (1.2, 0.3), (0.0, 0.2)])
def test_the_lens_is_told_from_the_air(corner, air):
    solution = field()
    found = measure_vignetting(*seen(solution, corner, air, np.random.default_rng(2)), solution, SITE, UNIX)
    assert found.stars > 150 and found.corner == pytest.approx(corner, abs=max(3 * found.corner_error, 0.05))
    assert found.corner_error < 0.15 and found.air == pytest.approx(air, abs=3 * found.air_error)
    assert found.significant == (corner > 0)


def cut_late(r2, corner):
    return -2.5 * np.log10(1 - (1 - 10 ** (-0.4 * corner)) * np.minimum(r2, 1) ** 2)


def seen_from_the_side(r2, corner):
    return corner * np.log1p(0.8 * r2) / np.log1p(0.8)


@pytest.mark.parametrize("fall", [in_magnitudes, cut_by_the_barrel, cut_late, seen_from_the_side])
@pytest.mark.parametrize("corner", [0.6, 1.5])
def test_a_lens_of_any_form_is_followed_into_its_corners(corner, fall):
    """The mean of four draws of the stars' scatter, and each within what its error allows."""
    solution, r2, courses = field(), np.linspace(0, 1, 50), []
    for seed in range(4):
        drawn = seen(solution, corner, 0.25, np.random.default_rng(seed), 0.04, fall)
        found = measure_vignetting(*drawn, solution, SITE, UNIX)
        assert found.corner == pytest.approx(corner, abs=2 * found.corner_error)
        courses.append(mag_lost(found.lost, r2))
        square, fourth = found.two_terms  # as Gear keeps it
        assert square + fourth == pytest.approx(found.corner)
        assert square * r2 + fourth * r2**2 == pytest.approx(
            courses[-1], abs=0.2 if fall is cut_late else 0.12
        )
    assert np.mean(courses, axis=0) == pytest.approx(fall(r2, corner), abs=0.06)


@pytest.mark.parametrize("corner", [0.0, 0.6, 1.5])
@pytest.mark.parametrize("altitude", [22.0, 45.0, 70.0])
def test_without_a_place_the_air_is_tried_at_every_altitude(corner, altitude):
    solution = field(altitude)
    found = measure_vignetting(*seen(solution, corner, 0.25, np.random.default_rng(2)), solution)
    assert found.corner == pytest.approx(corner, abs=0.15) and found.corner_error < 0.2
    assert found.significant == (corner > 0)


def burst(corner, air, rng, frames=20, step=30.0, altitude=35.0, azimuth=150.0, scatter=0.04):
    """Frames of a tripod: the sky of ``field`` turns past a lens and an air; and which star is which."""
    first = field(altitude, azimuth)
    turn = np.array(first.rotation) @ to_horizon(SITE, UNIX).T
    vectors, v, _ = star_table()
    bright = np.flatnonzero(v < 6.0)
    half = np.array([(W - 1) / 2, (H - 1) / 2])
    made, numbers = [], []
    for i in range(frames):
        up = vectors[bright] @ to_horizon(SITE, UNIX + i * step).T
        rays = up @ turn.T
        xy = half + F * rays[:, :2] / rays[:, 2:]
        there = (rays[:, 2] > 0.1) & (np.abs(xy - half) < half).all(axis=1) & (up[:, 2] > 0.07)
        r2 = ((xy - half) ** 2).sum(axis=1) / (half**2).sum()
        starlight = corner * (0.6 * r2 + 0.4 * r2**2) - 3.75 * np.log10(1 + ((xy - half) ** 2).sum(1) / F**2)
        mag = v[bright] + starlight + air * ray_airmass(np.degrees(np.arcsin(up[:, 2])))
        light = 1e5 * 10 ** (-0.4 * (mag + rng.normal(0, scatter, len(mag)) + rng.normal(0, 0.1)))
        order = np.flatnonzero(there)[np.argsort(-light[there])]
        n = len(order)
        stars = Stars(
            x=xy[order, 0], y=xy[order, 1], flux=light[order], peak=np.full(n, 900.0), fwhm=np.full(n, 3.0),
            elongation=np.ones(n), angle=np.zeros(n), error=np.full(n, 0.1),
        )  # fmt: skip
        shape = replace(PLAIN, width=W, height=H)
        made.append(
            Ingested(path=Path(f"{i}.dng"), stars=stars, light=light[order].astype(np.float32), measure=shape)
        )
        numbers.append(order)
    base = frames // 2
    alignments = []
    for i, order in enumerate(numbers):
        _, here, there = np.intersect1d(order, numbers[base], return_indices=True)
        alignments.append(
            Alignment(True, "", pairs=np.c_[here, there] if i != base else np.empty((0, 2), int))
        )
    return made, alignments, base


@pytest.mark.parametrize("corner", [0.0, 0.6, 1.5])
@pytest.mark.parametrize("azimuth", [120.0, 180.0, 240.0])
def test_stars_that_drift_tell_without_a_field(corner, azimuth):
    made = burst(corner, 0.25, np.random.default_rng(4), azimuth=azimuth)
    found = drifting_stars(*made, F)
    assert found.corner == pytest.approx(corner, abs=0.3) and found.corner_error < 0.25
    assert found.source == Source.DRIFT and found.significant == (corner > 0)
    gains = found.gains((W, H))
    assert gains[0, 0] == pytest.approx(min(10 ** (0.4 * max(found.corner, 0)), 4), rel=0.02)


def test_a_long_burst_is_told_by_some_of_its_frames():
    """No more memory for hundreds of frames than for sixty, and the same answer."""
    rng = np.random.default_rng(4)
    many, few = (burst(0.6, 0.25, rng, frames=n, step=600 / n) for n in (180, 60))
    tracemalloc.start()
    took = []
    for made in (few, many):
        tracemalloc.reset_peak()
        held = tracemalloc.get_traced_memory()[0]
        found = drifting_stars(*made, F)
        took.append(tracemalloc.get_traced_memory()[1] - held)
        assert found.corner == pytest.approx(0.6, abs=0.2)
    tracemalloc.stop()
    assert took[1] < 1.3 * took[0]


def test_a_sky_that_hardly_moved_says_how_little_it_knows():
    short = drifting_stars(*burst(0.6, 0.25, np.random.default_rng(4), frames=6, step=5.0), F)
    assert not short.trusted and not short.to_even
    assert drifting_stars(*burst(0.6, 0.25, np.random.default_rng(4), frames=3), F) is None


def test_bright_stars_count_for_more_than_faint_ones_in_the_skys_noise():
    """Stars as noisy as they are faint: counted alike, six draws scatter by 0.12 mag."""
    solution, missed = field(), []
    for seed in range(6):
        rng = np.random.default_rng(seed)
        stars, light = seen(solution, 0.6, 0.25, rng, 0.03)
        noise = rng.normal(0, 0.2 * np.median(light) / np.maximum(light, 1)).clip(-0.7, 0.7)
        noisy = (light * 10 ** (0.4 * noise)).astype(np.float32)
        missed.append(measure_vignetting(stars, noisy, solution, SITE, UNIX).corner - 0.6)
    assert np.sqrt(np.mean(np.square(missed))) < 0.08


def test_the_noise_of_a_star_is_told_from_what_a_fit_leaves():
    """A part that all stars have, and one that grows as they are fainter."""
    rng = np.random.default_rng(6)
    magnitude = rng.uniform(2, 7, 900)
    true = np.hypot(0.05, 0.2 * 10 ** (0.4 * (magnitude - 7)))
    told = _noise(np.abs(rng.normal(0, true)), magnitude)
    assert told == pytest.approx(true, rel=0.25)
    surest = _noise(np.abs(rng.normal(0, 0.001, 900)), magnitude)
    assert surest == pytest.approx(0.03, rel=1e-3)  # no star is surer


def test_what_gear_knows_of_a_lens():
    lens = SHIPPED["marlet-7"].lens("main")
    assert of_gear(lens) is None
    known = of_gear(with_corners(lens, (0.4, 0.2, 0.06), "by 200 stars"))
    assert (known.corner, known.corner_error, known.source) == (pytest.approx(0.6), 0.06, Source.GEAR)
    assert known.to_even and known.starlight < known.corner
    said = corner_words({**asdict(known), "significant": True, "taken_out": True})
    assert said.startswith("0.60 mag darker ± 0.06 mag, evened out, as Gear has this lens; stars there ")
    assert vignetting_from(asdict(known)) == known


def test_a_lens_that_obeys_the_fourth_power_of_the_cosine():
    """An ideal lens: a star loses the first power (the pupil is seen from the side), a surface the fourth."""
    solution = field()
    stars, light = seen(solution, 0.0, 0.22, np.random.default_rng(5), 0.05)
    theta = np.arctan(np.hypot(*(stars.xy - [(W - 1) / 2, (H - 1) / 2]).T) / F)
    star = light * np.cos(theta) ** 4  # undoes the evened file of ``seen`` and lets the pupil's cosine in
    found = measure_vignetting(stars, star.astype(np.float32), solution, SITE, UNIX)
    corner = np.arctan(np.hypot(W - 1, H - 1) / 2 / F)
    assert found.corner == pytest.approx(-10 * np.log10(np.cos(corner)), abs=0.1)
    assert found.starlight == pytest.approx(-2.5 * np.log10(np.cos(corner)), abs=0.1)


def test_both_signs_are_said():
    solution = field()
    for corner, words in ((0.6, "darker"), (-0.5, "brighter"), (0.0, "even: ")):
        found = measure_vignetting(
            *seen(solution, corner, 0.22, np.random.default_rng(6)), solution, SITE, UNIX
        )
        said = corner_words({**asdict(found), "significant": found.significant, "taken_out": found.to_even})
        assert words in said.partition(";")[0] and ("evened out" in said) == (corner > 0)


def test_what_is_taken_out_is_what_the_lens_took():
    solution = field()
    found = measure_vignetting(
        *seen(solution, 1.0, 0.22, np.random.default_rng(3), 0.02), solution, SITE, UNIX
    )
    gains = found.gains((W, H))
    assert gains[1500, 2000] == pytest.approx(1, abs=0.01) and gains[0, 0] == pytest.approx(10**0.4, rel=0.05)
    assert gains.shape == (H, W) and gains.max() <= 4


def test_too_few_stars_tell_nothing():
    solution = field()
    stars, light = seen(solution, 0.5, 0.2, np.random.default_rng(4))
    assert measure_vignetting(stars.take(np.arange(30)), light[:30], solution, SITE, UNIX) is None


def test_what_neighbours_add_to_a_star_is_foretold():
    """Drawn stars, close ones among them, against the light that is measured of them."""
    rng = np.random.default_rng(8)
    places = rng.uniform(40, 760, (150, 2))
    light = 10 ** rng.uniform(3, 5, 150)
    y, x = np.mgrid[:400, :400] * 2 + 0.5
    plane = np.zeros((400, 400))
    for (px, py), much in zip(places, light, strict=True):
        plane += much * 4 / (2 * np.pi * 1.6**2) * np.exp(-((x - px) ** 2 + (y - py) ** 2) / (2 * 1.6**2))
    found = star_light(plane.astype(np.float32), catalogued(places))
    told = light_expected(places, light, np.arange(150), 1.6)
    alone = np.isfinite(told)
    assert 60 < alone.sum() < 149  # some are too close to each other to tell
    missed = np.abs(found[alone] / told[alone] - 1)
    assert np.median(missed) < 0.002 and missed.max() < 0.08, missed.max()
    off = np.abs(found[alone] / light[alone] - 1)
    assert off.max() > 0.1  # what is foretold is not nothing


@pytest.mark.parametrize(
    ("corner", "error", "evened"), [(0.6, 0.05, 1), (0.4, 0.24, 0), (-0.4, 0.05, 0), (9.0, 0.05, 0)]
)
def test_corners_are_evened_where_they_are_surely_darker_by_what_a_lens_does(corner, error, evened):
    fall = Vignetting(
        square=corner, fourth=0.0, corner=corner, corner_error=error, starlight=corner,
        air=0.2, air_error=0.02, scatter=0.1, stars=90,
    )  # fmt: skip
    assert fall.to_even == evened
