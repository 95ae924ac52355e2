"""The pictures that lie beside the shown one in a HEIF file (ISO/IEC 23008-12): what each is, and each as a
file of its own.

In: the bytes of a file. Out: its items by number, with their kind, what they are for and what they are made
of.
"""

import struct
from collections.abc import Iterator
from dataclasses import dataclass, field

from vinter.core.frames.film_metadata import boxes

MOST_ITEMS = 4096
HIDDEN = 1  # flag of an item that viewers leave out
AUXILIARY, NO_RELATION = b"auxl", b"free"  # relation of an auxiliary picture, and one without a meaning


@dataclass
class Item:
    """One item of a file: its kind (hvc1, grid, tmap, ...), the purpose of an auxiliary picture, the items
    it is derived from, and where its data lie: offset and length in the file, or in the list's own data when
    they are ``inside``. ``entry`` is what the list says of it."""

    entry: bytes = b""
    kind: bytes = b""
    purpose: bytes = b""
    made_of: list[int] = field(default_factory=list)
    inside: bool = False
    extents: list[tuple[int, int]] = field(default_factory=list)


@dataclass(frozen=True)
class Items:
    """The items of a file, the list's own data, and where the file's bytes name the picture that is shown:
    offset and width (bytes)."""

    items: dict[int, Item]
    own: bytes
    shown_at: int
    shown_width: int


def items_of(data: bytes) -> Items | None:
    """The items that a file names; None where it is no file of items."""
    start = _meta(data)
    if start is None:
        return None
    at, meta = start
    found: dict[int, Item] = {}
    shown, own = (0, 0), b""
    try:
        for kind, body in ((b.kind, b.data) for b in boxes(meta[4:])):
            if kind == b"pitm":
                width = 2 if body[0] == 0 else 4
                # the box is found again in the file, for what it says is changed there
                shown = (data.index(b"pitm" + body, at) + 8, width)
            elif kind == b"idat":
                own = body
            elif kind == b"iinf":
                _read_kinds(body, found)
            elif kind == b"iref":
                _read_references(body, found)
            elif kind == b"iloc":
                _read_places(body, found)
            elif kind == b"iprp":
                _read_purposes(body, found)
    except (struct.error, IndexError, ValueError):
        return None
    return Items(found, own, *shown) if shown[1] else None


def _meta(data: bytes) -> tuple[int, bytes] | None:
    """Where the box of items begins, and what is in it."""
    if data[4:8] != b"ftyp":
        return None
    for box in boxes(data):
        if box.kind == b"meta":
            return data.find(b"meta"), box.data
    return None


def _item(found: dict[int, Item], number: int) -> Item:
    if len(found) > MOST_ITEMS:
        raise ValueError("more items than a picture has")
    return found.setdefault(number, Item())


def _read_kinds(body: bytes, found: dict[int, Item]) -> None:
    for box in boxes(body[6 if body[0] == 0 else 8 :]):
        if box.kind == b"infe" and box.data[0] in (2, 3):
            wide = box.data[0] == 3
            number, _, kind = struct.unpack_from(">IH4s" if wide else ">HH4s", box.data, 4)
            _item(found, number).kind, _item(found, number).entry = kind, box.data


def _read_references(body: bytes, found: dict[int, Item]) -> None:
    size = 2 if body[0] == 0 else 4
    letter = "H" if size == 2 else "I"
    for box in boxes(body[4:]):
        source, count = struct.unpack_from(f">{letter}H", box.data)
        named = struct.unpack_from(f">{count}{letter}", box.data, size + 2)
        if box.kind == b"dimg":
            _item(found, source).made_of = list(named)


def _number(data: bytes, at: int, width: int) -> int:
    if at + width > len(data):
        raise ValueError("the list of places is cut")
    return int.from_bytes(data[at : at + width], "big")


def _read_places(body: bytes, found: dict[int, Item]) -> None:
    version = body[0]
    offset_size, length_size = body[4] >> 4, body[4] & 15
    base_size, index_size = body[5] >> 4, (body[5] & 15) if version in (1, 2) else 0
    wide = 4 if version == 2 else 2
    count, at = _number(body, 6, wide), 6 + wide
    for _ in range(count):
        number = _number(body, at, wide)
        at += wide
        method = _number(body, at, 2) & 15 if version in (1, 2) else 0
        at += (2 if version in (1, 2) else 0) + 2
        base = _number(body, at, base_size)
        at += base_size
        extents, at = _number(body, at, 2), at + 2
        for _ in range(extents):
            at += index_size
            offset, length = _number(body, at, offset_size), _number(body, at + offset_size, length_size)
            at += offset_size + length_size
            if method in (0, 1):
                _item(found, number).inside = method == 1
                _item(found, number).extents.append((base + offset, length))


def _read_purposes(body: bytes, found: dict[int, Item]) -> None:
    properties: list[bytes] = []
    for box in boxes(body):
        if box.kind == b"ipco":
            properties = [p.data[4:].split(b"\0")[0] if p.kind == b"auxC" else b"" for p in boxes(box.data)]
        elif box.kind == b"ipma":
            for number, index in _associations(box.data):
                if 0 < index <= len(properties) and properties[index - 1]:
                    _item(found, number).purpose = properties[index - 1]


def _associations(body: bytes) -> Iterator[tuple[int, int]]:
    """Pairs of an item and the place of a property that it has, counted from 1."""
    wide, long = (2 if body[0] == 0 else 4), bool(body[3] & 1)
    count, at = struct.unpack_from(">I", body, 4)[0], 8
    for _ in range(count):
        number, many, at = _number(body, at, wide), _number(body, at + wide, 1), at + wide + 1
        for _ in range(many):
            index = _number(body, at, 2) & 0x7FFF if long else _number(body, at, 1) & 0x7F
            at += 2 if long else 1
            yield number, index


def payload(data: bytes, items: Items, item: Item) -> bytes:
    """What is stored of an item."""
    where = items.own if item.inside else data
    return b"".join(where[at : at + length] for at, length in item.extents)


def shown_as(data: bytes, items: Items, number: int) -> bytes:
    """The file with another of its items as the picture that is shown: no longer hidden, nor only an
    auxiliary one."""
    at, width, entry = items.shown_at, items.shown_width, items.items[number].entry
    out = data[:at] + number.to_bytes(width, "big") + data[at + width :]
    if len(entry) > 4 and entry[3] & HIDDEN:
        seen = entry[:3] + bytes([entry[3] & ~HIDDEN]) + entry[4:]
        out = out.replace(b"infe" + entry, b"infe" + seen, 1)
    return out.replace(AUXILIARY, NO_RELATION)
