"""The numbers of a gain map: how much brighter its white makes a place than its black.

Three forms are read: XMP attributes, the binary block of ISO 21496-1, and the headroom that phones write
beside an auxiliary picture of a HEIF.
"""

import re
import struct
from dataclasses import dataclass
from typing import NamedTuple

import numpy as np
import numpy.typing as npt

F32 = npt.NDArray[np.float32]
NAMES = ("GainMapMin", "GainMapMax", "Gamma", "OffsetSDR", "OffsetHDR")
USUAL = {"GainMapMin": 0.0, "Gamma": 1.0, "OffsetSDR": 1 / 64, "OffsetHDR": 1 / 64}
MOST_GAIN = 16.0  # EV, over which a map is not believed
ISO_NAME = b"urn:iso:std:iso:ts:21496:-1\0"
MANY_CHANNELS, ONE_DENOMINATOR = 0x80, 0x08  # flags of the binary block
HEAD_BYTES = 2 * 65536  # bytes at the start of a picture in which its numbers stand
HEADROOM = re.compile(rb'HDRGainMapHeadroom(?:="|>)\s*([\d.]+)')
MAKER_TAGS = (33, 48)  # of a phone's maker note, from which the headroom follows where it is not written


@dataclass(frozen=True)
class Numbers:
    """By colour (3,): the least and most gain (EV), the exponent that the map is encoded by, and what is
    added to the light of the first picture and of the result."""

    least: F32
    most: F32
    gamma: F32
    before: F32
    after: F32

    @property
    def fair(self) -> bool:
        """Whether the numbers can be meant."""
        rows = (self.least, self.most, self.gamma, self.before, self.after)
        return bool(
            all(np.isfinite(v).all() for v in rows)
            and (np.abs(self.most) <= MOST_GAIN).all()
            and (np.abs(self.least) <= MOST_GAIN).all()
            and (self.gamma > 0.01).all()
        )


def in_xmp(part: bytes) -> Numbers | None:
    """What the XMP at the start of a picture says of a gain map; None where it says nothing that can be
    meant, or that the picture itself is the bright one."""
    head = part[:HEAD_BYTES].decode("latin-1")
    if 'hdrgm:Version="' not in head or "hdrgm:GainMapMax" not in head:
        return None
    found = [_values(head, name, USUAL.get(name)) for name in NAMES]
    if re.search(r'hdrgm:BaseRenditionIsHDR="True"', head, re.I):
        return None
    rows = [v for v in found if v is not None]
    numbers = Numbers(*rows) if len(rows) == len(NAMES) else None
    return numbers if numbers is not None and numbers.fair else None


def _values(head: str, name: str, usual: float | None) -> F32 | None:
    """A number of the XMP, as one for each colour; ``usual`` where it is not said."""
    one = re.search(rf'hdrgm:{name}="([-+.\deE]+)"', head)
    texts = [one[1]] if one else []
    many = re.search(rf"<hdrgm:{name}>(.*?)</hdrgm:{name}>", head, re.S)
    if many:
        texts = re.findall(r"<rdf:li>\s*([-+.\deE]+)\s*</rdf:li>", many[1])
    try:
        numbers = [float(t) for t in texts] or ([usual] if usual is not None else [])
    except ValueError:
        return None
    if len(numbers) not in (1, 3) or not np.isfinite(numbers).all():
        return None
    return np.asarray(np.broadcast_to(np.array(numbers, np.float32), 3), np.float32)


def in_segment(part: bytes) -> Numbers | None:
    """What the binary block in the head of a JPEG says of it as a gain map."""
    at = part[:HEAD_BYTES].find(ISO_NAME)
    return None if at < 0 else in_block(part[at + len(ISO_NAME) :])


class _Channel(NamedTuple):
    least: float
    most: float
    gamma: float
    before: float
    after: float


def in_block(data: bytes) -> Numbers | None:
    """The binary block of ISO 21496-1; None where it is cut, cannot be meant, or says that the first picture
    is the bright one."""
    try:
        oldest, _, flags = struct.unpack_from(">HHB", data)
        if oldest > 0:
            return None
        count = 3 if flags & MANY_CHANNELS else 1
        room, rows = _shared(data, count) if flags & ONE_DENOMINATOR else _fractions(data, count)
    except (struct.error, ZeroDivisionError):
        return None
    if room[0] > room[1]:
        return None
    columns = [
        np.asarray(np.broadcast_to(np.array(c, np.float32), 3), np.float32) for c in zip(*rows, strict=True)
    ]
    numbers = Numbers(*columns)
    return numbers if numbers.fair else None


def _fractions(data: bytes, count: int) -> tuple[tuple[float, float], list[_Channel]]:
    """Headrooms and channels where every number has a denominator of its own."""
    base = struct.unpack_from(">4I", data, 5)
    rows = []
    for i in range(count):
        v = struct.unpack_from(">iIiIIIiIiI", data, 21 + 40 * i)
        rows.append(_Channel(*(v[k] / v[k + 1] for k in range(0, 10, 2))))
    return (base[0] / base[1], base[2] / base[3]), rows


def _shared(data: bytes, count: int) -> tuple[tuple[float, float], list[_Channel]]:
    """The same where all share one denominator."""
    under, first, second = struct.unpack_from(">3I", data, 5)
    rows = []
    for i in range(count):
        rows.append(_Channel(*(v / under for v in struct.unpack_from(">iiIii", data, 17 + 20 * i))))
    return (first / under, second / under), rows


def of_headroom(headroom: float) -> Numbers | None:
    """A map that is linear in light from none to a headroom (times white), once its values are the
    logarithm of the gain as shares of the headroom's."""
    if not 1 < headroom <= 2**MOST_GAIN:
        return None
    one, nought = np.ones(3, np.float32), np.zeros(3, np.float32)
    return Numbers(nought, one * np.float32(np.log2(headroom)), one, nought, nought)


def written_headroom(data: bytes, note: bytes) -> float | None:
    """By how much a phone's HEIF exceeds white (times): as its XMP says, else from two numbers of its maker
    note; None where neither is there."""
    said = HEADROOM.search(data)
    if said:
        return float(said[1])
    tags = _maker_numbers(note)
    if not all(tag in tags for tag in MAKER_TAGS):
        return None
    bright, level = (tags[tag] for tag in MAKER_TAGS)
    if bright < 1:
        stops = -20 * level + 1.8 if level <= 0.01 else -0.101 * level + 1.601
    else:
        stops = -70 * level + 3.0 if level <= 0.01 else -0.303 * level + 2.303
    return float(2 ** max(stops, 0.0))


def _maker_numbers(note: bytes) -> dict[int, float]:
    """The signed fractions of a maker note that is a list of tags of its own, by tag."""
    if note[12:14] != b"MM":
        return {}
    out = {}
    try:
        for i in range(min(struct.unpack_from(">H", note, 14)[0], 200)):
            tag, kind, count, at = struct.unpack_from(">HHII", note, 16 + 12 * i)
            if kind == 10 and count == 1:
                over, under = struct.unpack_from(">ii", note, at)
                out[tag] = over / under
    except (struct.error, ZeroDivisionError):
        pass
    return out
