"""The film that a phone puts behind a still: a motion picture."""

import mmap
import struct
from pathlib import Path

TAIL_BYTES = 64 * 2**20  # bytes at a file's end in which a film may begin
TRAILER_BYTES = 2**16  # bytes that may follow the film: what some phones add of their own
LEAST_BYTES = 64  # bytes that a file with a film has at least
SUFFIXES = frozenset({".jpg", ".jpeg", ".heic", ".heif", ".hif"})  # of stills that may have one
START = b"ftyp"
MOST_STARTS = 64  # places that look like the start of a film and are followed
LONGEST_START = 128  # bytes of the first box of a film


def film_inside(path: Path) -> tuple[int, int] | None:
    """Where a film begins and ends (bytes) behind the picture of a file; None where there is none. Its boxes
    must lead from its start to the file's end, with one that describes it."""
    size = path.stat().st_size
    if size < LEAST_BYTES:
        return None
    with path.open("rb") as file, mmap.mmap(file.fileno(), 0, access=mmap.ACCESS_READ) as data:
        at = data.find(START, max(size - TAIL_BYTES, 16))  # the file's own first box is not meant
        for _ in range(MOST_STARTS):
            if at < 4:
                break
            end = _led_to(data, at - 4)
            if end is not None:
                return at - 4, end
            at = data.find(START, at + 4)
    return None


def _led_to(data: mmap.mmap, start: int) -> int | None:
    """Where the boxes from a place on end, if that is the end of the data but for a trailer."""
    at, described, first = start, False, True
    while at + 8 <= len(data):
        size, kind = struct.unpack(">I4s", data[at : at + 8])
        head = 8
        if size == 1 and at + 16 <= len(data):
            size, head = struct.unpack(">Q", data[at + 8 : at + 16])[0], 16
        if size < head or at + size > len(data) or (first and size > LONGEST_START):
            break
        described = described or kind == b"moov"
        at, first = at + size, False
    return at if described and len(data) - at <= TRAILER_BYTES else None
