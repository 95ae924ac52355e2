"""The corrections a phone writes into its DNG: lens-shading gain maps and a lens warp are read, others are
named."""

import struct
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import cv2
import numpy as np
import numpy.typing as npt
import tifffile

from vinter.core.frames import lenswarp

F32 = npt.NDArray[np.float32]
LISTS = (51008, 51009, 51022)  # before, on, and after the mosaic
NAMES = {
    1: "WarpRectilinear",
    2: "WarpFisheye",
    3: "FixVignetteRadial",
    4: "FixBadPixelsConstant",
    5: "FixBadPixelsList",
    6: "TrimBounds",
    7: "MapTable",
    8: "MapPolynomial",
    9: "GainMap",
    10: "DeltaPerRow",
    11: "DeltaPerColumn",
    12: "ScalePerRow",
    13: "ScalePerColumn",
    14: "WarpRectilinear2",
}
OWN_WORK = {4: "bad pixels, which are repaired anyway", 5: "bad pixels, which are repaired anyway"}
OPTIONAL = 1  # flag: a reader may pass it over


@dataclass(frozen=True)
class Corrections:
    """Gain of every pixel as stored (height, width) and the lens warp, None when there is none, and notes on
    what was met."""

    shading: F32 | None
    notes: tuple[str, ...]
    warp: lenswarp.LensWarp | None = None


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
    shading, warp, notes = None, None, []
    for data in _lists(path):
        for code, flags, parameters in _opcodes(data):
            name = NAMES.get(code, f"opcode {code}")
            if code == 9:
                shading = np.ones((height, width), np.float32) if shading is None else shading
                if not _gain_into(shading, parameters):
                    notes.append("a GainMap that does not fit the frame: passed over")
            elif code == 1 and warp is None and (warp := lenswarp.parse(parameters)):
                notes.append(
                    f"lens warp: moves the corners by {warp.most_px((width, height)):.0f} px; a stack is "
                    "made straight by it"
                )
            elif code == 1:
                notes.append("WarpRectilinear: a lens warp that makes no sense, or a second one: passed over")
            elif code in OWN_WORK:
                notes.append(f"{name}: {OWN_WORK[code]}")
            else:
                notes.append(
                    f"{name} is not applied" + ("" if flags & OPTIONAL else ", though the file asks for it")
                )
    if shading is not None:
        notes.insert(0, f"lens-shading gain map applied, up to {float(shading.max()):.1f} times")
    return Corrections(shading, tuple(dict.fromkeys(notes)), warp)
