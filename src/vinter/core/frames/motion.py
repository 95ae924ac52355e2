"""The film that a phone puts behind a still: a motion picture."""

import struct
from pathlib import Path

TAIL_BYTES = 64 * 2**20  # bytes at a file's end in which a film may begin
TRAILER_BYTES = 2**16  # bytes that may follow the film: what some phones add of their own
START = b"ftyp"
LONGEST_START = 128  # bytes of the first box of a film


def film_inside(path: Path) -> tuple[int, int] | None:
    """Where a film begins and ends (bytes) behind the picture of a file; None where there is none. Its boxes
    must lead from its start to the file's end, with one that describes it."""
    size = path.stat().st_size
    begin = max(size - TAIL_BYTES, 16)  # the file's own first box is not meant
    with path.open("rb") as file:
        file.seek(begin)
        tail = file.read()
    at = tail.find(START)
    while at >= 4:
        end = _led_to(tail, at - 4)
        if end is not None:
            return begin + at - 4, begin + end
        at = tail.find(START, at + 4)
    return None


def _led_to(data: bytes, start: int) -> int | None:
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
