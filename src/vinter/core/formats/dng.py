"""A writer of Bayer DNG files over plain TIFF tags: real EXIF block, preview, lossless-JPEG tiles."""

import struct
from dataclasses import dataclass
from datetime import UTC, datetime
from fractions import Fraction
from pathlib import Path
from typing import Any

import imagecodecs
import numpy as np
import numpy.typing as npt

from vinter.core.formats.whole import whole

BYTE, ASCII, SHORT, LONG, RATIONAL, UNDEFINED, SRATIONAL = 1, 2, 3, 4, 5, 7, 10
_PACK = {BYTE: "B", SHORT: "H", LONG: "I", UNDEFINED: "B"}
TILE = 1008
LOSSLESS_JPEG, UNCOMPRESSED = 7, 1
CFA, RGB = 32803, 2
D65 = 21

Entry = tuple[int, int, object]


@dataclass(frozen=True, kw_only=True)
class DngInfo:
    """What a DNG says of itself. matrix is XYZ (D65) to camera, neutral the camera's white, time Unix
    seconds."""

    make: str
    model: str
    iso: int
    exposure_s: float
    aperture: float
    focal_mm: float
    f35: float
    time: float
    utc_offset: str = "+00:00"
    black: int = 256
    white: int = 4095
    neutral: tuple[float, float, float] = (0.45, 1.0, 0.7)
    matrix: tuple[float, ...] = (1, 0, 0, 0, 1, 0, 0, 0, 1)
    orientation: int = 1
    pattern: tuple[int, int, int, int] = (0, 1, 1, 2)
    software: str = "Vinter simulated phone"


def _rational(value: float, signed: bool) -> bytes:
    f = Fraction(value).limit_denominator(100000)
    return struct.pack("<ii" if signed else "<II", f.numerator, f.denominator)


def _packed(kind: int, value: object) -> tuple[int, bytes]:
    """Count and bytes of a tag's value."""
    if kind == ASCII:
        raw = str(value).encode() + b"\0"
        return len(raw), raw
    if isinstance(value, bytes):
        return len(value), value
    values: list[Any] = list(value) if isinstance(value, (tuple, list)) else [value]
    if kind in (RATIONAL, SRATIONAL):
        return len(values), b"".join(_rational(v, kind == SRATIONAL) for v in values)
    return len(values), struct.pack(f"<{len(values)}{_PACK[kind]}", *values)


def _ifd_size(entries: list[Entry]) -> int:
    extra = sum(len(d) + len(d) % 2 for d in (_packed(k, v)[1] for _, k, v in entries) if len(d) > 4)
    return 2 + 12 * len(entries) + 4 + extra


def _ifd(entries: list[Entry], offset: int) -> bytes:
    """An image file directory at a file offset, its longer values behind it."""
    head, tail = struct.pack("<H", len(entries)), b""
    tail_at = offset + 2 + 12 * len(entries) + 4
    for tag, kind, value in sorted(entries, key=lambda e: e[0]):
        count, raw = _packed(kind, value)
        if len(raw) <= 4:
            field = raw.ljust(4, b"\0")
        else:
            field = struct.pack("<I", tail_at + len(tail))
            tail += raw + b"\0" * (len(raw) % 2)
        head += struct.pack("<HHI", tag, kind, count) + field
    return head + struct.pack("<I", 0) + tail


def _encoded(part: npt.NDArray[np.uint16], bits: int) -> bytes:
    return bytes(imagecodecs.ljpeg_encode(np.ascontiguousarray(part), bitspersample=bits))


def _tiles(cfa: npt.NDArray[np.uint16], bits: int) -> list[bytes]:
    height, width = cfa.shape
    padded = np.pad(cfa, ((0, -height % TILE), (0, -width % TILE)), mode="edge")
    return [
        _encoded(padded[y : y + TILE, x : x + TILE], bits)
        for y in range(0, height, TILE)
        for x in range(0, width, TILE)
    ]


