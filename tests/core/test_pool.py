"""The pool of a stack on the command line: forked loaded, and gone with the one who asked for it."""

import os
import signal
import subprocess
import sys
import time
from pathlib import Path

import pytest
from starfield import Field, make

WAIT_S = 60


def of_session(session):
    """Processes of a session that live: pid and name of each."""
    found = {}
    for stat in Path("/proc").glob("[0-9]*/stat"):
        try:
            text = stat.read_text()
        except OSError:
            continue
        state, _, _, its_session = text[text.rindex(")") + 2 :].split()[:4]
        if int(its_session) == session and state != "Z":
            found[int(stat.parent.name)] = text[: text.rindex(")")]
    return found


@pytest.mark.parametrize("how", [signal.SIGKILL, signal.SIGTERM])
def test_no_process_outlives_a_stack_that_is_killed(tmp_path, how):
    (tmp_path / "frames").mkdir()
    make(tmp_path / "frames", Field(count=8))
    command = [
        sys.executable,
        "-m",
        "vinter.cli",
        "stack",
        str(tmp_path / "frames"),
        "-o",
        str(tmp_path / "o.tif"),
    ]
    stacking = subprocess.Popen(
        command, start_new_session=True, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL
    )
    end = time.monotonic() + WAIT_S
    while len(of_session(stacking.pid)) < 6 and time.monotonic() < end and stacking.poll() is None:
        time.sleep(0.02)  # itself, the loaded one, two of the pool with their servers
    assert stacking.poll() is None and len(of_session(stacking.pid)) >= 6
    os.kill(stacking.pid, how)
    stacking.wait(WAIT_S)
    end = time.monotonic() + WAIT_S
    while (left := of_session(stacking.pid)) and time.monotonic() < end:
        time.sleep(0.05)
    assert not left


def test_what_is_compiled_is_not_looked_through_at_every_start(monkeypatch, tmp_path):
    from vinter.core import compiled, warm

    called, begun = [], []
    monkeypatch.setattr(compiled.numba.config, "CACHE_DIR", str(tmp_path / "numba"))
    monkeypatch.setattr(warm, "PARTS", {name: lambda n=name: called.append(n) for name in warm.PARTS})
    monkeypatch.setattr(warm.subprocess, "Popen", lambda command, **given: begun.append(command[5:]))
    warm.in_background()
    assert begun == [["stacking"], ["finishing", "simulating"]]
    warm.main(["stacking"])
    begun.clear()
    warm.in_background()
    assert called == ["stacking"] and begun == [["finishing", "simulating"]]
    warm.main()
    begun.clear()
    assert warm.in_background() == [] and begun == []
