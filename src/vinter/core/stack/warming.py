"""The kernels of a stack, called once, so that the first frame is as fast as the next."""

import numpy as np

from vinter.core.frames.adaptive_moments import shapes
from vinter.core.frames.lossless_jpeg import SMALLEST, lossless_jpeg
from vinter.core.frames.mosaic import green_half, scale_and_repair
from vinter.core.frames.stars import WINDOW
from vinter.core.frames.windowed import windowed
from vinter.core.stack.combining.blanking import blank, rows_with_sky
from vinter.core.stack.combining.kernels import Rules, combine, join
from vinter.core.stack.combining.light import normalize_into
from vinter.core.stack.combining.methods import Method
from vinter.core.stack.registration.resample import resample
from vinter.core.stack.star_map import agreed, star_map


def stacking() -> None:
    """Call the kernels of a stack."""
    mosaic, out = np.full((8, 8), 300, np.uint16), np.empty((8, 8), np.uint16)
    scale_and_repair(mosaic, np.full((2, 2), 64.0), 10.0, 50.0, out)
    stored = mosaic.copy()
    stored.flags.writeable = False  # as what is mapped from a file
    for data in (mosaic, stored):
        green_half(data, np.array([[0, 1], [1, 2]]))
    place = np.array([32.0])
    shapes(np.zeros((64, 64), np.float32), place, place)
    windowed(np.zeros((64, 64), np.float32), place, place, WINDOW)
    lossless_jpeg(SMALLEST)
    cube = np.full((3, 8, 8, 3), 3000, np.uint16)
    result, count = np.empty((8, 8, 3), np.float32), np.empty((8, 8, 3), np.uint16)
    ones = np.ones(len(cube), np.float32)
    combine(cube, Rules(Method.CLIP, np.ones((3, 2)), ones, ones))
    rows_with_sky(stored.view(np.uint8)[1:, 1:5])
    blank(cube[2], out.astype(np.uint8), np.eye(3))
    join(result, result.copy(), out.astype(np.uint8), count)
    for turn in (np.eye(3), np.diag([-1.0, -1.0, 1.0])):
        resample(cube[0], turn, cube[1])
    normalize_into(cube[0], 1.0, np.zeros((3, 6)), 0.0, 0.0, 1.0, 1.0, 1e9)
    agreed(np.eye(3), np.eye(3)[None], star_map(3.0), 0.5, 1)
