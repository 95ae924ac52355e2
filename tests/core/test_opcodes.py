"""Corrections a phone writes into its DNG, packed here by hand."""

import struct

import numpy as np
import pytest
import tifffile
from starfield import BLACK, PATTERNS, WHITE

from vinter.core.frames.measure import measure
from vinter.core.frames.mosaic import PEDESTAL, SPAN, clean_mosaic
from vinter.core.frames.opcodes import corrections
from vinter.core.frames.reading import read_frame

SIZE = (240, 320)


def gain_map(table, pitch=1, start=(0, 0)):
    rows, columns = table.shape
    head = struct.pack(">10I", *start, *SIZE, 0, 1, pitch, pitch, rows, columns)
    return head + struct.pack(">4d", 1 / (rows - 1), 1 / (columns - 1), 0, 0) + struct.pack(">I", 1) + table.astype(">f4").tobytes()


def opcodes(*items):
    packed = [struct.pack(">4I", code, 0x01030000, flags, len(data)) + data for code, flags, data in items]
    return struct.pack(">I", len(items)) + b"".join(packed)


def dng(path, mosaic, data=b"", orientation=1):
    tags = [(33421, "H", 2, (2, 2), True), (33422, "B", 4, PATTERNS["RGGB"], True), (50706, "B", 4, (1, 4, 0, 0), True),
            (50714, "H", 1, BLACK, True), (50717, "H", 1, WHITE, True), (274, "H", 1, orientation, True)]
    if data:
        tags.append((51009, "B", len(data), data, True))
    tifffile.imwrite(path, mosaic, photometric=32803, extratags=tags, metadata=None, rowsperstrip=SIZE[0])
    return path


def falling(gain):
    """A mosaic of even light seen through a lens whose shading a gain map takes out."""
    rng = np.random.default_rng(1)
    return np.round(BLACK + 3000 / gain + rng.normal(0, 4, SIZE)).astype(np.uint16)


def ramp():
    return np.linspace(1, 2, 9)[None, :] * np.linspace(1, 1.5, 7)[:, None]


@pytest.mark.parametrize("orientation", [1, 3, 6, 8])
def test_a_gain_map_makes_an_even_field_even(tmp_path, orientation):
    y, x = (np.arange(n) + 0.5 for n in SIZE)
    gain = (1 + x / SIZE[1])[None, :] * (1 + 0.5 * y / SIZE[0])[:, None]
    frame = read_frame(dng(tmp_path / "a.dng", falling(gain), opcodes((9, 0, gain_map(ramp()))), orientation))
    clean, _ = clean_mosaic(frame)
    level = (clean.astype(float) - PEDESTAL) / SPAN * (WHITE - BLACK)
    assert level == pytest.approx(np.full(level.shape, 3000.0), abs=60)
    assert "gain map applied, up to 3.0" in " ".join(measure(frame).raw_reasons)


def test_maps_of_single_colours_and_several_at_once(tmp_path):
    one = np.full((2, 2), 2.0)
    data = opcodes((9, 0, gain_map(one, 2, (0, 0))), (9, 0, gain_map(one, 2, (1, 1))))
    found = corrections(dng(tmp_path / "a.dng", np.full(SIZE, 900, np.uint16), data), *SIZE)
    assert (found.shading[0::2, 0::2] == 2).all() and (found.shading[1::2, 1::2] == 2).all()
    assert (found.shading[0::2, 1::2] == 1).all()


def test_others_are_named_and_nonsense_is_passed_over(tmp_path):
    data = opcodes((1, 0, b"\0" * 8), (3, 1, b""), (77, 0, b""), (9, 0, gain_map(ramp())[:90]), (9, 0, gain_map(-ramp())))
    found = corrections(dng(tmp_path / "a.dng", np.full(SIZE, 900, np.uint16), data), *SIZE)
    words = "; ".join(found.notes)
    for part in ("WarpRectilinear: a lens warp", "FixVignetteRadial is not applied", "opcode 77 is not applied, though the file asks",
                 "does not fit the frame"):
        assert part in words
    assert (found.shading == 1).all()
    assert corrections(dng(tmp_path / "b.dng", np.full(SIZE, 900, np.uint16), b"\0\0\0\x05rubbish"), *SIZE).notes == ()
    assert corrections(dng(tmp_path / "c.dng", np.full(SIZE, 900, np.uint16)), *SIZE).shading is None
