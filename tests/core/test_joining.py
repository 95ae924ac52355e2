"""Stacks of overlapping fields joined: stars across seams, seams in the sky, the horizon, the layouts."""

from dataclasses import replace

import cv2
import numpy as np
import pytest
import tifffile
from fields import LENS, SITE, fields_of

from vinter.core.camera.projection import LAYOUTS, laid_out, laid_out_rays
from vinter.core.errors import BadInput
from vinter.core.frames.stars import background, find_stars
from vinter.core.sky.catalogue import star_table
from vinter.core.stack.joining.drawing import join, largest_rectangle


@pytest.fixture(scope="module")
def fields():
    """Three fields to the right of each other, ten minutes apart."""
    return fields_of()


@pytest.fixture(scope="module")
def joined(fields, tmp_path_factory):
    out = tmp_path_factory.mktemp("joined") / "wide.tif"
    return join(fields, SITE, out), out


@pytest.mark.parametrize("layout", LAYOUTS)
def test_layouts_have_an_inverse(layout):
    rng = np.random.default_rng(1)
    rays = rng.normal(size=(200, 3)) * [1, 0.4, 0] + [0, 0, 1.5]
    rays /= np.linalg.norm(rays, axis=1, keepdims=True)
    back = laid_out_rays(laid_out(rays, 900.0, layout, (10.0, 20.0)), 900.0, layout, (10.0, 20.0))
    assert np.abs(back - rays).max() < 1e-6


def test_the_largest_rectangle_is_found():
    full = np.zeros((9, 12), bool)
    full[2:7, 3:11] = True
    full[0:9, 5] = True
    assert largest_rectangle(full) == (3, 2, 8, 5)


def test_stars_stand_where_the_catalogue_has_them_across_the_seams(joined, fields):
    result, path = joined
    rgb = tifffile.imread(path)
    assert result.field.layout == "cylindrical" and rgb.shape[1] > 1.3 * LENS.width
    assert result.report["shared_stars"] > 300 and result.report["shared_px"] < 0.15
    plane = np.ascontiguousarray(rgb[..., 1]) * 1e4
    floor = background(plane)
    found = find_stars(plane, floor).stars
    xy = (np.asarray(found.xy, float) - 0.5) / 2  # the finder doubles the places of a half-size plane
    vectors, v, _ = star_table()
    some = (v < 5.5) & (v > 2.0)
    x, y, front = result.field.places(vectors[some])
    inside = front & (x > 20) & (y > 20) & (x < rgb.shape[1] - 20) & (y < rgb.shape[0] - 20)
    at = np.c_[x, y][inside]
    mask = cv2.imread(str(path.with_suffix(".mask.png")), 0)
    at = at[mask[at[:, 1].astype(int), at[:, 0].astype(int)] > 250]
    away = np.hypot(*(xy[:, None, :] - at[None, :, :]).transpose(2, 0, 1)).min(axis=0)
    assert len(at) > 80 and np.median(away) < 0.12, np.median(away)
    # across the two seams as good as elsewhere
    seams = [f * rgb.shape[1] for f in (1 / 3, 2 / 3)]
    close = np.abs(at[:, :1] - np.array([seams])).min(axis=1) < 0.08 * rgb.shape[1]
    assert close.sum() > 10 and np.median(away[close]) < 0.12


def test_the_sky_has_no_seam(joined, fields):
    _, path = joined
    rgb = tifffile.imread(path)
    mask = cv2.imread(str(path.with_suffix(".mask.png")), 0)
    step = 24
    h, w = rgb.shape[0] // step * step, rgb.shape[1] // step * step
    blocks = np.median(rgb[:h, :w, 1].reshape(h // step, step, w // step, step), axis=(1, 3))
    sky = mask[:h, :w].reshape(h // step, step, w // step, step).min(axis=(1, 3)) > 250
    # a seam is a step in the level from column to column that many rows share
    steps = np.diff(np.log(np.maximum(blocks, 1e-9)), axis=1)
    both = sky[:, 1:] & sky[:, :-1]
    level = [np.median(steps[both[:, i], i]) for i in range(steps.shape[1]) if both[:, i].sum() > 8]
    smooth = np.convolve(level, np.ones(5) / 5, mode="same")
    assert np.abs(np.array(level) - smooth)[3:-3].max() < 0.01


def test_a_field_without_a_neighbour_and_a_lonely_one_are_named(fields, tmp_path):
    with pytest.raises(BadInput, match="2 to 8"):
        join(fields[:1], SITE, tmp_path / "a.tif")
    turned = replace(fields[2], name="the far one", field=fields[2].field, unix=fields[2].unix + 6 * 3600)
    away = replace(
        turned.field, rotation=(np.array(turned.field.rotation) @ np.diag([-1.0, -1.0, 1.0])).tolist()
    )
    with pytest.raises(BadInput, match="far one: it does not overlap"):
        join(
            [fields[0], replace(turned, field=away)],
            SITE,
            tmp_path / "a.tif",
            layout="equal-angle",
            width=600,
        )
