"""What a picture's file says of how it was taken: EXIF 2.32 by itself, or in a TIFF that is there."""

import struct
from collections.abc import Mapping, Sequence
from dataclasses import asdict, dataclass, fields, replace
from datetime import UTC, datetime
from fractions import Fraction
from pathlib import Path

SOFTWARE = "Vinter"
BYTE, ASCII, SHORT, LONG, RATIONAL, UNDEFINED = 1, 2, 3, 4, 5, 7
SIZES = {BYTE: 1, ASCII: 1, SHORT: 2, LONG: 4, RATIONAL: 8, UNDEFINED: 1}  # bytes of one value
EXIF_TAG, GPS_TAG = 34665, 34853
QUARTER_HOUR, FARTHEST = 900.0, 14 * 3600.0  # s, steps of zones and the farthest one from Greenwich
LARGEST_ISO = 65535  # what a short holds
STRAY_S = 120.0  # s by which a clock may differ from a whole zone and still be read in it

Entry = tuple[int, int, bytes]  # tag, type, values


@dataclass(frozen=True, kw_only=True)
class Taken:
    """How a picture was taken, as its file says; None or "" where it is silent. ``time`` is Unix s at the
    start of the exposure, ``local`` what the camera's clock showed (as if it were UTC), ``zoned`` whether
    its zone is known, ``place`` latitude and longitude in degrees."""

    make: str = ""
    model: str = ""
    lens: str = ""
    iso: int | None = None
    exposure_s: float | None = None
    aperture: float | None = None
    focal_mm: float | None = None
    f35: float | None = None
    time: float | None = None
    local: float | None = None
    zoned: bool = False
    place: tuple[float, float] | None = None

    def data(self) -> dict[str, object]:
        """As plain JSON data."""
        return asdict(self)

    def completed(self, by: "Taken") -> "Taken":
        """What is not known here from another; a time with its own clock and zone."""
        moment = ("time", "local", "zoned")
        known = {f.name: getattr(self, f.name) for f in fields(self) if getattr(self, f.name)}
        return replace(by, **(known if self.time is None else known | {n: getattr(self, n) for n in moment}))

    @property
    def offset_s(self) -> float | None:
        """Seconds east of Greenwich of the clock's zone, to a quarter of an hour; None where it is not
        known."""
        if not self.zoned or self.time is None:
            return None
        ahead = 0.0 if self.local is None else self.local - self.time
        whole = round(ahead / QUARTER_HOUR) * QUARTER_HOUR
        return whole if abs(ahead - whole) < STRAY_S and abs(whole) <= FARTHEST else 0.0


def taken_from(data: object) -> Taken:
    """What was stored of how a picture was taken; nothing where the data cannot be read."""
    if not isinstance(data, Mapping):
        return Taken()
    known = {f.name: data[f.name] for f in fields(Taken) if data.get(f.name) is not None}
    if "place" in known:
        known["place"] = tuple(known["place"])
    return Taken(**known)


def _ascii(text: str) -> bytes:
    return text.encode() + b"\0"


def _rationals(*values: float, finest: int = 10_000) -> bytes:
    parts = [Fraction(v).limit_denominator(finest) for v in values]
    return b"".join(struct.pack("<II", p.numerator, p.denominator) for p in parts)


def _seconds(value: float) -> bytes:
    """An exposure: 1/30 rather than 333/10000."""
    whole = 1 / value if 0 < value < 1 else value
    if value < 1 and abs(whole - round(whole)) < 0.02 * whole:
        return struct.pack("<II", 1, round(whole))
    return _rationals(value)


def _moment(taken: Taken) -> list[Entry]:
    """The time as the camera's clock showed it, with its zone if that is known and without one if not."""
    offset = taken.offset_s
    shown = taken.local if offset is None else None if taken.time is None else taken.time + offset
    if shown is None:
        shown = taken.time
    if shown is None:
        return []
    when = datetime.fromtimestamp(shown, UTC)
    out = [(36867, ASCII, _ascii(when.strftime("%Y:%m:%d %H:%M:%S")))]
    if offset is not None:
        sign, minutes = "-" if offset < 0 else "+", abs(round(offset / 60))
        out.append((36881, ASCII, _ascii(f"{sign}{minutes // 60:02d}:{minutes % 60:02d}")))
    if when.microsecond:
        out.append((37521, ASCII, _ascii(f"{when.microsecond // 1000:03d}")))
    return out


