"""Plant known faults, one at a time, and see whether the tests notice.

    python tools/mutants.py            # all of them
    python tools/mutants.py drift      # those whose name holds a word

Each fault is put into a copy of the working tree, and only the tests that should notice are run there.
Survivors are printed and make the exit status 1. A fault whose place is no longer found is one as well.
"""

import os
import shlex
import shutil
import subprocess
import sys
import tempfile
from pathlib import Path

from faults import FAULTS, Fault

ROOT = Path(__file__).resolve().parents[1]
COPIED = ("src", "tests", "tools", "docs", "assets", "pyproject.toml", "README.md", "CONTRIBUTING.md")
PATIENCE = 600.0  # s for the tests of one fault


def planted(fault: Fault, copy: Path) -> bool:
    """Put a fault into a copy of the tree; False when its place is not found exactly once."""
    path = copy / fault.file
    text = path.read_text() if path.is_file() else ""
    if text.count(fault.was) != 1:
        return False
    path.write_text(text.replace(fault.was, fault.becomes))
    return True


def pytest_code(tests: str, copy: Path) -> int:
    """Exit code of pytest for some tests of the copy: 0 passed, 1 failed."""
    environment = {
        **os.environ,
        "PYTHONPATH": str(copy / "src"),
        "VINTER_HOME": str(copy / "var"),
        "DJANGO_SETTINGS_MODULE": "vinter.web.settings",
        "DJANGO_ALLOW_ASYNC_UNSAFE": "true",
    }
    command = [sys.executable, "-m", "pytest", "-x", *shlex.split(tests)]
    return subprocess.run(
        command, cwd=copy, env=environment, capture_output=True, timeout=PATIENCE, check=False
    ).returncode


def survives(fault: Fault, copy: Path) -> str:
    """Why a fault counts as survivor; empty when the tests noticed it."""
    path = copy / fault.file
    original = path.read_text() if path.is_file() else ""
    if not planted(fault, copy):
        return "its place was not found"
    try:
        code = pytest_code(fault.tests, copy)
    finally:
        path.write_text(original)
    return {0: "no test failed", 1: ""}.get(code, f"the tests did not run (code {code})")


def main(words: list[str]) -> int:
    """Plant each fault whose name holds one of the words (all without any); 1 when one survived."""
    chosen = [f for f in FAULTS if not words or any(w in f.name for w in words)]
    survivors = 0
    with tempfile.TemporaryDirectory() as folder:
        copy = Path(folder)
        for name in COPIED:
            source = ROOT / name
            if source.is_dir():
                shutil.copytree(source, copy / name, ignore=shutil.ignore_patterns("__pycache__"))
            elif source.is_file():
                shutil.copy(source, copy / name)
        for tests in dict.fromkeys(f.tests for f in chosen):
            if pytest_code(tests, copy):
                print(f"{tests}: fails without any fault", file=sys.stderr)
                return 1
        for fault in chosen:
            why = survives(fault, copy)
            survivors += bool(why)
            print(f"{'SURVIVES' if why else 'noticed '}  {fault.name}{': ' + why if why else ''}", flush=True)
    print(f"{survivors} of {len(chosen)} survived")
    return 1 if survivors else 0


if __name__ == "__main__":
    sys.exit(main(sys.argv[1:]))
