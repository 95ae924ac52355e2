"""What registers itself is found, in its order, and whatever is put in comes out again."""

import json

import cv2
import numpy as np
import pytest
import tifffile
from hypothesis import given, settings
from hypothesis import strategies as st
from PIL import Image

from vinter.core.camera.exposure import expose
from vinter.core.camera.iso import iso_stops
from vinter.core.camera.phones import SHIPPED
from vinter.core.camera.shutter import SHUTTERS, USES
from vinter.core.errors import BadInput
from vinter.core.finish.canvas import fresh
from vinter.core.finish.controls import lines
from vinter.core.finish.export import EXPORT_KINDS, kind_of
from vinter.core.finish.moves.base import MOVES, Move
from vinter.core.finish.recipe import ORDER, RECIPE, Recipe, parse_recipe, recipe_of
from vinter.core.finish.render import Renderer, to_8bit
from vinter.core.finish.scene import prepare
from vinter.core.formats.pictures import PictureInfo
from vinter.core.frames.frame import Colour
from vinter.core.frames.opcodes import OPCODES, CorrectionNote, NoteKind
from vinter.core.planning.modes.registry import MODES, mode_of, values
from vinter.core.sky.thresholds import MOON_SCHOOLS, MOVABLE, SCHOOLS, Thresholds
from vinter.core.stack.combining.methods import Method

LENSES = [(p.key, name) for p in SHIPPED.values() for name in p.lenses]
CONTROLS = [c for line in lines(Recipe()) for c in (*line.sky, *line.ground)]
SLIDERS = [c for c in CONTROLS if not c.options]


def with_value(path, value):
    """A recipe as JSON with one thing set."""
    data = json.loads(Recipe().model_dump_json())
    *parents, last = path.split(".")
    at = data
    for part in parents:
        at = at[part]
    at[last] = value
    return json.dumps(data)


@pytest.fixture(scope="module")
def scene():
    """A noisy sky with stars and something red, over a darker ground."""
    rng = np.random.default_rng(4)
    rgb = 0.02 * np.array([0.5, 1.0, 0.7]) * np.ones((120, 160, 1)) + rng.normal(0, 5e-4, (120, 160, 3))
    for y in range(15, 85, 14):
        for x in range(10, 155, 18):
            rgb[y - 1 : y + 2, x - 1 : x + 2] += 0.03 * np.array([0.7, 1.0, 0.5])
    rgb[60:70, 100:118] *= [3.0, 1.0, 1.0]
    rgb[90:] *= 0.3
    mask = np.where(np.arange(120)[:, None] < 90, 255, 0).astype(np.uint8) * np.ones((1, 160), np.uint8)
    return prepare(rgb.astype(np.float32), mask, Colour((0.5, 1.0, 0.7)))


def test_moves_stand_in_the_order_of_the_work_and_none_twice():
    places = [kind.place for kind in ORDER]
    assert places == sorted(places) and len(set(places)) == len(places) == len(MOVES)
    # what lies in the picture as it was taken first, turn and crop last
    assert ORDER[0].key == "repair" and ORDER[-1].key == "geometry"
    assert all(MOVES[k.key] is k for k in ORDER)


def test_every_move_at_rest_leaves_the_light_as_it_is(scene):
    canvas = fresh(scene)
    for kind in ORDER:
        if kind.key in ("light_balance", "curve"):
            continue  # these turn camera light into what a screen shows
        after = kind().apply(canvas, scene)
        assert np.abs(after.rgb - canvas.rgb).max() < 1e-6, kind.key


@pytest.mark.parametrize("control", SLIDERS, ids=lambda c: c.path)
def test_a_slider_reaches_its_ends_and_not_beyond(control):
    for value in (control.low, control.high, control.rest):
        parse_recipe(with_value(control.path, value))
    assert control.low <= control.rest <= control.high and control.low < control.high and control.step > 0
    for value in (control.low - 1, control.high + 1, "much", None, float("inf")):
        with pytest.raises(BadInput, match=control.path.rsplit(".", 1)[-1]):
            parse_recipe(with_value(control.path, value))


@pytest.mark.parametrize("control", SLIDERS, ids=lambda c: c.path)
def test_a_slider_away_from_rest_changes_the_picture(control, scene):
    lit = ("core.", "geometry.")
    start = json.loads(with_value("core.brightness", 1.0))
    start["geometry"] |= {"size": 0.6, "ratio": "1:1"}
    if not control.path.startswith(lit):
        start = json.loads(Recipe().model_dump_json())
    end = json.loads(json.dumps(start))
    *parents, last = control.path.split(".")
    at = end
    for part in parents:
        at = at[part]
    at[last] = (at[last] + (control.high if at[last] != control.high else control.low)) / 2
    before, after = (to_8bit(Renderer(scene).render(parse_recipe(json.dumps(r)))) for r in (start, end))
    if control.path in ("gradient_removal.share", "stars.rounder") or control.path.endswith("highlights"):
        # this sky is even, its stars are round and nothing is bright: there is nothing to take out
        assert before.shape == after.shape
    else:
        assert before.shape != after.shape or np.abs(before.astype(int) - after).max() > 0