def _exposure(taken: Taken, srgb: bool) -> list[Entry]:
    out: list[Entry] = [(36864, UNDEFINED, b"0232"), (40961, SHORT, struct.pack("<H", 1 if srgb else 0xFFFF))]
    if taken.exposure_s:
        out.append((33434, RATIONAL, _seconds(taken.exposure_s)))
    for tag, value in ((33437, taken.aperture), (37386, taken.focal_mm)):
        if value:
            out.append((tag, RATIONAL, _rationals(value, finest=100)))
    for tag, number in ((34855, taken.iso), (41989, taken.f35)):
        if number:
            out.append((tag, SHORT, struct.pack("<H", min(round(number), LARGEST_ISO))))
    if taken.lens:
        out.append((42036, ASCII, _ascii(taken.lens)))
    return out + _moment(taken)


def _position(place: tuple[float, float]) -> list[Entry]:
    out: list[Entry] = [(0, BYTE, bytes((2, 3, 0, 0)))]
    for tag, degrees, names in ((1, place[0], "NS"), (3, place[1], "EW")):
        size = abs(degrees)
        minutes = (size - int(size)) * 60
        parts = (int(size), int(minutes), round((minutes - int(minutes)) * 60, 2))
        out += [
            (tag, ASCII, _ascii(names[degrees < 0])),
            (tag + 1, RATIONAL, _rationals(*parts, finest=100)),
        ]
    return out


def _directory(entries: Sequence[Entry], at: int) -> bytes:
    """A directory of tags that lies ``at`` so many bytes into its file, its longer values behind it."""
    behind = at + 2 + 12 * len(entries) + 4
    table, data = struct.pack("<H", len(entries)), b""
    for tag, kind, value in sorted(entries):
        table += struct.pack("<HHI", tag, kind, len(value) // SIZES[kind])
        if len(value) <= 4:
            table += value.ljust(4, b"\0")
        else:
            table += struct.pack("<I", behind + len(data))
            data += value + bytes(len(value) % 2)
    return table + bytes(4) + data


def _pointed(taken: Taken, srgb: bool, place: bool, at: int) -> tuple[bytes, list[tuple[int, int]]]:
    """The directories of exposure and place from ``at`` on, and which tag points to which place."""
    out, where = b"", []
    wanted = [(EXIF_TAG, _exposure(taken, srgb))]
    if place and taken.place:
        wanted.append((GPS_TAG, _position(taken.place)))
    for tag, entries in wanted:
        where.append((tag, at + len(out)))
        out += _directory(entries, at + len(out))
    return out, where


def exif_bytes(taken: Taken, title: str = "", srgb: bool = True, place: bool = False) -> bytes:
    """EXIF data with a TIFF header of their own, as JPEG, PNG, HEIF and AVIF hold them; where a picture was
    taken only with ``place``."""
    texts = ((270, title), (271, taken.make), (272, taken.model), (305, SOFTWARE))
    first: list[Entry] = [(tag, ASCII, _ascii(text)) for tag, text in texts if text]
    pointers = [EXIF_TAG] + ([GPS_TAG] if place and taken.place else [])
    blank: list[Entry] = [(tag, LONG, bytes(4)) for tag in pointers]
    size = len(_directory(first + blank, 8))
    rest, where = _pointed(taken, srgb, place, 8 + size)
    filled: list[Entry] = [(tag, LONG, struct.pack("<I", at)) for tag, at in where]
    return b"II*\0" + struct.pack("<I", 8) + _directory(first + filled, 8) + rest


def blank_pointers(taken: Taken, place: bool) -> list[tuple[int, int, int, int, bool]]:
    """Tags of a TIFF that ``put_into_tiff`` fills, as a writer of TIFFs is given further tags: under the
    numbers before theirs, because it takes those for its own."""
    tags = [EXIF_TAG] + ([GPS_TAG] if place and taken.place else [])
    return [(tag - 1, LONG, 1, 0, True) for tag in tags]


def put_into_tiff(path: Path, taken: Taken, srgb: bool = True, place: bool = False) -> None:
    """Append how a picture was taken to a little-endian TIFF that was written with ``blank_pointers``."""
    with path.open("r+b") as file:
        head = file.read(8)
        assert head[:4] == b"II*\0"
        file.seek(struct.unpack("<I", head[4:])[0])
        (count,) = struct.unpack("<H", file.read(2))
        begin = file.tell()
        places = {
            struct.unpack("<H", entry[:2])[0] + 1: begin + 12 * i
            for i, entry in enumerate(file.read(12) for _ in range(count))
        }
        end = file.seek(0, 2)
        rest, where = _pointed(taken, srgb, place, end + end % 2)
        file.write(bytes(end % 2) + rest)
        for tag, at in where:
            file.seek(places[tag])
            file.write(struct.pack("<HHII", tag, LONG, 1, at))
