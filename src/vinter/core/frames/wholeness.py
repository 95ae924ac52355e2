"""Whether all of a file is there: TIFF-like files and ISO containers say where their data end."""

import os
import struct
from pathlib import Path
from typing import Any

import tifffile

from vinter.core.errors import BadInput


def check_whole(path: Path) -> None:
    """BadInput naming a file that ends before its data do, with how much of it is there."""
    size = path.stat().st_size
    with path.open("rb") as file:
        head = file.read(16)
    needed = (
        _iso_end(path, size) if head[4:8] == b"ftyp" else _tiff_end(path) if head[:2] in (b"II", b"MM") else 0
    )
    if needed > size:
        there = f"{_said(size)} of at least {_said(needed)} are there"
        raise BadInput(f"{path.name}: the file is cut: {there}; copy it again")


def _said(count: int) -> str:
    return f"{count / 1e6:.1f} MB" if count >= 100_000 else f"{count / 1e3:.0f} kB"


def _tiff_end(path: Path) -> int:
    """The last byte that strips and tiles of all pages of a TIFF-like file name; 0 when they cannot be
    read."""
    try:
        with tifffile.TiffFile(path) as file:
            pages: list[Any] = [*file.pages]
            for page in list(pages):
                pages += list(getattr(page, "pages", None) or [])
            ends = [
                int(start) + int(count)
                for page in pages
                for start, count in zip(
                    getattr(page, "dataoffsets", ()), getattr(page, "databytecounts", ()), strict=False
                )
            ]
        return max(ends, default=0)
    except (
        OSError,
        ValueError,
        KeyError,
        TypeError,
        IndexError,
        AttributeError,
        struct.error,
        tifffile.TiffFileError,
    ):
        return 0


def _iso_end(path: Path, size: int) -> int:
    """Where the boxes of an ISO container end, one after the other."""
    at = 0
    with path.open("rb") as file:
        while at + 8 <= size:
            file.seek(at, os.SEEK_SET)
            head = file.read(16)
            length = int.from_bytes(head[:4], "big")
            if length == 1 and len(head) == 16:
                length = int.from_bytes(head[8:16], "big")
            if length == 0:  # to the end of the file
                return size
            if length < 8:
                return 0
            at += length
    return at
