"""The corrections a phone writes into its DNG: lens-shading gain maps and a lens warp are read, others are
named."""

import struct
from collections.abc import Callable, Iterator
from dataclasses import dataclass, field
from enum import StrEnum
from pathlib import Path
from typing import Any

import cv2
import numpy as np
import numpy.typing as npt
import tifffile

from vinter.core.frames import lenswarp

F32 = npt.NDArray[np.float32]
LISTS = (51008, 51009, 51022)  # tags of the lists that act before, on and after the mosaic
OPTIONAL = 1  # flag of an opcode that a reader may skip


class NoteKind(StrEnum):
    """What became of a correction that a file asks for; the value is the sentence, with the opcode's name and
    an amount to fill in."""

    SHADING_APPLIED = "lens-shading gain map applied, up to {amount:.1f} times"
    SHADING_ODD = "a {name} that does not fit the frame: passed over"
    WARP_READ = "lens warp: moves the corners by {amount:.0f} px; a stack is made straight by it"
    WARP_ODD = "{name}: a lens warp that makes no sense, or a second one: passed over"
    OWN_WORK = "{name}: bad pixels, which are repaired anyway"
    NOT_APPLIED = "{name} is not applied"
    ASKED_FOR = "{name} is not applied, though the file asks for it"


@dataclass(frozen=True)
class CorrectionNote:
    """One thing met in a file: its kind, the opcode's name, and an amount where the kind has one."""

    kind: NoteKind
    name: str = ""
    amount: float = 0.0

    @property
    def words(self) -> str:
        """The note as a sentence."""
        return self.kind.format(name=self.name, amount=self.amount)

    @property
    def of_shading(self) -> bool:
        """Whether it speaks of the gain map, which only a mosaic takes."""
        return self.kind in (NoteKind.SHADING_APPLIED, NoteKind.SHADING_ODD)


@dataclass(frozen=True)
class Corrections:
    """Gain of every pixel as stored (height, width) and the lens warp, None when there is none, and notes on
    what was met."""

    shading: F32 | None
    notes: tuple[CorrectionNote, ...]
    warp: lenswarp.LensWarp | None = None


@dataclass
class Found:
    """What has been gathered while a file's opcodes are gone through, for a mosaic of a size (height,
    width)."""

    shape: tuple[int, int]
    shading: F32 | None = None
    warp: lenswarp.LensWarp | None = None
    notes: list[CorrectionNote] = field(default_factory=list)


def _gain_map(found: Found, name: str, flags: int, parameters: bytes) -> None:
    if found.shading is None:
        found.shading = np.ones(found.shape, np.float32)
    if not _gain_into(found.shading, parameters):
        found.notes.append(CorrectionNote(NoteKind.SHADING_ODD, name))


def _warp(found: Found, name: str, flags: int, parameters: bytes) -> None:
    warp = lenswarp.parse(parameters) if found.warp is None else None
    if warp is None:
        found.notes.append(CorrectionNote(NoteKind.WARP_ODD, name))
        return
    found.warp = warp
    found.notes.append(CorrectionNote(NoteKind.WARP_READ, name, warp.most_px(found.shape[::-1])))


def _own_work(found: Found, name: str, flags: int, parameters: bytes) -> None:
    found.notes.append(CorrectionNote(NoteKind.OWN_WORK, name))


def _not_applied(found: Found, name: str, flags: int, parameters: bytes) -> None:
    kind = NoteKind.NOT_APPLIED if flags & OPTIONAL else NoteKind.ASKED_FOR
    found.notes.append(CorrectionNote(kind, name))


Handler = Callable[[Found, str, int, bytes], None]
# Every opcode of the DNG specification 1.6: its name and what is done with it.
OPCODES: dict[int, tuple[str, Handler]] = {
    1: ("WarpRectilinear", _warp),
    2: ("WarpFisheye", _not_applied),
    3: ("FixVignetteRadial", _not_applied),
    4: ("FixBadPixelsConstant", _own_work),
    5: ("FixBadPixelsList", _own_work),
    6: ("TrimBounds", _not_applied),
    7: ("MapTable", _not_applied),
    8: ("MapPolynomial", _not_applied),
    9: ("GainMap", _gain_map),
    10: ("DeltaPerRow", _not_applied),
    11: ("DeltaPerColumn", _not_applied),
    12: ("ScalePerRow", _not_applied),
    13: ("ScalePerColumn", _not_applied),
    14: ("WarpRectilinear2", _not_applied),
}


def _opcodes(data: bytes) -> Iterator[tuple[int, int, bytes]]:
    """(id, flags, parameters) of a list; stops at what is cut short."""
    if len(data) < 4:
        return
    count, at = struct.unpack(">I", data[:4])[0], 4
    for _ in range(min(count, 64)):
        if at + 16 > len(data):
            return
        code, _, flags, size = struct.unpack(">4I", data[at : at + 16])
        yield code, flags, data[at + 16 : at + 16 + size]
        at += 16 + size


def _gain_into(gain: F32, parameters: bytes) -> bool:
    """Multiply a gain map into the whole frame's gains; False when it makes no sense."""
    if len(parameters) < 76:
        return False
    top, left, bottom, right, _, _, row_pitch, column_pitch, rows, columns = struct.unpack(
        ">10I", parameters[:40]
    )
    step_v, step_h, origin_v, origin_h = struct.unpack(">4d", parameters[40:72])
    planes = struct.unpack(">I", parameters[72:76])[0]
    need = rows * columns * planes * 4
    height, width = gain.shape
    if not (
        row_pitch
        and column_pitch
        and rows
        and columns
        and planes
        and len(parameters) - 76 >= need
        and top < bottom <= height
        and left < right <= width
        and rows * columns * planes < 1_000_000
    ):
        return False
    table = (
        np.frombuffer(parameters[76 : 76 + need], ">f4")
        .reshape(rows, columns, planes)[..., 0]
        .astype(np.float32)
    )
    if not (np.isfinite(table).all() and (table > 0).all()):
        return False
    y, x = np.arange(top, bottom, row_pitch), np.arange(left, right, column_pitch)
    v = np.clip(((y + 0.5) / height - origin_v) / step_v, 0, rows - 1) if step_v else np.zeros(len(y))
    h = np.clip(((x + 0.5) / width - origin_h) / step_h, 0, columns - 1) if step_h else np.zeros(len(x))
    across, down = np.meshgrid(h.astype(np.float32), v.astype(np.float32))
    wanted = cv2.remap(table, across, down, cv2.INTER_LINEAR)
    gain[top:bottom:row_pitch, left:right:column_pitch] *= wanted
    return True


def _lists(path: Path) -> list[bytes]:
    try:
        with tifffile.TiffFile(path) as file:
            first: Any = file.pages[0]
            pages = [first, *(first.pages or ())]
            return [bytes(p.tags[tag].value) for p in pages for tag in LISTS if tag in p.tags]
    except (OSError, ValueError, TypeError, KeyError, tifffile.TiffFileError):
        return []


def corrections(path: Path, height: int, width: int) -> Corrections:
    """What a DNG asks to be corrected, for a mosaic of a size as stored."""
    found = Found((height, width))
    for data in _lists(path):
        for code, flags, parameters in _opcodes(data):
            name, handle = OPCODES.get(code, (f"opcode {code}", _not_applied))
            handle(found, name, flags, parameters)
    notes = found.notes
    if found.shading is not None:
        notes = [CorrectionNote(NoteKind.SHADING_APPLIED, "GainMap", float(found.shading.max())), *notes]
    return Corrections(found.shading, tuple(dict.fromkeys(notes)), found.warp)