def test_choices_are_those_the_recipe_takes():
    (ratio,) = [c for c in CONTROLS if c.options]
    for option in ratio.options:
        parse_recipe(with_value(ratio.path, option))
    with pytest.raises(BadInput, match="ratio"):
        parse_recipe(with_value(ratio.path, "7:3"))


def test_a_recipe_made_of_moves_goes_out_and_comes_back():
    moves: list[Move] = [kind() for kind in ORDER]
    recipe = recipe_of(*moves)
    assert parse_recipe(recipe.model_dump_json()) == recipe == Recipe()
    assert json.loads(recipe.model_dump_json())["version"] == RECIPE.version


@pytest.mark.parametrize("key", EXPORT_KINDS)
def test_every_kind_of_file_is_written_and_opens(key, scene, tmp_path):
    kind, canvas = EXPORT_KINDS[key], Renderer(scene).render(Recipe())
    path = tmp_path / f"picture{kind.suffixes[0]}"
    assert kind_of(path.name) is kind and kind_of(path.name.upper()) is kind
    kind.write(path, canvas, PictureInfo(), kind.quality or 100)
    found = (
        tifffile.imread(path)
        if path.suffix == ".tif"
        else np.asarray(Image.open(path))
        if path.suffix in (".heic", ".avif")
        else cv2.imread(str(path), cv2.IMREAD_UNCHANGED)[..., ::-1]
    )
    share = found if kind.linear else found / np.iinfo(found.dtype).max
    assert found.shape == (120, 160, 3) and np.abs(share - canvas.rgb).mean() < 0.01


def test_no_two_kinds_ask_for_the_same_suffix():
    suffixes = [s for kind in EXPORT_KINDS.values() for s in kind.suffixes]
    assert len(suffixes) == len(set(suffixes))
    with pytest.raises(BadInput, match=r"picture\.gif.*\.jpg"):
        kind_of("picture.gif")


def test_modes_are_listed_by_their_place_and_take_their_options_within_bounds():
    assert [m.place for m in MODES.values()] == sorted(m.place for m in MODES.values())
    for key, mode in MODES.items():
        assert mode_of(key) is mode and mode.name and mode.key == key
        usual = values(mode, {})
        assert usual == {o.key: o.default for o in mode.options}
        for option in mode.options:
            assert option.low <= option.default <= option.high
            assert values(mode, {option.key: str(option.high)})[option.key] == option.high
            for bad in (option.low - 1, option.high + 1, "some", "nan"):
                with pytest.raises(BadInput):
                    values(mode, {option.key: bad})
    with pytest.raises(BadInput, match="holiday"):
        mode_of("holiday")


def test_methods_say_what_they_do():
    assert {m.value for m in Method if m.clips} == {"clip", "weighted"}
    assert len({m.label for m in Method}) == len(list(Method))
    with pytest.raises(ValueError, match="magic"):
        Method("magic")


def test_every_correction_has_words_for_what_became_of_it():
    assert set(OPCODES) >= set(range(1, 15))
    notes = [CorrectionNote(kind, "WarpRectilinear", 12.0).words for kind in NoteKind]
    assert len(set(notes)) == len(notes) and all("WarpRectilinear" in n or len(n) > 10 for n in notes)


def test_schools_and_thresholds_have_labels_and_bounds():
    assert set(MOON_SCHOOLS) <= set(SCHOOLS)
    for f in MOVABLE:
        assert f.metadata["label"] and f.metadata["low"] <= f.default <= f.metadata["high"]
    assert len({f.metadata["label"] for f in MOVABLE}) == len(MOVABLE)
    assert Thresholds(**{f.name: f.metadata["high"] for f in MOVABLE if f.name != "min_altitude"})


@settings(max_examples=80, deadline=None)
@given(
    which=st.sampled_from(LENSES),
    sky=st.floats(17, 22),
    declination=st.floats(-80, 80),
    use=st.sampled_from(sorted(USES)),
)
def test_an_exposure_keeps_every_promise_it_makes(which, sky, declination, use):
    lens = SHIPPED[which[0]].lenses[which[1]]
    tolerance = USES[use].tolerance_px
    found = expose(lens, declination, sky, tolerance)
    shutter, iso = found.shutter, found.iso
    assert shutter.chosen in (*map(float, SHUTTERS), lens.shutter_max) or shutter.chosen < min(SHUTTERS)
    assert shutter.chosen <= lens.shutter_max and shutter.trail_px <= tolerance + 1e-9
    longer = [s for s in SHUTTERS if shutter.chosen < s <= lens.shutter_max]
    assert not longer or longer[0] * shutter.worst_px_s > tolerance  # the next step would trail too long
    assert iso.chosen in iso_stops(lens) and 0 < iso.sky_level_linear <= 1
    assert iso.sky_level_linear <= 0.12 or iso.chosen == lens.iso_min
    assert found.frames.count >= 2 and found.frames.storage_mb == found.frames.count * lens.raw_megabytes
    assert len(found.reasons) >= 2 and found.stack_reasons and f"{shutter.chosen:g} s" in found.reasons[0]


@pytest.mark.parametrize(("use", "px"), [("post", 8.0), ("screen", 4.0), ("print", 2.0)])
def test_uses_have_the_tolerances_that_are_promised(use, px):
    assert USES[use].tolerance_px == px and f"{px:g} px" in USES[use].label
