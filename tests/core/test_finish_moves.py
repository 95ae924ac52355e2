"""Moves of the finish on pictures whose right answer is known: upright walls, fringes, plain sky, rounder
stars, highlights, hues."""

from dataclasses import replace

import cv2
import numpy as np
import pytest

from vinter.core.camera.photons import srgb
from vinter.core.finish.canvas import fresh
from vinter.core.finish.moves.colour import Colour as Tones
from vinter.core.finish.moves.colour import Saturation, SkySaturation
from vinter.core.finish.moves.corners import Corners
from vinter.core.finish.moves.curve import BRIGHTEST, LUT_SIZE, curve_table
from vinter.core.finish.moves.fine_scales import FineScales
from vinter.core.finish.moves.geometry import Geometry
from vinter.core.finish.moves.gradient_removal import GradientRemoval, plain_level
from vinter.core.finish.moves.noise_reduction import NoiseReduction, Smoothing
from vinter.core.finish.moves.stars import Stars
from vinter.core.finish.scene import prepare
from vinter.core.finish.smooth_glow import fitted_glow, surface
from vinter.core.finish.star_field import found_stars, star_field
from vinter.core.frames.adaptive_moments import shapes
from vinter.core.frames.frame import Colour

WIDE = 70.0  # degrees that a picture of unknown lens is taken for


def scene_of(rgb, mask=None):
    return prepare(np.asarray(rgb, np.float32), mask, Colour())


def walls(height, width, up, lean, focal):
    """Upright walls as a camera sees them that looks up by ``up`` and leans by ``lean`` degrees: bright where
    the azimuth of what is seen is within a degree of one in twenty."""
    y, x = np.mgrid[:height, :width].astype(float)
    x, y = x - (width - 1) / 2, y - (height - 1) / 2
    c, s = np.cos(np.radians(lean)), np.sin(np.radians(lean))
    x, y = c * x - s * y, s * x + c * y  # as the camera would see it standing level
    a = np.radians(up)
    ahead = focal * np.cos(a) + y * np.sin(a)
    azimuth = np.degrees(np.arctan2(x, ahead))
    return np.clip(1.5 - np.abs((azimuth + 10) % 20 - 10), 0, 1)


