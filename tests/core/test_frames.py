"""Reading frames: orientation, kinds, and files that are not what they claim."""

import struct
from dataclasses import replace

import numpy as np
import pytest
import tifffile
from dngs import INFO
from PIL import Image

from vinter.core.errors import BadInput
from vinter.core.formats.dng import write_dng
from vinter.core.frames.content import HEAD_BYTES, check_content, content_words
from vinter.core.frames.decoding import decoded
from vinter.core.frames.dng import plain_bayer
from vinter.core.frames.files import frame_files
from vinter.core.frames.mosaic import PEDESTAL, SPAN, clean_mosaic, clean_picture, demosaic
from vinter.core.frames.raw import read_with_libraw
from vinter.core.frames.reading import read_frame


def mosaic_of(rgb, height=240, width=320):
    """A mosaic whose left half is a colour and whose right half is dark."""
    out = np.full((height, width), 256, np.uint16)
    for y in (0, 1):
        for x in (0, 1):
            out[y::2, x : width // 2 : 2] = 256 + rgb[x + y]
    return out


def write(path, mosaic, **changes):
    preview = np.zeros((12, 16, 3), np.uint8)
    write_dng(
        path,
        mosaic,
        replace(INFO, **changes),
        preview,
        compress=changes.pop("compress", False),
    )


@pytest.mark.parametrize(("orientation", "where"), [(1, "left"), (3, "right"), (6, "top"), (8, "bottom")])
def test_orientation_turns_picture_and_pattern(tmp_path, orientation, where):
    write(tmp_path / "a.dng", mosaic_of((400, 800, 1600)), orientation=orientation)
    frame = read_frame(tmp_path / "a.dng")
    clean, _ = clean_mosaic(frame)
    rgb = (demosaic(clean, frame.pattern).astype(float) - PEDESTAL) / SPAN * (4095 - 256)
    h, w = rgb.shape[:2]
    spot = {
        "left": (h // 2, w // 4),
        "right": (h // 2, 3 * w // 4),
        "top": (h // 4, w // 2),
        "bottom": (3 * h // 4, w // 2),
    }[where]
    assert rgb[spot] == pytest.approx([400, 800, 1600], abs=3)


def test_lossless_tiles_give_back_every_number(tmp_path):
    import rawpy

    mosaic = np.random.default_rng(4).integers(0, 4096, (1200, 1500), np.uint16)
    write_dng(tmp_path / "c.dng", mosaic, INFO, np.zeros((12, 16, 3), np.uint8), compress=True)
    with rawpy.imread(str(tmp_path / "c.dng")) as raw:
        assert np.array_equal(raw.raw_image, mosaic)


def test_time_with_offset_and_fraction(tmp_path):
    write(tmp_path / "a.dng", mosaic_of((1, 2, 3)))
    meta = read_frame(tmp_path / "a.dng").meta
    assert (meta.iso, meta.exposure_s, meta.aperture, meta.f35) == (800, 8.0, 1.8, 24)
    assert meta.time == pytest.approx(1812589930.25)


def test_hot_pixels_go_and_stars_stay(tmp_path):
    rng = np.random.default_rng(1)
    mosaic = rng.normal(600, 10, (400, 400))
    y, x = np.mgrid[:400, :400]
    mosaic += 900 * np.exp(-((x - 200) ** 2 + (y - 200) ** 2) / (2 * 1.15**2))
    hot = [(50, 51), (120, 300), (301, 77)]
    for p in hot:
        mosaic[p] = 3000
    write(tmp_path / "h.dng", np.round(mosaic).astype(np.uint16))
    clean, repaired = clean_mosaic(read_frame(tmp_path / "h.dng"))
    signal = (clean.astype(float) - PEDESTAL) / SPAN * (4095 - 256)
    assert repaired == 3
    assert all(abs(signal[p] - 344) < 40 for p in hot)
    assert signal[200, 200] > 1100


def test_a_picture_is_made_linear(tmp_path):
    Image.fromarray(np.full((100, 120, 3), 188, np.uint8)).save(tmp_path / "p.png")
    value = (float(clean_picture(read_frame(tmp_path / "p.png"))[50, 50, 0]) - PEDESTAL) / SPAN
    assert value == pytest.approx(((188 / 255 + 0.055) / 1.055) ** 2.4, rel=0.01)


def test_broken_files_say_what_is_wrong(tmp_path):
    write(tmp_path / "a.dng", mosaic_of((1, 2, 3)))
    (tmp_path / "cut.dng").write_bytes((tmp_path / "a.dng").read_bytes()[:3000])
    (tmp_path / "text.jpg").write_text("hello")
    (tmp_path / "none.dng").write_bytes(b"")
    (tmp_path / "x.mp4").write_bytes(b"abc")
    tifffile.imwrite(
        tmp_path / "odd.tif", np.zeros((80, 80, 2), np.uint8), photometric="minisblack", planarconfig="contig"
    )
    for name, word in (
        ("cut.dng", "cut.dng"),
        ("text.jpg", "text.jpg"),
        ("none.dng", "empty"),
        ("x.mp4", "not read"),
        ("odd.tif", "neither grey nor colour"),
        ("gone.dng", "no such file"),
    ):
        with pytest.raises(BadInput, match=word):
            read_frame(tmp_path / name)
    with pytest.raises(BadInput, match="no such file or folder"):
        frame_files([tmp_path / "nowhere"])


def test_content_must_fit_the_name():
    check_content("a.dng", b"II*\0....")
    check_content("a.jpg", b"\xff\xd8\xff\xe0")
    with pytest.raises(BadInput, match="its name says"):
        check_content("a.dng", b"\xff\xd8\xff\xe0")
    with pytest.raises(BadInput, match="not a DNG"):
        check_content("a.jpg", b"<svg onl")


def test_a_picture_of_900_megapixels_is_refused_in_the_child(tmp_path):
    """A small file whose header promises 30,000 x 30,000 pixels."""
    header = struct.pack("<2sHIH", b"II", 42, 8, 9)
    tags = [
        (256, 4, 1, 30000),
        (257, 4, 1, 30000),
        (258, 3, 1, 8),
        (259, 3, 1, 1),
        (262, 3, 1, 1),
        (273, 4, 1, 200),
        (277, 3, 1, 3),
        (278, 4, 1, 30000),
        (279, 4, 1, 100),
    ]
    body = b"".join(struct.pack("<HHII", *t) for t in tags) + struct.pack("<I", 0)
    (tmp_path / "huge.tif").write_bytes(header + body + b"\0" * 400)
    with pytest.raises(BadInput, match="holiday"):
        decoded(tmp_path / "huge.tif", "holiday.tif")


def test_what_the_limited_child_hands_over_is_the_frame_itself(tmp_path):
    write(tmp_path / "a.dng", mosaic_of((1, 2, 3)))
    here, there = read_frame(tmp_path / "a.dng"), decoded(tmp_path / "a.dng", "night 1.dng")
    assert there.path.name == "night 1.dng"
    assert np.array_equal(here.data, there.data) and np.array_equal(here.pattern, there.pattern)
    assert np.array_equal(here.black, there.black)
    for name in ("kind", "white", "colour", "meta", "linear", "notes", "warp"):
        assert getattr(here, name) == getattr(there, name), name


@pytest.mark.parametrize("orientation", [1, 3, 6, 8])
@pytest.mark.parametrize("compress", [True, False])
def test_the_short_way_into_a_dng_gives_what_libraw_gives(tmp_path, orientation, compress):
    mosaic = np.random.default_rng(2).integers(0, 4096, (360, 480), np.uint16)
    info = replace(
        INFO,
        orientation=orientation,
        neutral=(0.46, 1.0, 0.71),
        matrix=(0.9, -0.3, -0.1, -0.4, 1.2, 0.2, 0, 0.2, 0.6),
    )
    write_dng(tmp_path / "a.dng", mosaic, info, np.zeros((12, 16, 3), np.uint8), compress=compress)
    assert plain_bayer(tmp_path / "a.dng") is not None
    short, long = read_frame(tmp_path / "a.dng"), read_with_libraw(tmp_path / "a.dng")
    assert np.array_equal(short.data, long.data) and np.array_equal(short.pattern, long.pattern)
    assert np.array_equal(short.black, long.black) and short.white == long.white
    assert np.allclose(short.colour.neutral, long.colour.neutral, atol=1e-3)


def test_an_unusual_dng_is_left_to_libraw(tmp_path):
    write(tmp_path / "a.dng", mosaic_of((1, 2, 3)))
    data = bytearray((tmp_path / "a.dng").read_bytes())
    at = data.index(struct.pack("<HH", 50717, 4))  # the white level's tag becomes a linearisation table
    data[at : at + 2] = struct.pack("<H", 50712)
    (tmp_path / "b.dng").write_bytes(bytes(data))
    assert plain_bayer(tmp_path / "b.dng") is None


def test_heif_is_read_upright_with_its_metadata(tmp_path):
    import pillow_heif

    picture = np.zeros((240, 320, 3), np.uint8)
    picture[:, 160:] = (200, 120, 60)
    image = Image.fromarray(picture)
    exif = Image.Exif()
    exif[272] = "Tern 3"
    exif.get_ifd(34665)[34855] = 800
    image.info["exif"] = exif.tobytes()
    pillow_heif.from_pillow(image).save(tmp_path / "a.heic", quality=95, exif=exif.tobytes())
    frame = read_frame(tmp_path / "a.heic")
    assert (
        frame.size == (320, 240)
        and frame.kind == "picture"
        and frame.meta.iso == 800
        and frame.meta.model == "Tern 3"
    )
    assert frame.data[120, 240].astype(float) / 257 == pytest.approx([200, 120, 60], abs=6)
    assert "HEIF" in content_words((tmp_path / "a.heic").read_bytes()[:HEAD_BYTES])
    (tmp_path / "cut.heic").write_bytes((tmp_path / "a.heic").read_bytes()[:200])
    with pytest.raises(BadInput, match=r"cut\.heic"):
        read_frame(tmp_path / "cut.heic")


@pytest.mark.parametrize("kind", ["mpo", "heic"])
def test_of_several_pictures_in_a_file_the_chief_one_is_read(tmp_path, kind):
    """A gain map or a smaller picture behind the first, or a burst whose chief picture is not the first."""
    chief = Image.new("RGB", (400, 300), (90, 60, 30))
    other = Image.new("RGB", (100, 75), (250, 250, 250))
    path = tmp_path / ("a.jpg" if kind == "mpo" else "a.heic")
    if kind == "mpo":
        chief.save(path, "MPO", save_all=True, append_images=[other], quality=95)
    else:
        import pillow_heif

        file = pillow_heif.from_pillow(other)
        file.add_from_pillow(chief)
        file.save(path, quality=95, primary_index=1)
    frame = read_frame(path)
    assert frame.size == (400, 300)
    assert np.median(frame.data.reshape(-1, 3), axis=0) / 257 == pytest.approx([90, 60, 30], abs=4)
