"""When and where a film was taken, by its boxes (ISO/IEC 14496-12): creation time, place, camera."""

import re
import struct
from collections.abc import Iterator
from dataclasses import dataclass, replace
from datetime import datetime
from pathlib import Path

from vinter.core.frames.metadata import Metadata, TimeSource, believable

EPOCH_1904 = 2082844800  # s from 1904, which boxes count from, to 1970
HOLDERS = (b"moov", b"udta", b"trak", b"mdia", b"ilst")
LARGEST_HEAD = 8 * 2**20  # bytes of the box that describes a film
MOST_BOXES = 4000
PLACE = re.compile(r"([+-]\d{2}(?:\.\d+)?)([+-]\d{3}(?:\.\d+)?)(?:[+-]\d+(?:\.\d+)?)?/?$")  # ISO 6709


@dataclass(frozen=True)
class Box:
    """A box of a film: its kind and what is in it."""

    kind: bytes
    data: bytes


def boxes(data: bytes) -> Iterator[Box]:
    """The boxes that lie one after the other in data; ends where a size makes no sense."""
    at = 0
    for _ in range(MOST_BOXES):
        if at + 8 > len(data):
            return
        size, kind = struct.unpack(">I4s", data[at : at + 8])
        head = 8
        if size == 1 and at + 16 <= len(data):
            size, head = struct.unpack(">Q", data[at + 8 : at + 16])[0], 16
        size = len(data) - at if size == 0 else size
        if size < head or at + size > len(data):
            return
        yield Box(kind, data[at + head : at + size])
        at += size


def _described(path: Path) -> bytes:
    """The box that describes a film; empty where the file has none of a usual size."""
    with path.open("rb") as file:
        at, end = 0, path.stat().st_size
        for _ in range(MOST_BOXES):
            file.seek(at)
            head = file.read(16)
            if len(head) < 8:
                return b""
            size, kind = struct.unpack(">I4s", head[:8])
            skip = 8
            if size == 1 and len(head) == 16:
                size, skip = struct.unpack(">Q", head[8:])[0], 16
            size = end - at if size == 0 else size
            if size < skip or at + size > end:
                return b""
            if kind == b"moov":
                file.seek(at + skip)
                return file.read(size - skip) if size <= LARGEST_HEAD else b""
            at += size
    return b""


def _all(data: bytes, depth: int = 0) -> Iterator[Box]:
    for box in boxes(data):
        yield box
        if box.kind in HOLDERS and depth < 6:
            yield from _all(box.data, depth + 1)


def _created(data: bytes) -> float | None:
    """Unix seconds of a movie header's creation time; None where it is not set."""
    if len(data) < 12:
        return None
    version = data[0]
    wide = version == 1 and len(data) >= 12
    (count,) = struct.unpack(">Q", data[4:12]) if wide else struct.unpack(">I", data[4:8])
    unix = float(count) - EPOCH_1904
    return unix if count and believable(unix) else None


def place_of(text: str) -> tuple[float, float] | None:
    """Latitude and longitude of a place as ISO 6709 writes it (+37.7020-008.7720/); None for what is none."""
    found = PLACE.match(text.strip("\0 "))
    if found is None:
        return None
    lat, lon = float(found[1]), float(found[2])
    return (round(lat, 6), round(lon, 6)) if abs(lat) <= 90 and abs(lon) <= 180 else None


def _keyed(data: bytes) -> dict[str, str]:
    """Values by the last part of their key (``creationdate``, ``make``), of a box of keys and values."""
    inside = {box.kind: box.data for box in boxes(data)}
    keys, values = inside.get(b"keys", b""), inside.get(b"ilst", b"")
    names = [box.data.decode("utf-8", "replace").rpartition(".")[2] for box in boxes(keys[8:])]
    out = {}
    for box in boxes(values):
        number = struct.unpack(">I", box.kind)[0]
        held = next((b.data[8:] for b in boxes(box.data) if b.kind == b"data"), b"")
        if 0 < number <= len(names):
            out[names[number - 1]] = held.decode("utf-8", "replace").strip("\0 ")
    return out


def film_metadata(path: Path) -> Metadata:
    """What a film's file says of when, where and with what it was taken; silent where it does not."""
    try:
        found = list(_all(_described(path)))
    except (OSError, struct.error, ValueError):
        return Metadata()
    meta = Metadata()
    for box in found:
        if box.kind == b"mvhd" and (created := _created(box.data)) is not None:
            meta = replace(meta, time=created, time_source=TimeSource.FILM)
        if box.kind == b"\xa9xyz":
            meta = replace(meta, place=place_of(box.data[4:].decode("ascii", "replace")) or meta.place)
        if box.kind == b"meta":
            meta = _with_keys(meta, _keyed(box.data) or _keyed(box.data[4:]))
    return meta


def _with_keys(meta: Metadata, said: dict[str, str]) -> Metadata:
    place = next((p for name, v in said.items() if "6709" in name and (p := place_of(v))), meta.place)
    meta = replace(meta, make=said.get("make", meta.make), model=said.get("model", meta.model), place=place)
    try:
        when = datetime.fromisoformat(re.sub(r"([+-]\d\d)(\d\d)$", r"\1:\2", said["creationdate"]))
    except (KeyError, ValueError):
        return meta
    if when.tzinfo is None or not believable(when.timestamp()):
        return meta
    local = when.timestamp() + (when.utcoffset() or when - when).total_seconds()
    return replace(meta, time=when.timestamp(), local=local, time_source=TimeSource.WRITTEN)
