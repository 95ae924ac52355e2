"""The benchmarks run: each of their commands on tiny input."""

import importlib
import os
import re
import subprocess
import sys
from datetime import date
from pathlib import Path

import numpy as np
import pytest
from fields import LENS, SITE, fields_of
from starfield import Field, make

from vinter.core.stack.file import About, write_stack

ROOT = Path(__file__).parents[2]


@pytest.fixture
def run():
    return importlib.import_module("bench.run")


@pytest.fixture
def few_frames(monkeypatch, run, tmp_path):
    """Frames of 800 x 600 in place of 12 MP."""

    def frames_of(folder, count, coarser=1):
        (tmp_path / "frames").mkdir(exist_ok=True)
        make(tmp_path / "frames", Field(count=count, width=800, height=600, stars=300, focal=600.0))
        return sorted((tmp_path / "frames").glob("*.dng"))

    monkeypatch.setattr(run, "frames_of", frames_of)


def figures(line):
    """Ours, theirs and the ratio at the end of a line."""
    ours, _, theirs, _, ratio, _ = line.split()[-6:]
    return float(ours), float(theirs), float(ratio)


def test_memory_of_few_and_many_frames(monkeypatch, capsys, run, few_frames):
    monkeypatch.setattr(run, "MEMORY_FRAMES", (4, 6))
    run.memory()
    lines = capsys.readouterr().out.splitlines()
    assert [line.split()[0] for line in lines] == ["4", "6", "6"] and "MB a process" in lines[0]
    assert "median" in lines[2] and "6 frames kept" in lines[2]


def test_many_frames_are_few_under_many_names(monkeypatch, capsys, run, few_frames):
    monkeypatch.setattr(run, "MANY_FRAMES", (3, 7, 8, 4))
    run.many()
    lines = capsys.readouterr().out.splitlines()
    assert [line.split(" MP")[0] for line in lines] == ["3 x 12", "7 x 12", "3 x 3", "8 x 3"]
    assert [int(re.search(r"(\d+) used", line)[1]) for line in lines] == [3, 7, 3, 8]


def test_planning_is_timed_against_asking_for_every_sample(monkeypatch, capsys, run):
    monkeypatch.setattr(run, "YEAR", (date(2027, 1, 1), date(2027, 1, 4)))
    run.planning()
    ours, theirs, ratio = figures(capsys.readouterr().out.splitlines()[-1])
    assert ours > 0 and ratio == pytest.approx(theirs / ours, rel=0.5, abs=0.2)


def test_editing_prints_a_line_for_every_change(monkeypatch, capsys, run):
    monkeypatch.setattr(run, "EDITED", (240, 180))
    run.editing()
    lines = capsys.readouterr().out.splitlines()
    assert len(lines) == 1 + len(run.CHANGES) and all(figures(line)[0] > 0 for line in lines[1:])


def test_stacking_is_timed_against_a_script(monkeypatch, capsys, run, few_frames):
    monkeypatch.setattr(run, "library_stack", lambda paths: np.zeros((2, 2, 3)))  # its libraries are extras
    monkeypatch.setattr(run, "FRAMES", 4)
    run.stacking()
    lines = capsys.readouterr().out.splitlines()
    assert figures(lines[0])[0] > 0 and "MB" in lines[1]


def test_how_even_a_look_leaves_the_sky_is_told(capsys, tmp_path):
    """A sky of one light has no steps; one with a wedge at its edge has them."""
    looks = importlib.import_module("bench.looks")
    panel = fields_of(((176, 34, 0.5),), LENS, SITE)[0]
    write_stack(tmp_path / "even.tif", panel.rgb, (255 * panel.sky).astype(np.uint8), About(unix=panel.unix))
    looks.main(["-o", str(tmp_path / "out"), str(tmp_path / "even.tif")])
    line = capsys.readouterr().out.splitlines()[-1].split()
    assert line[0] == "even" and int(line[1]) > 20 and 0 < float(line[2]) < 3
    assert (tmp_path / "out" / "even.png").is_file()
    scene = looks.scene_of(tmp_path / "even.tif")
    grey = np.full((*scene.sky.shape, 3), 90, np.uint8)
    ev, colour = looks.grid(scene, grey)
    assert looks.steps(ev) == 0 and looks.steps(colour[..., 0]) < 0.01 and looks.from_centre(ev) == 0
    grey[:, : grey.shape[1] // 8] = 64  # (90 / 255) and (64 / 255) in linear light: 0.99 EV apart
    assert looks.steps(looks.grid(scene, grey)[0]) == pytest.approx(0.99, abs=0.03)
    rough = 0.35 + np.random.default_rng(2).normal(0, 0.01, grey.shape).astype(np.float32)
    luma, cr, _ = looks.noise(scene, rough)  # of independent colours: luma weighs them 0.299, 0.587, 0.114
    assert luma == pytest.approx(2.55 * 0.669, rel=0.03) and cr == pytest.approx(
        2.55 * 0.713 * 0.92, rel=0.03
    )


@pytest.fixture(scope="module")
def demo_home(tmp_path_factory):
    """A home with demo data, for all tables that begin with one."""
    home = tmp_path_factory.mktemp("home")
    environment = {
        **os.environ,
        "PYTHONPATH": str(ROOT / "src"),
        "VINTER_HOME": str(home),
        "VINTER_DEMO": "1",
    }
    importlib.import_module("bench.demo_home").make_demo_home(home, environment)
    return home


@pytest.mark.long("starts servers and workers as the bench does")
@pytest.mark.parametrize(
    ("command", "expected"),
    [
        (["scenes.py", "plain, conifers"], "plain"),
        (["growth.py", "--copies", "1"], "takes"),
        (["load.py", "--people", "2", "--seconds", "2", "--think", "0.2", "--no-stack"], "2 people, 2 s"),
    ],
)
def test_the_other_tables_are_printed(command, expected, demo_home):
    paths = f"{ROOT / 'src'}{os.pathsep}{ROOT}"
    environment = {**os.environ, "PYTHONPATH": paths, "VINTER_BENCH_HOME": str(demo_home)}
    environment |= {"VINTER_SCENE_WIDTH": "1008", "VINTER_LOAD_QUIET": "0"}
    done = subprocess.run(
        [sys.executable, ROOT / "bench" / command[0], *command[1:]],
        env=environment, capture_output=True, text=True, timeout=300,
    )  # fmt: skip
    assert done.returncode == 0, done.stderr[-2000:]
    assert expected in done.stdout and len(done.stdout.splitlines()) >= 2
