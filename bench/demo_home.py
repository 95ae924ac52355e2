"""A home with demo data for a benchmark."""

import os
import shutil
import subprocess
import sys
from pathlib import Path


def make_demo_home(home: Path, environment: dict[str, str]) -> None:
    """Fill an empty home with the demo, or with a copy of the demo home that ``VINTER_BENCH_HOME`` names:
    several tables in a row need it made only once."""
    made = os.environ.get("VINTER_BENCH_HOME")
    if made:
        shutil.copytree(made, home, dirs_exist_ok=True)
        return
    for command in (["migrate"], ["collectstatic", "--noinput"], ["seed_demo"]):
        subprocess.run(
            [sys.executable, "-m", "django", *command], env=environment, check=True, stdout=subprocess.DEVNULL
        )
