"""Lossless JPEG (ITU-T T.81, process 14) as cameras write it, decoded by a compiled loop.

Only the usual kind is decoded here: Huffman codes, components in turn, no restarts, no scaling. For any
other kind the answer is None.
"""

import struct
from dataclasses import dataclass, field

import numba
import numpy as np
import numpy.typing as npt

U8 = npt.NDArray[np.uint8]
U16 = npt.NDArray[np.uint16]
I32 = npt.NDArray[np.int32]
START, LOSSLESS, TABLES, SCAN, RESTARTS = 0xD8, 0xC3, 0xC4, 0xDA, 0xDD
PREDICTORS = range(1, 8)
LOOKED_AT = 12  # bits that are looked up at once: a code and the bits behind it, for nearly all samples
LONGEST = 16  # bits of the longest code
LONGEST_SAMPLE = 32  # bits of a code and of what stands behind it
SMALLEST = bytes.fromhex(  # a file of two by two samples of 128, each with the code 0
    "ffd8 ffc4 0014 00 01000000000000000000000000000000 00 ffc3 000b 08 0002 0002 01 001100"
    "ffda 0008 01 0000 01 0000 0f ffd9"
)
NOT_HERE = np.int32(0)  # entry of the table for no code, or for one that reaches farther


@dataclass
class _Head:
    """What stands before the samples."""

    bits: int = 0
    height: int = 0
    width: int = 0
    components: int = 0
    tables: dict[int, tuple[bytes, bytes]] = field(default_factory=dict)
    used: list[int] = field(default_factory=list)
    predictor: int = 0
    begins: int = 0


def _head(data: bytes) -> _Head | None:
    """What stands before the samples; None where the file is of another kind, or broken."""
    found, at = _Head(), 2
    if data[:2] != bytes((0xFF, START)):
        return None
    while at + 4 <= len(data) and data[at] == 0xFF:
        mark, length = data[at + 1], int.from_bytes(data[at + 2 : at + 4], "big")
        part = data[at + 4 : at + 2 + length]
        at += 2 + length
        if mark == LOSSLESS:
            found.bits, found.height, found.width, found.components = struct.unpack(">BHHB", part[:6])
            if any(part[7 + 3 * k] != 0x11 for k in range(found.components)):
                return None
        elif (0xC0 <= mark <= 0xCF and mark != TABLES) or (mark == RESTARTS and part != b"\0\0"):
            return None
        elif mark == TABLES:
            while len(part) >= 17:
                counts, total = part[1:17], sum(part[1:17])
                found.tables[part[0] & 15] = counts, part[17 : 17 + total]
                part = part[17 + total :]
        elif mark == SCAN:
            count = part[0]
            found.used = [part[2 + 2 * k] >> 4 for k in range(count)]
            found.begins, found.predictor = at, part[1 + 2 * count]
            usual = found.predictor in PREDICTORS and part[3 + 2 * count] == 0 and count == found.components
            return found if usual and 2 <= found.bits <= 16 and at < len(data) else None
    return None


def _lookup(counts: bytes, symbols: bytes) -> tuple[I32, I32] | None:
    """Two tables of a Huffman table: of ``LOOKED_AT`` bits, the difference times 256 plus how many bits it
    takes; and of ``LONGEST`` bits, the number of bits behind the code times 256 plus the code's length."""
    codes = np.zeros(1 << LONGEST, np.int32)
    code = at = 0
    for length in range(1, LONGEST + 1):
        for _ in range(counts[length - 1]):
            first, last = code << (LONGEST - length), (code + 1) << (LONGEST - length)
            if at >= len(symbols) or last > len(codes) or symbols[at] > 16:
                return None
            codes[first:last] = symbols[at] << 8 | length
            code, at = code + 1, at + 1
        code <<= 1
    head = np.arange(1 << LOOKED_AT, dtype=np.int64)
    entry = codes[head << (LONGEST - LOOKED_AT)]
    length, size = entry & 255, entry >> 8
    total = length + size
    fits = (length > 0) & (total <= LOOKED_AT) & (size < 16)
    rest = np.where(fits, LOOKED_AT - total, 0)
    value = (head >> rest) & ((1 << np.where(fits, size, 0)) - 1)
    negative = value < (1 << np.maximum(size, 1)) >> 1
    value = np.where((size > 0) & negative, value - (1 << size) + 1, value)
    quick = np.where(fits, value * 256 + total, NOT_HERE).astype(np.int32)
    return quick, codes


