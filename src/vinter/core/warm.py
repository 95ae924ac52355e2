"""Compile the numeric kernels once, so that the first frame is as fast as the next (run at set-up)."""

import os
import subprocess
import sys
from collections.abc import Sequence

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


def in_background() -> list[subprocess.Popen[bytes]]:
    """Two processes that compile everything beside whatever else is done: at once over when all is there."""
    halves = (("stacking",), ("finishing", "simulating"))
    command = [sys.executable, "-W", "ignore", "-m", "vinter.core.warm"]
    return [subprocess.Popen([*command, *half], preexec_fn=lambda: os.nice(5) and None) for half in halves]


if __name__ == "__main__":
    main(sys.argv[1:])
