"""Compile the numeric kernels once, so that the first frame is as fast as the next (run at set-up)."""

import os
import signal
import subprocess
import sys
from collections.abc import Sequence
from contextlib import suppress

import numpy as np

from vinter.core.compiled import is_compiled, stamp
from vinter.core.finish import linear_light
from vinter.core.finish.loops import grain, neighbours, pixels, star_light
from vinter.core.parallel import end_with_parent
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
    for apart in ((), (np.zeros((1, 2, 3)),)):
        draw_trails(light, one, one, one + 1, one + 1, np.ones((1, 3)), one, *apart)
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
            stamp(name).parent.mkdir(parents=True, exist_ok=True)
            stamp(name).touch()


def in_background() -> list[subprocess.Popen[bytes]]:
    """Two processes that compile everything beside whatever else is done, and end with this one; none for
    what is compiled."""
    halves = [
        half
        for half in (("stacking",), ("finishing", "simulating"))
        if not all(is_compiled(part) for part in half)
    ]
    command = [sys.executable, "-W", "ignore", "-m", "vinter.core.warm"]
    known = {**os.environ, "VINTER_PARENT": str(os.getpid())}
    return [
        subprocess.Popen([*command, *half], env=known, preexec_fn=lambda: os.nice(5) and None)
        for half in halves
    ]


if __name__ == "__main__":
    if parent := os.environ.get("VINTER_PARENT"):
        end_with_parent(signal.SIGTERM, int(parent))
    main(sys.argv[1:])
