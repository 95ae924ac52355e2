"""The wheel is the whole application: it works in a folder of its own, without the source."""

import json
import os
import socket
import subprocess
import sys
import time
import urllib.request
import zipfile
from email.parser import Parser
from pathlib import Path

import pytest

ROOT = Path(__file__).parents[2]


@pytest.fixture(scope="module")
def wheel(tmp_path_factory):
    """The wheel that the project's own build makes, from what is committed or about to be."""
    out = tmp_path_factory.mktemp("wheel")
    source = out / "source"
    names = subprocess.run(
        ["git", "ls-files", "-co", "--exclude-standard"], cwd=ROOT, capture_output=True, text=True, check=True
    ).stdout.splitlines()
    for name in names:
        if name.startswith(("src/", "requirements/")) or "/" not in name:
            target = source / name
            target.parent.mkdir(parents=True, exist_ok=True)
            if (ROOT / name).is_file():
                target.write_bytes((ROOT / name).read_bytes())
    build = "from setuptools import build_meta; print(build_meta.build_wheel('..'))"
    done = subprocess.run([sys.executable, "-c", build], cwd=source, capture_output=True, text=True)
    assert done.returncode == 0, done.stderr[-2000:]
    return next(out.glob("*.whl"))


@pytest.fixture(scope="module")
def installed(wheel, tmp_path_factory):
    """Its files in a folder, and how a process there is told of them: nothing of the source is seen."""
    folder = tmp_path_factory.mktemp("installed")
    with zipfile.ZipFile(wheel) as z:
        z.extractall(folder / "site")
    environment = {k: v for k, v in os.environ.items() if not k.startswith(("VINTER", "DJANGO", "PYTHON"))}
    return folder, {**environment, "PYTHONPATH": str(folder / "site"), "HOME": str(folder)}


def run(installed, *words, **more):
    folder, environment = installed
    return subprocess.run(
        [sys.executable, "-m", "vinter.cli", *words],
        cwd=folder,
        env={**environment, **more},
        capture_output=True,
        text=True,
    )


def test_it_names_what_it_needs_with_ranges(wheel):
    with zipfile.ZipFile(wheel) as z:
        name = next(n for n in z.namelist() if n.endswith("METADATA"))
        needs = Parser().parsestr(z.read(name).decode()).get_all("Requires-Dist")
        kinds = {Path(n).suffix for n in z.namelist()}
    assert len(needs) > 20 and all(">=" in need for need in needs)
    assert {".html", ".css", ".js", ".woff2", ".npz", ".jp2"} <= kinds and ".nbi" not in kinds


def test_a_figure_from_the_shell(installed):
    done = run(
        installed,
        "sky",
        "--lat",
        "38.2",
        "--lon",
        "-8.8",
        "--time",
        "2027-06-10T01:00:00Z",
        "--alt",
        "23",
        "--az",
        "180",
    )
    assert done.returncode == 0, done.stderr[-2000:]
    assert 18 < json.loads(done.stdout)["brightness"] < 22


def compiling(folder):
    """The processes there that compile kernels."""
    found = []
    for entry in Path("/proc").glob("[0-9]*"):
        try:
            of_it = b"vinter.core.warm" in (entry / "cmdline").read_bytes()
            found += [entry.name] * (of_it and (entry / "cwd").resolve() == folder)
        except OSError:
            continue
    return found


@pytest.mark.long("a wheel is built, installed and served")
def test_it_serves_its_first_page(installed):
    folder, environment = installed
    with socket.socket() as s:
        s.bind(("127.0.0.1", 0))
        port = s.getsockname()[1]
    command = [sys.executable, "-m", "vinter.cli", "serve", "--port", str(port)]
    with subprocess.Popen(command, cwd=folder, env=environment, stdout=subprocess.DEVNULL) as process:
        try:
            for _ in range(450):
                try:
                    page = (
                        urllib.request.urlopen(f"http://127.0.0.1:{port}/sign-up/", timeout=5).read().decode()
                    )
                    break
                except OSError:
                    assert process.poll() is None
                    time.sleep(0.2)
            style = next(part for part in page.split('"') if part.endswith(".css"))
            assert len(urllib.request.urlopen(f"http://127.0.0.1:{port}{style}", timeout=5).read()) > 10_000
            assert compiling(folder)  # what is compiled for another copy is not compiled for this one
        finally:
            process.terminate()
            process.wait(30)
    end = time.monotonic() + 30
    while compiling(folder) and time.monotonic() < end:
        time.sleep(0.1)
    assert not compiling(folder)
    assert (
        folder / ".local/share/vinter/vinter.sqlite3"
    ).is_file()  # with the person's data, not in the package
