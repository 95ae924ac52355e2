"""Compile the numeric kernels once, so that the first frame is as fast as the next (run at set-up)."""

import hashlib
import os
import subprocess
import sys
from collections.abc import Sequence
from contextlib import suppress
from pathlib import Path

import numba
import numpy as np

from vinter.core.finish import linear_light
from vinter.core.finish.loops import grain, neighbours, pixels, star_light
from vinter.core.simulate import painting
from vinter.core.simulate.exposing import digitise, draw_trails, draw_wings
from vinter.core.stack.warming import stacking


def finishing() -> None:
    """The kernels of the finish."""
    for room in (pixels, neighbours, grain, star_light, linear_light):
        room.warm()


def simulating() -> None:
    """The kernels of the simulated phone."""
    out, light, one = np.empty((8, 8), np.uint16), np.zeros((8, 8), np.float32), np.array([4.0])
    draw_trails(light, one, one, one + 1, one + 1, np.ones((1, 3)), one)
    draw_wings(light, one, one, one + 1, one + 1, np.ones((1, 3)), 4.0)
    digitise(light, light.copy(), 2.0, 1.5, 64.0, 1023, out)
    painting.warm()


PARTS = {"stacking": stacking, "finishing": finishing, "simulating": simulating}


def main(parts: Sequence[str] = ()) -> None:
    """Call every kernel of some parts (all when none is named) with the smallest arrays of the types it is
    used with; what is compiled is kept for every later process."""
    for name in parts or PARTS:
        PARTS[name]()
        with suppress(OSError):  # a cache that may not be written: it is looked through every time
            _stamp(name).parent.mkdir(parents=True, exist_ok=True)
            _stamp(name).touch()


def _stamp(part: str) -> Path:
    """A file that is there when a part is compiled as the code is now."""
    state = hashlib.sha256(f"{numba.__version__} {np.__version__} {sys.version}".encode())
    core = Path(__file__).parent
    for path in sorted(core.rglob("*.py")):
        if b"numba.njit" in (text := path.read_bytes()):
            state.update(text)
    kept = Path(numba.config.CACHE_DIR or core / "__pycache__")
    return kept / f"compiled-{part}-{state.hexdigest()[:16]}"


def in_background() -> list[subprocess.Popen[bytes]]:
    """Two processes that compile everything beside whatever else is done; none for what is compiled."""
    halves = [
        half
        for half in (("stacking",), ("finishing", "simulating"))
        if not all(_stamp(part).exists() for part in half)
    ]
    command = [sys.executable, "-W", "ignore", "-m", "vinter.core.warm"]
    return [subprocess.Popen([*command, *half], preexec_fn=lambda: os.nice(5) and None) for half in halves]


if __name__ == "__main__":
    main(sys.argv[1:])
