"""A JPEG packed in two halves at the same time: the second begins at a restart marker, as the format provides
for (ISO/IEC 10918-1, B.2.4.4 and F.1.2.3)."""

from collections.abc import Callable
from concurrent.futures import Executor

import numpy as np
import numpy.typing as npt

from vinter.core.formats.pictures import jpeg_bytes

SOF, SCAN, RESTART = 0xC0, 0xDA, 0xDD
BLOCK = 8  # px a side
MOST_UNITS = 0xFFFF  # longest restart interval that a JPEG may have


def jpeg_in_halves(rgb: npt.NDArray[np.uint8], quality: int, pool: Executor) -> Callable[[], bytes]:
    """Begin to pack a picture (h, w, 3) as a JPEG, its halves in a pool; what it returns waits for them and
    gives the whole, the same to the pixel as packed in one piece."""
    height, wide = rgb.shape[:2]
    upper = -(-height // (4 * BLOCK)) * 2 * BLOCK  # whole units, of which none is taller than two blocks
    if upper >= height or upper * wide > MOST_UNITS * BLOCK * BLOCK:
        return pool.submit(jpeg_bytes, rgb, quality).result
    above, below = (pool.submit(jpeg_bytes, half, quality) for half in (rgb[:upper], rgb[upper:]))
    return lambda: _joined(above.result(), below.result(), rgb.shape)


def _joined(above: bytes, below: bytes, shape: tuple[int, ...]) -> bytes:
    """Two halves of a picture of that shape as one JPEG."""
    first, scan, data = _parts(above)
    _, _, further = _parts(below)
    frame = first.index(bytes([0xFF, SOF]))
    upper = int.from_bytes(first[frame + 5 : frame + 7], "big")
    wide, tall = first[frame + 11] >> 4, first[frame + 11] & 15  # of a unit, in blocks
    units = -(-shape[1] // (wide * BLOCK)) * (upper // (tall * BLOCK))
    head = first[: frame + 5] + shape[0].to_bytes(2, "big") + first[frame + 7 :]
    every = bytes([0xFF, RESTART, 0, 4]) + units.to_bytes(2, "big")
    return head + every + scan + data + b"\xff\xd0" + further + b"\xff\xd9"


def _parts(jpeg: bytes) -> tuple[bytes, bytes, bytes]:
    """What stands before the scan, the scan's header, and its data."""
    at = 2
    while jpeg[at + 1] != SCAN:
        at += 2 + int.from_bytes(jpeg[at + 2 : at + 4], "big")
    data = at + 2 + int.from_bytes(jpeg[at + 2 : at + 4], "big")
    return jpeg[:at], jpeg[at:data], jpeg[data:-2]
