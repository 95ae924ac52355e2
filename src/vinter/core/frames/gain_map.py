"""Pictures that carry a gain map: a second, small picture in the file that says by how much each place was
brighter than the first one shows, up to several EV beyond its white.

In: a JPEG with the map behind it, or a HEIF with the map as an item beside it. Out: linear light.
"""

import io
from dataclasses import dataclass
from pathlib import Path

import cv2
import numpy as np
import numpy.typing as npt
from PIL import Image

from vinter.core.frames.frame import upright
from vinter.core.frames.gain_numbers import (
    Numbers,
    in_block,
    in_segment,
    in_xmp,
    of_headroom,
    written_headroom,
)
from vinter.core.frames.heif_items import Items, items_of, payload, shown_as
from vinter.core.frames.metadata import picture_metadata

F32 = npt.NDArray[np.float32]
START = b"\xff\xd8\xff"
PICTURES_TRIED = 8  # pictures in one file that are looked at
MOST_PIXELS = 64 * 10**6  # of a map
EXIF, MAKER_NOTE = 0x8769, 0x927C
LINEAR_PURPOSE = b":aux:hdrgainmap"  # how an auxiliary picture is called that is linear in light


@dataclass(frozen=True)
class GainMap:
    """A map (h, w, 3; 0 to 1) and its numbers; whether it lies as the stored pixels do, and turns with
    them."""

    values: F32
    numbers: Numbers
    turns: bool = True

    @property
    def most(self) -> F32:
        """The most gain (EV) by colour."""
        return self.numbers.most

    def applied(self, linear: F32) -> F32:
        """Linear light (h, w, 3; 1 is the first picture's white) with the gains applied; may exceed 1."""
        n, size = self.numbers, (linear.shape[1], linear.shape[0])
        share = cv2.resize(self.values, size, interpolation=cv2.INTER_LINEAR) ** (1 / n.gamma)
        gain = np.exp2(n.least + (n.most - n.least) * share)
        return np.asarray(np.maximum((linear + n.before) * gain - n.after, 0), np.float32)


def gain_map(path: Path) -> GainMap | None:
    """The gain map of a JPEG or a HEIF; None where it has none that is understood."""
    data = path.read_bytes()
    if data.startswith(START):
        return _behind(data)
    items = items_of(data)
    return None if items is None else _beside(data, items)


def _behind(data: bytes) -> GainMap | None:
    """The map that lies behind a JPEG as a second one."""
    at = data.find(START, 2)
    for _ in range(PICTURES_TRIED):
        if at < 0:
            return None
        numbers = in_segment(data[at:]) or in_xmp(data[at:])
        if numbers is not None:
            values = _pixels(data[at:])
            return None if values is None else GainMap(values, numbers)
        at = data.find(START, at + 2)
    return None


def _beside(data: bytes, items: Items) -> GainMap | None:
    """The map that is an item of a HEIF: of a picture derived from a base and a map, else the auxiliary
    picture of a phone."""
    for item in items.items.values():
        if item.kind == b"tmap" and len(item.made_of) == 2:
            numbers = in_block(payload(data, items, item)[1:])
            values = None if numbers is None else _pixels(shown_as(data, items, item.made_of[1]))
            if numbers is not None and values is not None:
                return GainMap(values, numbers, turns=False)
    for number, item in items.items.items():
        if item.purpose.endswith(LINEAR_PURPOSE):
            headroom = written_headroom(data, _maker_note(data))
            numbers = None if headroom is None else of_headroom(headroom)
            values = None if numbers is None else _pixels(shown_as(data, items, number))
            if headroom is not None and numbers is not None and values is not None:
                shares = np.log2(1 + (headroom - 1) * _light(values)) / np.log2(headroom)
                return GainMap(np.asarray(shares, np.float32), numbers, turns=False)
    return None


def _light(encoded: F32) -> F32:
    """Light of values that are encoded as a television's are (ITU-R BT.709)."""
    dark = encoded < 0.081
    return np.asarray(np.where(dark, encoded / 4.5, ((encoded + 0.099) / 1.099) ** (1 / 0.45)), np.float32)


def _pixels(data: bytes) -> F32 | None:
    """The picture that a file shows, 0 to 1; None where it cannot be read."""
    try:
        with Image.open(io.BytesIO(data)) as image:
            if image.width * image.height > MOST_PIXELS:
                return None
            return np.asarray(image.convert("RGB")).astype(np.float32) / np.float32(255)
    except (OSError, ValueError, SyntaxError, EOFError, RuntimeError, Image.DecompressionBombError):
        return None


def _maker_note(data: bytes) -> bytes:
    """What the maker's own software wrote of a picture; empty where there is nothing."""
    try:
        with Image.open(io.BytesIO(data)) as image:
            note = image.getexif().get_ifd(EXIF).get(MAKER_NOTE, b"")
    except (OSError, ValueError, SyntaxError, EOFError, RuntimeError, Image.DecompressionBombError):
        return b""
    return note if isinstance(note, bytes) else b""


def beyond_white(path: Path, linear: F32) -> F32:
    """Linear light (h, w, 3; upright, 1 is white) of a picture with what its file's gain map says of it,
    which may exceed 1; as it is where there is no map."""
    found = gain_map(path)
    if found is None:
        return linear
    if not found.turns:
        return found.applied(linear)
    with Image.open(path) as image:
        turned = picture_metadata(image).orientation
    values = upright(np.round(found.values * 65535).astype(np.uint16), turned).astype(np.float32)
    return GainMap(values / np.float32(65535), found.numbers).applied(linear)