@pytest.mark.parametrize(("up", "lean"), [(20.0, 0.0), (28.0, 3.0), (-15.0, -2.0)])
def test_walls_stand_upright_when_the_look_up_is_undone(up, lean):
    height, width = 600, 800
    focal = width / np.radians(WIDE)  # of the angle a pixel has in the middle
    wall = walls(height, width, up, lean, focal)
    rgb = np.repeat((0.05 + 0.5 * wall)[..., None], 3, axis=2)
    one = scene_of(rgb)
    canvas = Geometry(level=lean, upright=up).apply(fresh(one), one)
    light = canvas.rgb[..., 1]
    h, w = light.shape
    assert h > 150 and w > 200
    # a wall is a column: its middle is at the same place in the upper and the lower third
    places = []
    for rows in (slice(4, 14), slice(h // 2 - 5, h // 2 + 5), slice(h - 14, h - 4)):
        row = light[rows].mean(axis=0)
        above = row > 0.3
        starts = np.flatnonzero(np.diff(above.astype(int)) == 1)
        ends = np.flatnonzero(np.diff(above.astype(int)) == -1)
        middles = [
            float(np.average(np.arange(a, b + 2), weights=row[a : b + 2]))
            for a in starts
            for b in ends
            if 0 < b - a < 60 and not any(a < o < b for o in starts)
        ]
        places.append(middles)
    for middle in places[1]:
        for others in (places[0], places[2]):
            near = min(others, key=lambda o: abs(o - middle), default=None)
            if near is not None and abs(near - middle) < 25:
                assert abs(near - middle) < 1.0
    assert len(places[1]) >= 2
    # and without it they lean
    leaning = Geometry(level=lean).apply(fresh(one), one).rgb[..., 1]
    assert np.abs(leaning[5] - leaning[-6]).mean() > 3 * np.abs(light[5] - light[-6]).mean()


def test_a_place_is_found_again_in_an_upright_picture():
    rgb = np.full((300, 400, 3), 0.02, np.float32)
    rgb[118:123, 238:243] = 0.5
    one = scene_of(rgb)
    canvas = Geometry(level=2, upright=18, ratio="1:1", size=0.9).apply(fresh(one), one)
    spot = cv2.GaussianBlur(canvas.rgb[..., 1], (0, 0), 2)
    y, x = np.unravel_index(int(np.argmax(spot)), spot.shape)
    assert canvas.pixels(np.array([[240.5 / 400, 120.5 / 300]]))[0] == pytest.approx((x, y), abs=1.2)
    across, down = canvas.places(1000)
    assert ((across > -0.01) & (across < 1.01) & (down > -0.01) & (down < 1.01)).all()  # no empty corner


def test_a_free_crop_has_its_proportion():
    one = scene_of(np.full((300, 400, 3), 0.02))
    canvas = Geometry(ratio="free", aspect=2.2, size=0.7).apply(fresh(one), one)
    h, w = canvas.sky.shape
    assert w / h == pytest.approx(2.2, rel=0.02) and w == pytest.approx(0.7 * 400, abs=2)


def stars_picture(red=0.0, blue=0.0, trail=0.0, angle=0.0, count=500, seed=4):
    """Gaussian stars on a sky; red and blue larger than green by px in the corner, all drawn out by a
    trail."""
    height, width = 900, 1200
    rng = np.random.default_rng(seed)
    x, y = rng.uniform(20, width - 20, count), rng.uniform(20, height - 20, count)
    flux = 10 ** rng.uniform(-0.4, 0.9, count)
    corner = np.hypot(width, height) / 2
    rgb = np.full((height, width, 3), 0.02)
    gy, gx = np.mgrid[-14:15, -14:15].astype(float)
    way = np.array([np.cos(np.radians(angle)), np.sin(np.radians(angle))])
    for sx, sy, f in zip(x, y, flux, strict=True):
        for c, grown in enumerate((red, 0.0, blue)):
            cx = (width - 1) / 2 + (sx - (width - 1) / 2) * (1 + grown / corner)
            cy = (height - 1) / 2 + (sy - (height - 1) / 2) * (1 + grown / corner)
            ix, iy = round(cx), round(cy)
            steps = np.linspace(-0.5, 0.5, 15) * trail if trail else [0.0]
            star = np.mean(
                [
                    np.exp(
                        -((gx - (cx - ix) - t * way[0]) ** 2 + (gy - (cy - iy) - t * way[1]) ** 2)
                        / (2 * 1.3**2)
                    )
                    for t in steps
                ],
                axis=0,
            )
            part = rgb[iy - 14 : iy + 15, ix - 14 : ix + 15, c]
            if part.shape == star.shape:
                part += 0.06 * f * star
    rgb += rng.normal(0, 0.0007, rgb.shape)
    return rgb.astype(np.float32)


def seen_in(rgb):
    return star_field(rgb, np.ones(rgb.shape[:2], np.float32), *found_stars(rgb))


def test_fringes_are_measured_from_stars_and_drawn_in():
    rgb = stars_picture(red=0.9, blue=-0.6)
    found = seen_in(rgb)
    assert found.red == pytest.approx(0.9, abs=0.08) and found.blue == pytest.approx(-0.6, abs=0.08)
    assert found.error < 0.05 and found.trail == 0
    one = scene_of(rgb)
    mended = Corners(red=found.red, blue=found.blue).apply(fresh(one), one).rgb
    again = seen_in(mended)
    assert abs(again.red) < 0.12 and abs(again.blue) < 0.12
    none = seen_in(stars_picture())
    assert none.red == none.blue == 0  # what is not sure is not said


@pytest.mark.parametrize(("trail", "angle"), [(5.0, 30.0), (4.0, -70.0)])
def test_trailed_stars_become_rounder_and_keep_their_light(trail, angle):
    rgb = stars_picture(trail=trail, angle=angle, count=300)
    found = seen_in(rgb)
    assert found.trail == pytest.approx(trail, rel=0.15)
    assert abs((found.angle - angle + 90) % 180 - 90) < 4
    one = scene_of(rgb)
    canvas = replace(fresh(one), rgb=np.asarray(np.clip(one.rgb * 4, 0, 1) ** 0.6, np.float32))
    rounder = Stars(rounder=1.0).apply(canvas, one).rgb

    def elongation(picture):
        plane, stars = found_stars(picture)
        bright = np.flatnonzero(stars.peak > np.median(stars.peak))[:150]
        at = stars.take(bright)
        return float(np.nanmedian(shapes(plane, (at.x - 0.5) / 2, (at.y - 0.5) / 2)[1]))

    before, after = elongation(canvas.rgb), elongation(rounder)
    assert before > 1.35 and after - 1 < 0.55 * (before - 1)
    base = np.median(canvas.rgb)
    assert (rounder - base).clip(0).sum() == pytest.approx((canvas.rgb - base).clip(0).sum(), rel=0.12)
    assert np.median(rounder) == pytest.approx(base, abs=0.003)  # the sky stays


def test_round_stars_are_left_alone():
    one = scene_of(stars_picture())
    canvas = replace(fresh(one), rgb=one.rgb)
    assert np.array_equal(Stars(rounder=1.0).apply(canvas, one).rgb, canvas.rgb)


def test_a_gradient_is_taken_out_through_places_marked_as_plain_sky():
    """A gradient planted under a bright band that covers the middle: places beside the band tell it."""
    height, width = 600, 800
    y, x = np.mgrid[:height, :width].astype(float)
    u, v = (x + 0.5) / width, (y + 0.5) / height
    planted = 0.02 * (1 + 0.9 * u + 0.5 * v * v)
    band = 0.03 * np.exp(-(((u - 0.5) / 0.14) ** 2))
    rng = np.random.default_rng(2)
    rgb = np.repeat((planted + band)[..., None], 3, axis=2) + rng.normal(0, 3e-4, (height, width, 3))
    one = scene_of(rgb)
    marks = [(a, b) for a in (0.06, 0.12, 0.9, 0.95) for b in (0.08, 0.5, 0.92)]
    move = GradientRemoval(share=1.0, plain=tuple((a, b, *plain_level(one, a, b).tolist()) for a, b in marks))
    out = move.apply(fresh(one), one).rgb[..., 1]
    left = cv2.blur(out - band.astype(np.float32), (41, 41))[40:-40, 40:-40]
    span = planted.max() - planted.min()
    assert left.max() - left.min() < 0.03 * span
    few = GradientRemoval(share=1.0, plain=move.plain[:2])
    assert np.array_equal(
        few.apply(fresh(one), one).rgb, GradientRemoval(share=1.0).apply(fresh(one), one).rgb
    )


def test_highlights_are_held_back_or_let_go_and_shadows_stay():
    linear = np.linspace(0, 1, LUT_SIZE) ** 2 * BRIGHTEST
    plain, held, free = (curve_table(1.0, (), a) for a in (0.0, 1.0, -1.0))
    assert all((np.diff(t) >= -1e-6).all() for t in (plain, held, free))
    dark = linear < 0.05
    assert np.allclose(held[dark], plain[dark]) and np.allclose(plain[dark], srgb(linear[dark]), atol=1e-6)
    bright = (linear > 0.6) & (linear < 6)
    assert (held[bright] < plain[bright]).all() and (free[bright] > plain[bright]).all()
    assert held[np.searchsorted(linear, 1.0)] < plain[np.searchsorted(linear, 1.0)] - 0.05


def test_each_hue_has_its_own_colour():
    patches = {
        "yellow": (0.6, 0.5, 0.3),
        "blue": (0.2, 0.25, 0.45),
        "red": (0.6, 0.3, 0.3),
        "grey": (0.4,) * 3,
    }
    rgb = np.stack([np.tile(np.float32(v), (4, 1)) for v in patches.values()], axis=1)
    one = scene_of(np.full((300, 400, 3), 0.02))
    canvas = replace(fresh(one), rgb=np.ascontiguousarray(rgb), sky=np.ones((4, 4), np.float32))

    def spread(move):
        out = move.apply(canvas, one).rgb[0]
        return dict(zip(patches, out.max(axis=1) - out.min(axis=1), strict=True))

    still = spread(Tones(sky=SkySaturation(saturation=1e-6)))
    for hue in ("yellow", "blue", "red"):
        more = spread(Tones(sky=SkySaturation(**{hue: 0.8})))
        assert more[hue] > 1.3 * still[hue]
        # red and yellow lie beside each other on the wheel and share some
        others = set(patches) - ({hue} if hue == "blue" else {"red", "yellow"})
        assert all(more[o] == pytest.approx(still[o], abs=0.02) for o in others)


def test_the_ground_can_be_warm_under_a_cool_sky():
    one = scene_of(np.full((300, 400, 3), 0.02))
    sky = np.ones((4, 4), np.float32)
    sky[2:] = 0
    canvas = replace(fresh(one), rgb=np.full((4, 4, 3), 0.4, np.float32), sky=sky)
    out = Tones(sky=SkySaturation(warmth=-0.4), ground=Saturation(warmth=0.4)).apply(canvas, one).rgb
    assert out[0, 0, 0] < 0.39 < 0.41 < out[0, 0, 2] and out[3, 0, 0] > 0.41 > 0.39 > out[3, 0, 2]
    # a warmth in EV is that of the light: 0.4 EV between red and blue
    light = np.where(out > 0, ((out + 0.055) / 1.055) ** 2.4, 0)
    assert np.log2(light[3, 0, 0] / light[3, 0, 2]) == pytest.approx(0.4, abs=0.06)


def test_fine_scales_give_back_what_a_blur_took_and_leave_the_grain():
    rng = np.random.default_rng(6)
    height = width = 256
    y, x = np.mgrid[:height, :width].astype(float)
    disc = np.clip(80 - np.hypot(x - 128, y - 128), 0, 1) * 0.5
    for _ in range(60):
        cx, cy = rng.normal(128, 35, 2)
        disc *= 1 - 0.4 * np.exp(-(((x - cx) ** 2 + (y - cy) ** 2) / rng.uniform(2, 20)))
    soft = cv2.GaussianBlur(disc, (0, 0), 2.0) + 0.1 + rng.normal(0, 0.001, disc.shape)
    one = scene_of(np.full((height, width, 3), 0.02))
    canvas = replace(fresh(one), rgb=np.repeat(np.float32(soft)[..., None], 3, axis=2))
    sharp = FineScales(two=0.8, four=0.4).apply(canvas, one).rgb[..., 1]
    true = disc + 0.1
    inner = np.hypot(x - 128, y - 128) < 70
    assert np.abs(sharp - true)[inner].mean() < 0.8 * np.abs(soft - true)[inner].mean()
    far = np.hypot(x - 128, y - 128) > 100
    assert sharp[far].std() < 1.3 * soft[far].std()  # the dark about it is not made rough
    assert np.array_equal(FineScales().apply(canvas, one).rgb, canvas.rgb)


@pytest.mark.parametrize("grain", [0.02, 0.15])
def test_colour_noise_is_told_by_its_own_size_and_coloured_stars_stay(grain):
    """Grain of colour, weak or strong, loses the share that is asked for; a red star keeps its colour."""
    rng = np.random.default_rng(5)
    rgb = 0.3 + grain * rng.standard_normal((300, 400, 3))
    rgb[148:153, 198:203] = (1.0, 0.1, 0.1)
    one = scene_of(np.full((300, 400, 3), 0.02))
    canvas = replace(fresh(one), rgb=rgb.astype(np.float32))
    calm = NoiseReduction(sky=Smoothing(colour=0.8), ground=Smoothing(colour=0.8)).apply(canvas, one).rgb
    clear = np.s_[10:130, 10:390]
    before, after = ((v[clear][..., 0] - v[clear][..., 2]).std() for v in (rgb, calm))
    assert after < 0.4 * before
    assert calm[150, 200, 0] - calm[150, 200, 1] > 0.5
    assert calm[clear].mean() == pytest.approx(rgb[clear].mean(), abs=1e-3)


def test_a_dark_corner_is_followed_where_the_galaxy_is_lost_in_the_moons_light():
    """A bright sky that falls in one corner, over which the galaxy's faint light is brightest just there."""
    h, w = 90, 120
    x, y = np.meshgrid((np.arange(w) + 0.5) / w, (np.arange(h) + 0.5) / h)
    fall = 1 - 0.2 * np.exp(-(x**2 + y**2) / 0.02)
    galaxy = np.exp(-(x + y) / 0.3)
    rng = np.random.default_rng(3)
    sky = 0.02 * fall[..., None] * np.array([0.5, 1.0, 0.63]) + 2e-4 * galaxy[..., None]
    noisy = np.asarray(sky * (1 + 0.004 * rng.standard_normal((h, w, 3))), np.float32)
    glow = fitted_glow(noisy, np.ones((h, w), np.float32), np.repeat(galaxy[..., None], 3, axis=2))
    off = surface(glow, x, y) / sky - 1
    assert np.abs(off[:3, :3]).max() < 0.03 and np.abs(off[:20, :20]).mean() < 0.01
    # a band that is a third of the sky's light stays in the picture
    band = np.exp(-(((x - y) / 0.12) ** 2))
    bright = np.asarray(sky + 0.006 * band[..., None], np.float32)
    kept = bright - surface(
        fitted_glow(bright, np.ones((h, w), np.float32), np.repeat(band[..., None], 3, axis=2)), x, y
    )
    assert np.median(kept[band > 0.8]) > 0.8 * 0.006 * np.median(band[band > 0.8])


@pytest.mark.parametrize("bright_sky", [True, False])
def test_smoothing_carries_no_light_over_the_skyline(bright_sky):
    """The first row of ground under a sky six times as bright, and of sky over ground as much brighter, keep
    their light; grain a few rows from the edge is smoothed."""
    rng, share = np.random.default_rng(8), np.zeros((160, 200), np.float32)
    share[:78], share[78], share[79] = 1, 0.75, 0.25
    light = np.where(bright_sky, 0.02 + 0.1 * share, 0.12 - 0.1 * share)
    rgb = np.repeat(light[..., None], 3, axis=2) + rng.normal(0, 0.01, (160, 200, 3))
    canvas = replace(
        fresh(one := scene_of(np.full((160, 200, 3), 0.02))), rgb=np.asarray(rgb, np.float32), sky=share
    )
    full = Smoothing(colour=1.0, light=1.0)
    calm = NoiseReduction(sky=full, ground=full).apply(canvas, one).rgb
    first = 80 if bright_sky else 77
    assert calm[first].mean() == pytest.approx(0.02, abs=0.002)
    for part in (np.s_[20:70], np.s_[90:150]):
        assert calm[part].mean(axis=2).std() < 0.75 * rgb[part].mean(axis=2).std()
