"""Files of strangers, odd and broken: each gets its sentence, the others their measures, and nothing is
torn."""

import json
import math
import os
import struct
import threading
from pathlib import Path

import cv2
import numpy as np
import pytest
import tifffile
from PIL import Image
from starfield import Field, make

from vinter.cli import main
from vinter.core.errors import BadInput
from vinter.core.finite import finite
from vinter.core.formats.fits import write_fits
from vinter.core.formats.lineardng import write_linear_dng
from vinter.core.formats.pictures import write_jpeg, write_png16, write_tiff16
from vinter.core.formats.whole import whole, write_image
from vinter.core.frames.frame import Colour, Frame
from vinter.core.frames.metadata import _number
from vinter.core.frames.reading import Metadata, named, read_frame
from vinter.web.takes.work import measure_file


@pytest.fixture(scope="module")
def good(tmp_path_factory):
    """A small frame that is all right."""
    folder = tmp_path_factory.mktemp("good")
    make(folder, Field(count=1, width=400, height=300, stars=120, focal=300.0))
    return next(folder.glob("*.dng"))


def with_tag(data, tag, value):
    """A little-endian TIFF whose first value of a tag is another."""
    at = data.find(struct.pack("<H", tag))
    while at >= 0:
        kind, count = struct.unpack("<HI", data[at + 2 : at + 8])
        if kind in (1, 3, 4) and 0 < count <= 4:
            return data[: at + 8] + value + data[at + 8 + len(value) :]
        at = data.find(struct.pack("<H", tag), at + 1)
    raise AssertionError(f"no tag {tag}")


@pytest.mark.parametrize("pattern", [(0, 1, 2, 1), (1, 1, 1, 1), (0, 0, 2, 2), (3, 1, 1, 2)])
def test_a_colour_filter_that_is_no_bayer_pattern_is_named(pattern):
    with pytest.raises(BadInput, match=r"a\.dng.*Bayer"):
        Frame(
            path=Path("a.dng"),
            kind="bayer",
            data=np.zeros((100, 100), np.uint16),
            pattern=np.array(pattern).reshape(2, 2),
            black=np.zeros((2, 2)),
            white=4095.0,
            colour=Colour(),
            meta=Metadata(),
        )


@pytest.mark.parametrize("white", [0.0, 64.0, math.nan, -5.0])
def test_a_white_level_below_black_is_named(white):
    with pytest.raises(BadInput, match="white level"):
        Frame(
            path=Path("a.dng"),
            kind="bayer",
            data=np.zeros((100, 100), np.uint16),
            pattern=np.array([[0, 1], [1, 2]]),
            black=np.full((2, 2), 64.0),
            white=white,
            colour=Colour(),
            meta=Metadata(),
        )


def test_a_file_with_another_pattern_inside_gets_its_sentence(good, tmp_path):
    odd = tmp_path / "odd.dng"
    odd.write_bytes(with_tag(good.read_bytes(), 33422, bytes([0, 1, 2, 1])))
    found = measure_file(odd, "IMG_7.dng", tmp_path)
    assert "IMG_7.dng" in found["error"] and "odd" not in found["error"]


@pytest.mark.parametrize("seed", range(24))
def test_flipped_bits_never_break_the_card(good, tmp_path, seed):
    """Forty bits anywhere in the file's head and directories: measured, or named; always plain data."""
    drawn = np.random.default_rng(seed)
    data = bytearray(good.read_bytes())
    for _ in range(40):
        at = int(drawn.integers(8, min(len(data), 4096) if seed % 2 else len(data)))
        data[at] ^= 1 << int(drawn.integers(8))
    path = tmp_path / "flipped.dng"
    path.write_bytes(bytes(data))
    found = measure_file(path, "flipped.dng", tmp_path)
    json.dumps(found, allow_nan=False)
    assert "error" not in found or "flipped.dng" in found["error"]


@pytest.mark.parametrize("value", [(0, 0), (1, 0), "x", None, math.inf, math.nan, (), object()])
def test_numbers_of_careless_writers_are_none(value):
    assert _number(value) is None


def test_numbers_that_are_some_are_read():
    assert (_number((1, 4)), _number(3), _number("2.5"), _number((7,))) == (0.25, 3.0, 2.5, 7.0)


def test_plain_data_hold_no_number_that_is_none():
    data = {"a": [1.0, math.nan, {"b": (math.inf, "x")}], "c": None, "d": True}
    assert finite(data) == {"a": [1.0, None, {"b": [None, "x"]}], "c": None, "d": True}


