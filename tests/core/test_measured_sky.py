"""The sky measured from frames: simulated pictures of a known sky, measured without being told it."""

from dataclasses import replace

import numpy as np
import pytest
from fields import LENS, SITE, fields_of

from vinter.core.camera.projection import Pose, View
from vinter.core.stack.examination import Circumstances, examine
from vinter.core.stack.file import About, read_stack, write_stack
from vinter.core.stack.photometry.measured_sky import measure_sky
from vinter.core.stack.photometry.vignetting import Source, Vignetting, corner_words
from vinter.core.stack.single import Given, solve_picture


@pytest.mark.parametrize("true", [21.7, 21.1, 20.2])
def test_the_zenith_is_found_whatever_was_thought_of_it(true):
    """The phone stands under one sky, the plan believes in another, 0.4 mag off."""
    panel = fields_of(((176, 34, 0.5),), LENS, replace(SITE, zenith=true))[0]
    believed = replace(SITE, zenith=true + 0.4 if true < 21.5 else true - 0.4)
    found = measure_sky(panel.rgb, panel.sky, panel.field, believed, panel.unix)
    assert abs(found.zenith - true) < 0.15 and 0.1 <= found.error <= 0.2, found
    assert found.planned == pytest.approx(believed.zenith, abs=0.05)
    assert found.stars > 40 and found.patches > 100
    assert found.air == pytest.approx(SITE.extinction, abs=0.03)
    # brighter low down, towards the horizon
    low, high = found.by_altitude[0], found.by_altitude[-1]
    assert low[0] < high[0] and low[1] < high[1]


def test_what_cannot_be_measured_is_not_guessed():
    panel = fields_of(((176, 34, 0.0),), LENS, SITE)[0]
    noon = panel.unix + 12 * 3600
    assert measure_sky(panel.rgb, panel.sky, panel.field, SITE, noon) is None
    assert measure_sky(panel.rgb, np.zeros_like(panel.sky), panel.field, SITE, panel.unix) is None


@pytest.mark.parametrize("linear", [True, False])
def test_only_linear_data_tell_how_bright_the_sky_was(tmp_path, linear):
    panel = fields_of(((176, 34, 0.5),), LENS, SITE)[0]
    path = tmp_path / "s.tif"
    mask = (255 * panel.sky).astype(np.uint8)
    write_stack(path, panel.rgb, mask, About(linear=linear, unix=panel.unix, solved=panel.field))
    view = View(panel.rgb.shape[1], panel.rgb.shape[0], panel.field.focal_px, 0.0, Pose(176.0, 34.0))
    found = examine(path, Circumstances(site=SITE, unix=panel.unix, views=[view]))
    assert found["pose"] is not None
    assert (found["sky"] is not None) == linear
    assert ("RAW frames" in found["sky_unmeasured"]) == (not linear)


@pytest.mark.parametrize("place", [True, False])
def test_corners_are_evened_without_a_place_as_with_one(tmp_path, place):
    """The simulated lens loses 42 % in the corner: 0.59 mag."""
    panel = fields_of(((176, 34, 0.5),), LENS, SITE)[0]
    path = tmp_path / "s.tif"
    write_stack(path, panel.rgb, (255 * panel.sky).astype(np.uint8), About(unix=panel.unix))
    known = Circumstances(site=SITE, unix=panel.unix) if place else Circumstances()
    found = examine(path, replace(known, f35=LENS.f35))
    corners = found["corners"]
    assert (found["pose"] is not None) == place and corners["source"] == Source.FIELD
    assert corners["corner"] == pytest.approx(0.59, abs=0.2) and corners["taken_out"]
    evened, _, _ = read_stack(path)
    assert evened[5, 5, 1] / panel.rgb[5, 5, 1] == pytest.approx(10 ** (0.4 * corners["corner"]), rel=0.03)


KNOWN = Vignetting(
    square=0.3, fourth=0.2, corner=0.5, corner_error=0.1, starlight=0.1, source=Source.GEAR
)  # fmt: skip


@pytest.mark.parametrize(("linear", "corners"), [(True, "auto"), (True, "off"), (False, "auto")])
def test_where_no_field_is_found_the_lens_is_evened_as_it_is_known(tmp_path, linear, corners):
    rng = np.random.default_rng(3)
    rgb, path = rng.normal(0.05, 0.002, (600, 800, 3)).astype(np.float32), tmp_path / "s.tif"
    write_stack(path, rgb, None, About(linear=linear))
    found = examine(path, Circumstances(fall_offs=[KNOWN]), corners)
    after, _, _ = read_stack(path)
    assert found["field"] is None and found["unsolved"]
    if not linear:  # a finished picture is no longer as the lens darkened it
        assert found["corners"] is None and np.array_equal(after, rgb)
    else:
        assert found["corners"]["taken_out"] == (corners == "auto")
        assert after[0, 0, 1] / rgb[0, 0, 1] == pytest.approx(10**0.2 if corners == "auto" else 1, rel=0.01)
        assert "as Gear has this lens" in corner_words(found["corners"])


@pytest.mark.long("nothing is found through any lens before the picture is mirrored")
def test_a_mirrored_picture_is_turned_back(tmp_path):
    """As a front camera writes it: the stack's file then shows the sky as it is."""
    panel = fields_of(((176, 34, 0.5),), LENS, SITE)[0]
    mirrored, mask = panel.rgb[:, ::-1].copy(), (255 * panel.sky[:, ::-1]).astype(np.uint8)
    path = tmp_path / "m.tif"
    write_stack(path, mirrored, mask, About(unix=panel.unix, linear=False))
    view = View(panel.rgb.shape[1], panel.rgb.shape[0], panel.field.focal_px, 0.0, Pose(176.0, 34.0))
    found = examine(path, Circumstances(site=SITE, unix=panel.unix, views=[view]), "off")
    assert found["mirrored"] and found["pose"]["azimuth"] == pytest.approx(176, abs=0.3)
    rgb, back, _ = read_stack(path)
    assert np.array_equal(rgb, panel.rgb) and np.array_equal(back, (255 * panel.sky).astype(np.uint8))
    plain = tmp_path / "p.tif"
    write_stack(plain, panel.rgb, None, About(unix=panel.unix))
    assert not examine(plain, Circumstances(site=SITE, unix=panel.unix, views=[view]), "off")["mirrored"]
    write_stack(plain, mirrored, None, About(unix=panel.unix))
    told = solve_picture(plain, Given(place=(SITE.lat, SITE.lon), unix=panel.unix, f35=LENS.f35))
    assert told["solved"] and told["mirrored"] and "front cameras" in told["notes"][0]
    assert told["azimuth"] == pytest.approx(176, abs=0.3)
