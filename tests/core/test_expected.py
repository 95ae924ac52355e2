"""What a plan promises against a take that is really simulated and stacked."""

from dataclasses import replace

import cv2
import numpy as np
import pytest
from inline import Inline

from vinter.core.camera.phones import phone
from vinter.core.finish.moves.core_light import CoreLight
from vinter.core.frames.mosaic import demosaic
from vinter.core.frames.stars import find_stars
from vinter.core.planning.shot import plan_shot
from vinter.core.simulate.capture import Burst
from vinter.core.simulate.expected import RGGB, finished, part_of, whole
from vinter.core.simulate.phone import SimulatedPhone
from vinter.core.simulate.shooting import shoot
from vinter.core.sky.site import Site
from vinter.core.stack.file import read_stack
from vinter.core.stack.pipeline import stack
from vinter.core.stack.settings import Settings

MILL = Site(lat=37.702, lon=-8.772, tz="Europe/Lisbon", zenith=21.5)
WHEN, COUNT = 1812588300.0, 8
LENS = replace(phone("marlet-7").lens("main"), width=1512, height=1134, pitch=3.0, well=13500.0)


def burst(count=COUNT):
    plan = plan_shot(MILL, WHEN, LENS)
    return Burst(
        site=MILL, lens=LENS, start=WHEN, pose=plan.pose, iso=1600, shutter=8.0, count=count, traffic=False
    )


@pytest.fixture(scope="module")
def real(tmp_path_factory):
    """A take really simulated, developed and stacked: linear picture of its middle frame and of the stack."""
    folder = tmp_path_factory.mktemp("take")
    shoot(burst(), folder / "frames")
    stack([folder / "frames"], folder / "stack.tif", Settings(), pool=Inline())
    picture, mask, _ = read_stack(folder / "stack.tif")
    camera = SimulatedPhone(burst())
    info = camera.info(COUNT // 2)
    level = (camera.frame(COUNT // 2).astype(np.float32) - info.black) / (info.white - info.black)
    frame = demosaic(np.clip(level * 60000 + 4096, 0, 65535).astype(np.uint16), RGGB)
    return (frame.astype(np.float32) - 4096) / 60000, picture, mask > 250


@pytest.fixture(scope="module")
def promised():
    middle = burst()
    return part_of(replace(middle, start=middle.middle(COUNT // 2) - 4.0), 0, 0, (LENS.width, LENS.height))


def noise(rgb, sky):
    """Scatter of green between places four pixels apart in the sky, stars clipped off."""
    g = rgb[..., 1]
    d = (g[:, 4:] - g[:, :-4])[sky[:, 4:] & sky[:, :-4]]
    for _ in range(8):
        d = d[np.abs(d - d.mean()) < 3 * d.std()]
    return d.std() / np.sqrt(2)


def width(rgb):
    green = np.ascontiguousarray(cv2.resize(rgb[..., 1], None, fx=0.5, fy=0.5, interpolation=cv2.INTER_AREA))
    stars = find_stars(green).stars
    return float(np.median(stars.fwhm[:60]))


def contrast(rgb, sky):
    """The band's brightest patches over the sky's darkest, smoothed over two degrees."""
    smooth = cv2.blur(rgb[..., 1], (61, 61))
    inside = cv2.erode(sky.astype(np.uint8), np.ones((121, 121))) > 0
    low, high = np.percentile(smooth[inside], (5, 98))
    return high / low


def test_noise_star_width_and_band_are_those_of_a_take_that_is_really_stacked(real, promised):
    frame, picture, sky = real
    shown = (promised.sky > 0.99) & sky[: promised.sky.shape[0], : promised.sky.shape[1]]
    assert noise(promised.frame, shown) == pytest.approx(noise(frame, shown), rel=0.10)
    assert noise(promised.stack, shown) == pytest.approx(noise(picture, shown), rel=0.10)
    assert width(promised.frame) == pytest.approx(width(frame), rel=0.10)
    assert width(promised.stack) == pytest.approx(width(picture), rel=0.10)
    assert contrast(promised.stack, shown) == pytest.approx(contrast(picture, shown), rel=0.10)


def test_the_reduced_picture_is_the_full_one_gathered(real):
    """Its levels and its noise are those of the stack with blocks of pixels averaged."""
    _, picture, sky = real
    found = whole(burst(), across=LENS.width // 4)
    height, wide = found.sky.shape
    gathered = cv2.resize(picture, (wide, height), interpolation=cv2.INTER_AREA)
    inside = (cv2.resize(sky.astype(np.float32), (wide, height), interpolation=cv2.INTER_AREA) > 0.999) & (
        found.sky > 0.99
    )
    assert np.median(found.stack[inside, 1]) == pytest.approx(np.median(gathered[inside, 1]), rel=0.05)
    assert noise(found.stack, inside) == pytest.approx(noise(gathered, inside), rel=0.25)
    assert noise(found.frame, inside) > 1.8 * noise(found.stack, inside)


def test_the_finish_of_the_plan_shows_the_band_and_dark_ground():
    found = whole(burst(), across=400)
    frame, picture, recipe, _ = finished(found)
    assert frame.shape == picture.shape == (300, 400, 3) and recipe.of(CoreLight).brightness > 0
    sky, ground = found.sky > 0.99, found.sky < 0.01
    assert np.median(picture[sky]) > np.median(picture[ground])
    assert noise(frame.astype(np.float32), sky) > 1.5 * noise(picture.astype(np.float32), sky)
