"""Loaded before the settings: tests that run side by side each have a home of their own."""

import os
from pathlib import Path

os.environ.setdefault("VINTER_SPARE_MB", "50")
worker = os.environ.get("PYTEST_XDIST_WORKER")
if worker and "VINTER_HOME" in os.environ:
    home = Path(os.environ["VINTER_HOME"]) / worker
    home.mkdir(parents=True, exist_ok=True)
    os.environ["VINTER_HOME"] = str(home)
