"""What is compiled at set-up is all that work needs: the first stack takes as long as the next."""

import json
import subprocess
import sys
from pathlib import Path

import pytest

from vinter.core import compiled

TESTS = Path(__file__).parents[1]


@pytest.mark.long("a process of its own works through every kernel")
def test_work_compiles_nothing_more(tmp_path):
    """In a process of its own: here other tests have called what they like."""
    command = [sys.executable, "-W", "ignore", str(TESTS / "compiled.py"), str(tmp_path)]
    done = subprocess.run(command, capture_output=True, text=True)
    assert done.returncode == 0, done.stderr[-2000:]
    assert json.loads(done.stdout) == []


def test_another_copy_of_the_program_has_its_own_kernels_to_compile(monkeypatch, tmp_path):
    """They are kept by the place of their source: a copy elsewhere finds none of them."""
    here = compiled.stamp("stacking")
    copy = tmp_path / "core" / "compiled.py"
    monkeypatch.setattr(compiled, "__file__", str(copy))
    for source in Path(__file__).parents[2].joinpath("src/vinter/core").rglob("*.py"):
        if b"numba.njit" in (text := source.read_bytes()):
            target = copy.parent / source.relative_to(Path(__file__).parents[2] / "src/vinter/core")
            target.parent.mkdir(parents=True, exist_ok=True)
            target.write_bytes(text)
    assert compiled.stamp("stacking").parent == here.parent and compiled.stamp("stacking") != here
