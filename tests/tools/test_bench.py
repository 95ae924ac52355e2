"""The benchmarks run: each of their commands on small frames."""

import importlib.util
import sys
from pathlib import Path

from starfield import Field, make


def bench():
    path = Path(__file__).parents[2] / "bench" / "run.py"
    spec = importlib.util.spec_from_file_location("bench_run", path)
    module = importlib.util.module_from_spec(spec)
    sys.modules["bench_run"] = module
    spec.loader.exec_module(module)
    return module


def test_memory_of_few_and_many_frames(monkeypatch, capsys, tmp_path):
    run = bench()
    monkeypatch.setattr(run, "MEMORY_FRAMES", (4, 6))

    def frames_of(folder, count):
        make(tmp_path / "frames", Field(count=count, width=800, height=600, stars=300, focal=600.0))
        return sorted((tmp_path / "frames").glob("*.dng"))

    (tmp_path / "frames").mkdir()
    monkeypatch.setattr(run, "frames_of", frames_of)
    run.memory()
    lines = capsys.readouterr().out.splitlines()
    assert [line.split()[0] for line in lines] == ["4", "6", "6"] and "MB a process" in lines[0]
    assert "median" in lines[2] and "6 frames kept" in lines[2]