def _exif(info: DngInfo) -> list[Entry]:
    moment = datetime.fromtimestamp(info.time, UTC)
    sign = -1 if info.utc_offset.startswith("-") else 1
    shift = sign * (int(info.utc_offset[1:3]) * 3600 + int(info.utc_offset[4:6]) * 60)
    local = datetime.fromtimestamp(info.time + shift, UTC).strftime("%Y:%m:%d %H:%M:%S")
    return [
        (33434, RATIONAL, info.exposure_s),
        (33437, RATIONAL, info.aperture),
        (34855, SHORT, info.iso),
        (36864, UNDEFINED, b"0232"),
        (36867, ASCII, local),
        (36868, ASCII, local),
        (36881, ASCII, info.utc_offset),
        (37521, ASCII, f"{moment.microsecond // 1000:03d}"),
        (37386, RATIONAL, info.focal_mm),
        (41989, SHORT, round(info.f35)),
    ]


def write_dng(
    path: Path,
    cfa: npt.NDArray[np.uint16],
    info: DngInfo,
    preview: npt.NDArray[np.uint8],
    compress: bool = True,
) -> None:
    """Write a Bayer mosaic (height, width) uint16 with an 8-bit RGB preview (h, w, 3) as DNG 1.4."""
    height, width = cfa.shape
    bits = int(info.white).bit_length() if compress else 16
    tiled = compress and min(height, width) >= TILE  # LibRaw misreads tiles larger than their picture
    data = _tiles(cfa, bits) if tiled else [_encoded(cfa, bits) if compress else cfa.astype("<u2").tobytes()]
    layout: list[Entry] = (
        [
            (322, LONG, TILE),
            (323, LONG, TILE),
            (324, LONG, [0] * len(data)),
            (325, LONG, [len(d) for d in data]),
        ]
        if tiled
        else [(273, LONG, 0), (278, LONG, height), (279, LONG, len(data[0]))]
    )
    raw: list[Entry] = [
        (254, LONG, 0),
        (256, LONG, width),
        (257, LONG, height),
        (258, SHORT, bits),
        (259, SHORT, LOSSLESS_JPEG if compress else UNCOMPRESSED),
        (262, SHORT, CFA),
        (277, SHORT, 1),
        (33421, SHORT, (2, 2)),
        (33422, BYTE, info.pattern),
        (50714, LONG, info.black),
        (50717, LONG, info.white),
        *layout,
    ]
    small = np.ascontiguousarray(preview).tobytes()
    main: list[Entry] = [
        (254, LONG, 1),
        (256, LONG, preview.shape[1]),
        (257, LONG, preview.shape[0]),
        (258, SHORT, (8, 8, 8)),
        (259, SHORT, UNCOMPRESSED),
        (262, SHORT, RGB),
        (271, ASCII, info.make),
        (272, ASCII, info.model),
        (273, LONG, 0),
        (274, SHORT, info.orientation),
        (277, SHORT, 3),
        (278, LONG, preview.shape[0]),
        (279, LONG, len(small)),
        (305, ASCII, info.software),
        (330, LONG, 0),
        (34665, LONG, 0),
        (50706, BYTE, (1, 4, 0, 0)),
        (50707, BYTE, (1, 1, 0, 0)),
        (50708, ASCII, f"{info.make} {info.model}"),
        (50721, SRATIONAL, info.matrix),
        (50728, RATIONAL, info.neutral),
        (50778, SHORT, D65),
    ]
    exif = _exif(info)
    main_at = 8
    exif_at = main_at + _ifd_size(main)
    raw_at = exif_at + _ifd_size(exif)
    small_at = raw_at + _ifd_size(raw)
    data_at = small_at + len(small) + len(small) % 2
    offsets = [data_at + sum(len(d) for d in data[:i]) for i in range(len(data))]
    where = {273: small_at, 330: raw_at, 34665: exif_at}
    main = [(t, k, where.get(t, v)) for t, k, v in main]
    raw = [(t, k, offsets if t == 324 else offsets[0] if t == 273 else v) for t, k, v in raw]
    with whole(path, lasting=False) as draft, draft.open("wb") as out:
        out.write(struct.pack("<2sHI", b"II", 42, main_at))
        out.write(_ifd(main, main_at) + _ifd(exif, exif_at) + _ifd(raw, raw_at))
        out.write(small + b"\0" * (len(small) % 2))
        out.writelines(data)
