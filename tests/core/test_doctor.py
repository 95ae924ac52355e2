"""What is understood of files: said of good ones and of spoiled ones alike; wide gamuts; stripped RAW."""

import io

import cv2
import numpy as np
import pytest
import tifffile
from PIL import Image, ImageCms
from scenes import TAGS, Scene, mosaic

from vinter.core.errors import BadInput
from vinter.core.frames.content import content_words
from vinter.core.frames.doctor import examine_file
from vinter.core.frames.profiles import SRGB_OF_P3, srgb_pixels
from vinter.core.frames.reading import read_frame

SMALL = Scene(width=1008, height=756, focal=700.0, stars=2500, seed=31)


def words(path):
    return {f.topic: f for f in examine_file(path)}


def test_a_raw_file_is_understood_with_all_its_levels(tmp_path):
    path = tmp_path / "a.dng"
    tifffile.imwrite(path, mosaic(SMALL, 5), photometric=32803, extratags=TAGS, metadata=None)
    said = words(path)
    assert (
        "1008 × 756, a Bayer mosaic" in said["pixels"].words
        and "pattern RGGB, black 256" in said["levels"].words
    )
    assert said["RAW"].understood and "true sensor data" in said["RAW"].words
    assert not said["ISO"].understood and "does not say" in said["ISO"].words
    assert said["stars"].understood and said["verdict"].words.startswith("keep")


def test_what_is_no_picture_is_named(tmp_path):
    (tmp_path / "a.dng").write_bytes(b"hello, this is no picture at all")
    said = words(tmp_path / "a.dng")
    assert not said["file"].understood and not said["pixels"].understood
    (tmp_path / "a.mov").write_bytes(b"\0\0\0\x14ftypqt  \0\0\0\0")
    film = words(tmp_path / "a.mov")
    assert "a film" in film["file"].words and not film["pixels"].understood
    assert content_words(b"\0\0\0\x14ftypavif") == "AVIF" and content_words(b"nothing known") == ""
    assert said["file"].words.startswith("32 bytes, of no known kind")


def test_a_dng_whose_pixels_were_taken_out_says_so(tmp_path):
    path = tmp_path / "stripped.dng"
    preview = np.full((240, 320, 3), 60, np.uint8)
    tifffile.imwrite(path, preview, photometric="rgb", extratags=[(50706, "B", 4, (1, 4, 0, 0), True)])
    with pytest.raises(BadInput, match="only a preview is left"):
        read_frame(path)


@pytest.mark.parametrize("suffix", [".avif", ".hif"])
def test_new_suffixes_are_read(tmp_path, suffix):
    picture = Image.fromarray(np.full((480, 640, 3), (200, 100, 50), np.uint8))
    path = tmp_path / f"a{suffix}"
    picture.save(path, format="AVIF" if suffix == ".avif" else "HEIF", quality=95)
    frame = read_frame(path)
    assert frame.size == (640, 480)
    assert np.median(frame.data.reshape(-1, 3), axis=0) / 257 == pytest.approx([200, 100, 50], abs=4)


def test_display_p3_by_its_primaries_becomes_srgb():
    picture = Image.fromarray(np.full((64, 64, 3), (200, 100, 50), np.uint8))
    picture.info["nclx_profile"] = {"color_primaries": 12}
    found = srgb_pixels(picture)[0, 0]
    linear = (np.array([200, 100, 50]) / 255 + 0.055) / 1.055
    light = SRGB_OF_P3 @ linear**2.4
    wanted = 255 * (1.055 * np.clip(light, 0.0031308, 1) ** (1 / 2.4) - 0.055)
    assert found == pytest.approx(wanted, abs=1.5) and found[0] > 205  # redder than the same numbers in sRGB


def test_a_profile_that_is_srgb_or_broken_changes_nothing():
    picture = Image.fromarray(np.full((64, 64, 3), (200, 100, 50), np.uint8))
    for data in (ImageCms.ImageCmsProfile(ImageCms.createProfile("sRGB")).tobytes(), b"broken"):
        picture.info["icc_profile"] = data
        assert (srgb_pixels(picture)[0, 0] == (200, 100, 50)).all()
    out = io.BytesIO()
    Image.fromarray(cv2.merge([np.full((64, 64), v, np.uint8) for v in (1, 2, 3)])).save(out, "PNG")
    assert (srgb_pixels(Image.open(out))[0, 0] == (1, 2, 3)).all()