def test_an_exposure_of_nothing_over_nothing_is_no_exposure(tmp_path):
    block = Image.Exif()
    block.get_ifd(34665)[33434] = (0, 0)
    Image.fromarray(np.full((200, 300, 3), 60, np.uint8)).save(tmp_path / "a.jpg", exif=block)
    found = measure_file(tmp_path / "a.jpg", "a.jpg", tmp_path)
    assert "error" not in found and found["exposure_s"] is None
    json.dumps(found, allow_nan=False)


@pytest.mark.parametrize("shape", [(0, 10, 3), (63, 400, 3), (400, 1, 3)])
def test_too_small_a_picture_is_named(tmp_path, shape):
    path = tmp_path / "small.tif"
    tifffile.imwrite(path, np.zeros(shape, np.uint16)) if 0 not in shape else path.write_bytes(
        b"II*\0\0\0\0\0"
    )
    with pytest.raises(BadInput, match=r"small\.tif"):
        read_frame(path)


def test_whatever_a_library_raises_becomes_a_sentence():
    for error in (KeyError("x"), RuntimeError("a\nb"), IndexError(), struct.error("short"), RecursionError()):
        with pytest.raises(BadInput) as caught, named("IMG_1.dng"):
            raise error
        assert str(caught.value).startswith("IMG_1.dng: ") and "\n" not in str(caught.value)
    for error in (MemoryError(), KeyboardInterrupt()):
        with pytest.raises(type(error)), named("IMG_1.dng"):
            raise error


def test_inspect_has_an_entry_for_every_file_and_is_json(good, tmp_path, capsys):
    (tmp_path / "a.dng").write_bytes(good.read_bytes())
    (tmp_path / "b.dng").write_bytes(b"II*\0 nothing")
    (tmp_path / "c.jpg").write_bytes(b"\xff\xd8\xff nothing")
    (tmp_path / "d.dng").write_bytes(b"")
    assert main(["inspect", str(tmp_path), "--format", "json"]) == 0
    rows = {r["file"]: r for r in json.loads(capsys.readouterr().out)}
    assert set(rows) == {"a.dng", "b.dng", "c.jpg", "d.dng"} and "error" not in rows["a.dng"]
    assert all(name in rows[name]["error"] for name in ("b.dng", "c.jpg", "d.dng"))


WRITERS = {
    "jpg": lambda path: write_jpeg(path, np.zeros((80, 90, 3), np.uint8)),
    "tif": lambda path: write_tiff16(path, np.zeros((80, 90, 3), np.uint16)),
    "png": lambda path: write_png16(path, np.zeros((80, 90, 3), np.uint16)),
    "fits": lambda path: write_fits(path, np.zeros((80, 90, 3), np.float32)),
    "dng": lambda path: write_linear_dng(path, np.zeros((80, 90, 3), np.float32), (0.5, 1.0, 0.7), np.eye(3)),
    "mask.png": lambda path: write_image(path, np.zeros((80, 90), np.uint8)),
}


@pytest.mark.parametrize("kind", WRITERS)
def test_a_file_is_written_over_whole_and_leaves_no_draft(tmp_path, kind):
    path = tmp_path / f"picture.{kind}"
    path.write_bytes(b"the one before")
    WRITERS[kind](path)
    assert path.stat().st_size > 100 and [p.name for p in tmp_path.iterdir()] == [path.name]


@pytest.mark.parametrize("kind", WRITERS)
def test_what_was_there_stays_when_the_disk_is_full(tmp_path, kind, monkeypatch):
    path = tmp_path / f"picture.{kind}"
    path.write_bytes(b"the one before")

    def full(_):
        raise OSError(28, "No space left on device")

    monkeypatch.setattr(os, "fsync", full)
    with pytest.raises(OSError, match="No space"):
        WRITERS[kind](path)
    assert path.read_bytes() == b"the one before" and [p.name for p in tmp_path.iterdir()] == [path.name]


def test_two_writers_of_one_file_leave_one_of_the_two(tmp_path):
    path = tmp_path / "a.png"
    pictures = [np.full((200, 300, 3), level, np.uint8) for level in (40, 200)]

    def write(picture):
        for _ in range(20):
            write_image(path, picture)

    threads = [threading.Thread(target=write, args=(p,)) for p in pictures]
    for thread in threads:
        thread.start()
    seen = set()
    while any(thread.is_alive() for thread in threads):
        if path.exists():
            found = cv2.imread(str(path))
            assert found is not None and found.min() == found.max()  # never a torn one
            seen.add(int(found[0, 0, 0]))
    for thread in threads:
        thread.join()
    assert seen <= {40, 200} and [p.name for p in tmp_path.iterdir()] == ["a.png"]


def test_a_draft_that_fails_is_gone(tmp_path):
    with pytest.raises(RuntimeError), whole(tmp_path / "a.txt") as draft:
        draft.write_text("half")
        raise RuntimeError
    assert list(tmp_path.iterdir()) == []
