"""Compile the numeric kernels once, so that the first frame is as fast as the next (run at set-up)."""

import numpy as np

from vinter.core.finish import grain, linear_light, neighbours, pixels, star_light
from vinter.core.simulate import painting
from vinter.core.simulate.exposing import digitise, draw_trails
from vinter.core.stack.warming import stacking


def finishing() -> None:
    """The kernels of the finish."""
    for room in (pixels, neighbours, grain, star_light, linear_light):
        room.warm()


def main() -> None:
    """Call every kernel with the smallest arrays of the types it is used with."""
    stacking()
    out, light, one = np.empty((8, 8), np.uint16), np.zeros((8, 8), np.float32), np.array([4.0])
    draw_trails(light, one, one, one + 1, one + 1, np.ones((1, 3)), one)
    digitise(light, light.copy(), 2.0, 1.5, 64.0, 1023, out)
    painting.warm()
    finishing()


if __name__ == "__main__":
    main()