@numba.njit(cache=True)  # type: ignore[untyped-decorator]
def _foretold(predictor: int, left: int, above: int, across: int) -> int:
    """What a sample is expected to be by its neighbours to the left, above, and above to the left."""
    if predictor == 1:
        return left
    if predictor == 2:
        return above
    if predictor == 3:
        return across
    if predictor == 4:
        return left + above - across
    if predictor == 5:
        return left + ((above - across) >> 1)
    if predictor == 6:
        return above + ((left - across) >> 1)
    return (left + above) >> 1


@numba.njit(cache=True)  # type: ignore[untyped-decorator]
def _decode(data: U8, quick: I32, codes: I32, bits: int, predictor: int, out: U16, components: int) -> bool:
    """Samples into rows ``out``; false when the codes make no sense or end too early."""
    height, width = out.shape
    held, count, at, end = np.uint64(0), np.int64(0), np.int64(0), np.int64(len(data))
    full, ones, tops = np.uint64(0xFFFF), np.uint64(0x01010101), np.uint64(0x80808080)
    for y in range(height):
        c = 0
        for x in range(width):
            if count <= LONGEST_SAMPLE and at + 4 <= end:  # four bytes at once where none of them is a mark
                four = (
                    (np.uint64(data[at]) << np.uint64(24))
                    | (np.uint64(data[at + 1]) << np.uint64(16))
                    | (np.uint64(data[at + 2]) << np.uint64(8))
                    | np.uint64(data[at + 3])
                )
                if ((~four - ones) & four & tops) == 0:
                    held = (held << np.uint64(32)) | four
                    count += 32
                    at += 4
            while count <= LONGEST_SAMPLE:
                byte = np.uint64(0)
                if at < end:
                    byte = np.uint64(data[at])
                    if byte == np.uint64(0xFF):
                        if at + 1 < end and data[at + 1] == 0:
                            at += 1
                        else:  # a mark: the samples end here
                            byte, end = np.uint64(0), at
                at += 1
                held = (held << np.uint64(8)) | byte
                count += 8
            entry = quick[c, (held >> np.uint64(count - LOOKED_AT)) & np.uint64((1 << LOOKED_AT) - 1)]
            if entry != NOT_HERE:
                count -= entry & 255
                step = np.int64(entry >> 8)
            else:
                code = codes[c, (held >> np.uint64(count - LONGEST)) & full]
                length, size = code & 255, np.int64(code >> 8)
                if length == 0:
                    return False
                count -= length
                if size == 16:
                    step = np.int64(32768)
                else:
                    count -= size
                    step = np.int64((held >> np.uint64(count)) & np.uint64((1 << size) - 1))
                    if size > 0 and step < 1 << (size - 1):
                        step += 1 - (1 << size)
            if y > 0 and x >= components:
                left, above = np.int64(out[y, x - components]), np.int64(out[y - 1, x])
                value = _foretold(predictor, left, above, np.int64(out[y - 1, x - components]))
            elif x >= components:
                value = np.int64(out[y, x - components])
            else:
                value = np.int64(out[y - 1, x]) if y > 0 else np.int64(1 << (bits - 1))
            out[y, x] = np.uint16((value + step) & 0xFFFF)
            c = c + 1 if c + 1 < components else 0
        if at - count // 8 > end:
            return False
    return True


def lossless_jpeg(data: bytes) -> U16 | None:
    """Samples (height, width times components) of a lossless JPEG of the plain kind; None for any other, and
    for a broken one."""
    try:
        head = _head(data)
    except (IndexError, struct.error):
        return None
    if head is None or head.components not in (1, 2) or any(t not in head.tables for t in head.used):
        return None
    tables = [_lookup(*head.tables[t]) for t in head.used]
    if any(t is None for t in tables) or not head.height or not head.width:
        return None
    if head.height * head.width * head.components > 16 * len(data):  # of a bit or more each
        return None
    quick, codes = (np.stack([t[k] for t in tables if t is not None]) for k in (0, 1))
    out = np.empty((head.height, head.width * head.components), np.uint16)
    samples = np.frombuffer(data, np.uint8, offset=head.begins)
    sound = _decode(samples, quick, codes, head.bits, head.predictor, out, head.components)
    return out if sound else None
