"""Every kind of file is taken wherever another is: the same list for uploads, pages, folders and doctor;
FITS, and files that end too soon."""

import numpy as np
import pytest
from astropy.io import fits
from PIL import Image
from starfield import Field, make

from vinter.core.errors import BadInput
from vinter.core.frames.content import FILMS, FRAMES, HEAD_BYTES, KINDS, check_content, kind_of_file
from vinter.core.frames.decoding import decoded
from vinter.core.frames.doctor import examine_file
from vinter.core.frames.metadata import TimeSource
from vinter.core.frames.reading import read_frame

HEADS = {  # how files of each suffix begin, by the documents of their makers
    ".dng": b"II*\0\x08\0\0\0",
    ".nef": b"MM\0*\0\0\0\x08",
    ".arw": b"II*\0\x08\0\0\0",
    ".cr2": b"II*\0\x10\0\0\0CR\2\0",
    ".cr3": b"\0\0\0\x18ftypcrx \0\0\0\1",
    ".raf": b"FUJIFILMCCD-RAW 0201",
    ".rw2": b"IIU\0\x18\0\0\0",
    ".orf": b"IIRO\x08\0\0\0",
    ".mpo": b"\xff\xd8\xff\xe1",
    ".jpg": b"\xff\xd8\xff\xe0",
    ".png": b"\x89PNG\r\n\x1a\n",
    ".heic": b"\0\0\0\x18ftypheic\0\0\0\0",
    ".avif": b"\0\0\0\x1cftypavif\0\0\0\0",
    ".tif": b"MM\0*\0\0\0\x08",
    ".fits": b"SIMPLE  =                    T",
    ".mp4": b"\0\0\0\x18ftypisom\0\0\2\0",
    ".mov": b"\0\0\0\x14ftypqt  \0\0\0\0",
    ".avi": b"RIFF\x10\0\0\0AVI LIST",
    ".webm": b"\x1a\x45\xdf\xa3\1\0\0\0",
}


@pytest.mark.parametrize("suffix", HEADS)
def test_a_file_is_known_by_its_first_bytes_and_its_name(suffix):
    head = HEADS[suffix][:HEAD_BYTES]
    assert kind_of_file(f"a{suffix}", head) is not None
    check_content(f"a{suffix}", head, films=True)
    assert suffix in FRAMES | FILMS


def test_no_suffix_belongs_to_two_readers():
    owners = {s: {k.reader for k in KINDS if s in k.suffixes} for k in KINDS for s in k.suffixes}
    assert all(len(readers) == 1 for readers in owners.values())
    with pytest.raises(BadInput, match="its content is CR3"):
        check_content("a.heic", HEADS[".cr3"])


@pytest.mark.parametrize(
    ("data", "level"),
    [
        (np.full((80, 100), 1200, np.uint16), 1200),
        (np.full((3, 80, 100), 0.25, np.float32), 0.25 * 65535),
        (np.full((80, 100), 7, np.uint8), 7 * 257),
    ],
)
def test_fits_grey_and_colour_are_frames(tmp_path, data, level):
    data = data.copy()
    data[..., 0, 0] = 0  # the first row that is stored is the lowest
    unit = fits.PrimaryHDU(data)
    unit.header["DATE-OBS"], unit.header["EXPTIME"] = "2027-06-10T01:10:00.5", 20.0
    unit.header["SITELAT"], unit.header["SITELONG"] = 37.7, -8.78
    unit.writeto(tmp_path / "a.fits")
    frame = decoded(tmp_path / "a.fits")
    assert frame.data.shape == (80, 100, 3) and abs(float(frame.data[40, 50, 1]) - level) < 2
    assert frame.data[79, 0, 0] < 2 and frame.data[0, 0, 0] > 2  # upright
    assert frame.meta.time == 1812589800.5 and frame.meta.time_source == TimeSource.WRITTEN
    assert frame.meta.place == (37.7, -8.78) and frame.meta.exposure_s == 20.0


def test_a_fits_cube_and_a_table_are_named(tmp_path):
    fits.PrimaryHDU(np.zeros((9, 80, 100), np.float32)).writeto(tmp_path / "cube.fits")
    fits.HDUList([fits.PrimaryHDU(), fits.BinTableHDU.from_columns([])]).writeto(tmp_path / "table.fits")
    for name, words in (("cube.fits", "9 planes"), ("table.fits", "without a picture")):
        with pytest.raises(BadInput, match=rf"{name}.*{words}"):
            read_frame(tmp_path / name)


def test_the_first_picture_of_several_in_one_jpeg(tmp_path):
    first, second = (Image.new("RGB", (200, 100), colour) for colour in ((200, 10, 10), (10, 10, 200)))
    first.save(tmp_path / "a.mpo", "MPO", save_all=True, append_images=[second])
    assert decoded(tmp_path / "a.mpo").data[50, 50, 0] > decoded(tmp_path / "a.mpo").data[50, 50, 2]


@pytest.mark.parametrize("share", [0.1, 0.6, 0.95])
def test_a_raw_that_ends_too_soon_is_called_cut_with_how_much_is_there(tmp_path, share):
    make(tmp_path, Field(count=1, width=800, height=600, stars=100, focal=600.0, streak=None))
    whole = (tmp_path / "IMG_0000.dng").read_bytes()
    (tmp_path / "cut.dng").write_bytes(whole[: int(share * len(whole))])
    with pytest.raises(BadInput, match=r"cut\.dng: the file is cut: .* of at least .* are there"):
        read_frame(tmp_path / "cut.dng")
    read_frame(tmp_path / "IMG_0000.dng")
    found = {f.topic: f for f in examine_file(tmp_path / "cut.dng")}
    assert not found["pixels"].understood and "cut" in found["pixels"].words
