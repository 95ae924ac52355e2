"""Corrections a phone writes into its DNG, packed here by hand."""

import struct

import numpy as np
import pytest
import tifffile
from scenes import BLACK as SCENE_BLACK
from scenes import WHITE as SCENE_WHITE
from scenes import Scene, evened, mosaic, write_packed
from starfield import BLACK, PATTERNS, WHITE

from vinter.core.frames.measuring import measure
from vinter.core.frames.mosaic import PEDESTAL, SPAN, clean_mosaic
from vinter.core.frames.opcodes import corrections
from vinter.core.frames.reading import read_frame

SIZE = (240, 320)


def gain_map(table, pitch=1, start=(0, 0)):
    rows, columns = table.shape
    head = struct.pack(">10I", *start, *SIZE, 0, 1, pitch, pitch, rows, columns)
    return (
        head
        + struct.pack(">4d", 1 / (rows - 1), 1 / (columns - 1), 0, 0)
        + struct.pack(">I", 1)
        + table.astype(">f4").tobytes()
    )


def opcodes(*items):
    packed = [struct.pack(">4I", code, 0x01030000, flags, len(data)) + data for code, flags, data in items]
    return struct.pack(">I", len(items)) + b"".join(packed)


def dng(path, mosaic, data=b"", orientation=1):
    tags = [
        (33421, "H", 2, (2, 2), True),
        (33422, "B", 4, PATTERNS["RGGB"], True),
        (50706, "B", 4, (1, 4, 0, 0), True),
        (50714, "H", 1, BLACK, True),
        (50717, "H", 1, WHITE, True),
        (274, "H", 1, orientation, True),
    ]
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
    data = opcodes(
        (1, 0, b"\0" * 8), (3, 1, b""), (77, 0, b""), (9, 0, gain_map(ramp())[:90]), (9, 0, gain_map(-ramp()))
    )
    found = corrections(dng(tmp_path / "a.dng", np.full(SIZE, 900, np.uint16), data), *SIZE)
    words = "; ".join(note.words for note in found.notes)
    for part in (
        "WarpRectilinear: a lens warp",
        "FixVignetteRadial is not applied",
        "opcode 77 is not applied, though the file asks",
        "does not fit the frame",
    ):
        assert part in words
    assert (found.shading == 1).all()
    assert (
        corrections(dng(tmp_path / "b.dng", np.full(SIZE, 900, np.uint16), b"\0\0\0\x05rubbish"), *SIZE).notes
        == ()
    )
    assert corrections(dng(tmp_path / "c.dng", np.full(SIZE, 900, np.uint16)), *SIZE).shading is None


def warp_opcode(planes, centre=(0.5, 0.5)):
    flat = [v for p in planes for v in p]
    return (1, 0, struct.pack(f">I{len(flat) + 2}d", len(planes), *flat, *centre))


@pytest.mark.parametrize("orientation", [1, 3, 6, 8])
def test_a_lens_warp_makes_a_bent_picture_straight(tmp_path, orientation):
    """Spots drawn where a barrel lens puts a grid come out on the grid, whichever way the phone was held."""
    height, width = SIZE
    k = (0.93, 0.05, 0.02, 0.0, 0.004, -0.003)
    far = np.hypot((width - 1) / 2, (height - 1) / 2)
    grid = np.array([(x, y) for x in (60, 160, 260) for y in (50, 120, 190)], float)
    d = (grid - [(width - 1) / 2, (height - 1) / 2]) / far
    r2 = (d**2).sum(axis=1)
    radial = k[0] + k[1] * r2 + k[2] * r2**2 + k[3] * r2**3
    x, y = d.T
    bent = np.c_[
        x * radial + k[4] * 2 * x * y + k[5] * (r2 + 2 * x * x),
        y * radial + k[5] * 2 * x * y + k[4] * (r2 + 2 * y * y),
    ]
    bent = bent * far + [(width - 1) / 2, (height - 1) / 2]
    yy, xx = np.mgrid[:height, :width]
    spots = sum(3000 * np.exp(-((xx - bx) ** 2 + (yy - by) ** 2) / 8) for bx, by in bent)
    frame = read_frame(
        dng(
            tmp_path / "a.dng",
            np.round(BLACK + 200 + spots).astype(np.uint16),
            opcodes(warp_opcode([k])),
            orientation,
        )
    )
    turns = {1: 0, 3: 2, 6: 3, 8: 1}[orientation]
    straight = frame.warp.straightened(frame.data.astype(np.float32))
    upright = np.rot90(straight, -turns)
    for gx, gy in grid.astype(int):
        part = upright[gy - 9 : gy + 10, gx - 9 : gx + 10] - upright.min()
        part = np.where(part > 0.3 * part.max(), part, 0)
        cy, cx = (np.average(np.indices(part.shape)[a], weights=part) - 9 for a in (0, 1))
        assert abs(cx) < 0.15 and abs(cy) < 0.15
    assert "lens warp: moves the corners" in " ".join(measure(frame).raw_reasons)


def test_three_planes_straighten_each_colour(tmp_path):
    planes = [(1.0 + s, 0, 0, 0, 0, 0) for s in (0.01, 0.0, -0.01)]
    frame = read_frame(dng(tmp_path / "a.dng", np.full(SIZE, 900, np.uint16), opcodes(warp_opcode(planes))))
    picture = np.zeros((*SIZE, 3), np.float32)
    yy, xx = np.mgrid[: SIZE[0], : SIZE[1]]
    for c, (k, *_) in enumerate(planes):
        picture[..., c] = np.exp(-((xx - (159.5 + 100 * k)) ** 2 + (yy - 119.5) ** 2) / 8)
    out = frame.warp.straightened(picture)
    assert [int(out[120, :, c].argmax()) for c in range(3)] == [pytest.approx(259.5, abs=0.6)] * 3


def test_ten_packed_bits_with_a_gain_map_are_read_to_the_last_one(tmp_path):
    scene = Scene(width=512, height=384, focal=360.0, stars=600, count=1)
    drawn = mosaic(scene, 0)
    write_packed(tmp_path / "a.dng", drawn, evened(scene))
    frame = read_frame(tmp_path / "a.dng")
    step = (SCENE_WHITE - SCENE_BLACK) / (1023 - 64)
    back = (frame.data.astype(float) - 64) * step + SCENE_BLACK
    assert frame.size == (512, 384) and frame.white == 1023 and np.abs(back - drawn).max() <= step / 2 + 1e-6
    # the corners are brought up by what the lens took
    assert frame.shading[0, 0] == pytest.approx(1 / 0.6, rel=0.01)
    assert frame.shading[192, 256] == pytest.approx(1, abs=0.002)
    clean, _ = clean_mosaic(frame)
    corner, middle = clean[:40, :40].mean() - PEDESTAL, clean[60:100, 236:276].mean() - PEDESTAL
    assert corner > 0.7 * middle
