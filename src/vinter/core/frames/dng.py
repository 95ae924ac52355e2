"""Plain Bayer DNG files read straight from their tags, in half of LibRaw's time.

Only files whose tags say all that is needed and nothing unusual are read here; for every other file
``plain_bayer`` returns None and LibRaw does the work.
"""

from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np
import numpy.typing as npt
import tifffile

from vinter.core.frames.lossless_jpeg import lossless_jpeg

CFA, LINEAR_RAW = 32803, 34892
LOSSLESS_JPEG = 7
READABLE = {1, LOSSLESS_JPEG}  # compressions that are read; 1 is none
LINEARISATION, BLACK_DELTAS, ACTIVE_AREA = 50712, (50715, 50716), 50829
UNREADABLE = (  # exceptions that the reader of tags raises for broken files
    OSError,
    ValueError,
    KeyError,
    TypeError,
    IndexError,
    ZeroDivisionError,
    RuntimeError,
    tifffile.TiffFileError,
)
D65_LIKE = {0, 20, 21, 22, 23}  # illuminants whose matrix serves as LibRaw's would


@dataclass(frozen=True, kw_only=True)
class PlainBayer:
    """Sensor data as stored, with pattern and black (2, 2), white, and the colour tags (None where
    absent)."""

    data: npt.NDArray[np.uint16]
    pattern: npt.NDArray[np.int64]
    black: npt.NDArray[np.float64]
    white: float
    neutral: npt.NDArray[np.float64] | None
    matrix: npt.NDArray[np.float64] | None
    orientation: int


def rationals(value: object) -> npt.NDArray[np.float64]:
    """A tag's pairs of whole numbers as fractions."""
    flat = np.array(value, float).reshape(-1, 2)
    return np.asarray(flat[:, 0] / flat[:, 1])


def numbers(value: object, kind: int) -> npt.NDArray[np.float64]:
    """A tag's numbers, by its type."""
    return rationals(value) if kind in (5, 10) else np.atleast_1d(np.array(value, float))


def colour_tags(
    tags: tifffile.TiffTags,
) -> tuple[npt.NDArray[np.float64] | None, npt.NDArray[np.float64] | None, int]:
    """The camera's white and its matrix from XYZ (None where absent), and how the picture is turned, by the
    tags of a file's first directory."""
    neutral, matrix = tags.get(50728), tags.get(50721)
    return (
        numbers(neutral.value, neutral.dtype) if neutral else None,
        rationals(matrix.value).reshape(3, 3) if matrix else None,
        int(tags[274].value) if 274 in tags else 1,
    )


def _sensor_page(file: tifffile.TiffFile) -> tifffile.TiffPage | None:
    """The directory with the sensor's mosaic, or None."""
    first: Any = file.pages[0]
    found = [p for p in (first, *(first.pages or ())) if p.tags.get(262) and int(p.tags[262].value) == CFA]
    return found[0] if len(found) == 1 else None


def _unusual(page: tifffile.TiffPage) -> bool:
    tags = page.tags
    area = tags.get(ACTIVE_AREA)
    cut = area is not None and tuple(int(v) for v in area.value) != (0, 0, page.imagelength, page.imagewidth)
    return (
        cut
        or LINEARISATION in tags
        or any(t in tags for t in BLACK_DELTAS)
        or int(page.compression) not in READABLE
        or page.samplesperpixel != 1
        or page.bitspersample > 16
        or page.imagelength % 2 == 1
        or page.imagewidth % 2 == 1
    )


def _black(page: tifffile.TiffPage) -> npt.NDArray[np.float64] | None:
    tag = page.tags.get(50714)
    values = numbers(tag.value, tag.dtype) if tag else np.zeros(1)
    if values.size == 1:
        return np.full((2, 2), float(values[0]))
    return values.reshape(2, 2) if values.size == 4 else None


def _tiles_joined(page: tifffile.TiffPage) -> npt.NDArray[np.uint16] | None:
    """Samples of a directory whose tiles or strips are lossless JPEG of the usual kind; None of any other."""
    if int(page.compression) != LOSSLESS_JPEG or page.jpegtables is not None:
        return None
    height, width = page.imagelength, page.imagewidth
    tall, wide = (page.tilelength, page.tilewidth) if page.is_tiled else (page.rowsperstrip, width)
    across, file = -(-width // wide), page.parent.filehandle
    out = np.empty((height, width), np.uint16)
    if len(page.dataoffsets) != across * -(-height // tall):
        return None
    for k, (offset, count) in enumerate(zip(page.dataoffsets, page.databytecounts, strict=True)):
        file.seek(offset)
        part = lossless_jpeg(file.read(count))
        y, x = k // across * tall, k % across * wide
        rows = tall if page.is_tiled else min(tall, height - y)
        if part is None or part.size != rows * wide:  # its rows may be told otherwise than the tile's
            return None
        out[y : y + rows, x : x + wide] = part.reshape(rows, wide)[: height - y, : width - x]
    return out


def plain_bayer(path: Path) -> PlainBayer | None:
    """The mosaic of a plain Bayer DNG, or None when the file is anything else (broken files included)."""
    try:
        with tifffile.TiffFile(path) as file:
            first: Any = file.pages[0]
            page = _sensor_page(file)
            if 50706 not in first.tags or page is None or _unusual(page):
                return None
            dimensions, codes, white = page.tags.get(33421), page.tags.get(33422), page.tags.get(50717)
            black = _black(page)
            if (
                dimensions is None
                or tuple(dimensions.value) != (2, 2)
                or codes is None
                or white is None
                or black is None
            ):
                return None
            pattern = np.array(
                list(bytes(codes.value)) if isinstance(codes.value, bytes) else codes.value, np.int64
            ).reshape(2, 2)
            if sorted(pattern.ravel().tolist()) != [0, 1, 1, 2]:
                return None
            tags = first.tags
            light, (neutral, matrix, orientation) = tags.get(50778), colour_tags(tags)
            if matrix is not None and light is not None and int(light.value) not in D65_LIKE:
                return None
            data = _tiles_joined(page)
            if data is None:
                data = page.asarray(maxworkers=1)
            if data.dtype != np.uint16 or data.shape != (page.imagelength, page.imagewidth):
                return None
            return PlainBayer(
                data=data,
                pattern=pattern,
                black=black,
                white=float(np.max(white.value)),
                neutral=neutral,
                matrix=matrix,
                orientation=orientation,
            )
    except UNREADABLE:
        return None


def only_previews(path: Path) -> bool:
    """Whether a TIFF-like file holds pictures but neither a sensor's mosaic nor linear RAW, or RAW without
    any
    bytes."""
    try:
        with tifffile.TiffFile(path) as file:
            first: Any = file.pages[0]
            pages = [first, *(first.pages or ())]
            raw = [p for p in pages if p.tags.get(262) and int(p.tags[262].value) in (CFA, LINEAR_RAW)]
            return not any(sum(p.databytecounts) > 0 for p in raw)
    except (OSError, ValueError, KeyError, TypeError, IndexError, tifffile.TiffFileError):
        return False
