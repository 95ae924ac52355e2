"""Lossless JPEG read by our own loop, against two other readers and a plain writer."""

import imagecodecs
import numpy as np
import pytest
import rawpy
from dngs import INFO
from lossless import drawn, encoded

from vinter.core.formats import dng
from vinter.core.frames.dng import plain_bayer
from vinter.core.frames.lossless_jpeg import SMALLEST, lossless_jpeg


@pytest.mark.parametrize("predictor", range(1, 8))
@pytest.mark.parametrize(("bits", "components"), [(8, 1), (12, 2), (14, 1), (16, 2)])
def test_every_number_comes_back(predictor, bits, components):
    samples = drawn((37, 64), bits, seed=predictor)
    assert np.array_equal(lossless_jpeg(encoded(samples, bits, predictor, components)), samples)


@pytest.mark.parametrize("bits", [10, 12, 14, 16])
def test_what_other_writers_write_is_read_as_other_readers_read_it(bits):
    samples = drawn((90, 120), bits)
    data = bytes(imagecodecs.ljpeg_encode(samples, bitspersample=bits))
    assert np.array_equal(imagecodecs.jpeg_decode(data), samples)
    assert np.array_equal(lossless_jpeg(data), samples)
    ours = encoded(samples, bits)  # and the writer of these tests is understood by the other reader
    assert np.array_equal(imagecodecs.jpeg_decode(ours), samples)


def test_the_smallest_picture():
    assert np.array_equal(lossless_jpeg(SMALLEST), np.full((2, 2), 128))


def test_what_is_of_another_kind_or_broken_is_none():
    samples = drawn((40, 60), 12)
    good = encoded(samples, 12)
    whole = lossless_jpeg(good)
    assert whole is not None
    cut = [good[:n] for n in (0, 1, 3, 20, 40, len(good) // 2, len(good) - 60)]
    huge = good.replace((40).to_bytes(2) + (60).to_bytes(2), b"\xff\xff\xff\xff")
    restarts = good[:2] + b"\xff\xdd\0\x04\0\x08" + good[2:]
    baseline = good.replace(b"\xff\xc3", b"\xff\xc0", 1)
    no_predictor = good.replace(bytes((1, 0, 0, 1, 0, 0)), bytes((1, 0, 0, 0, 0, 0)), 1)
    for data in (*cut, huge, restarts, baseline, no_predictor):
        assert lossless_jpeg(data) is None
    rng = np.random.default_rng(3)
    for _ in range(400):  # whatever else happens to it, it is a picture of that size or none
        bad = bytearray(good)
        for at in rng.integers(0, len(good), 3):
            bad[at] = rng.integers(0, 256)
        found = lossless_jpeg(bytes(bad))
        assert found is None or (found.dtype == np.uint16 and 0 < found.size <= 16 * len(good))


@pytest.mark.parametrize("components", [1, 2])
def test_tiles_of_one_and_of_two_components_make_the_same_mosaic(tmp_path, monkeypatch, components):
    monkeypatch.setattr(dng, "TILE", 256)
    monkeypatch.setattr(dng, "_encoded", lambda part, bits: encoded(part, bits, 1, components))
    mosaic = np.random.default_rng(7).integers(200, 3000, (270, 322), np.uint16)
    dng.write_dng(tmp_path / "a.dng", mosaic, INFO, np.zeros((12, 16, 3), np.uint8))
    assert np.array_equal(plain_bayer(tmp_path / "a.dng").data, mosaic)
    with rawpy.imread(str(tmp_path / "a.dng")) as raw:
        assert np.array_equal(raw.raw_image_visible, mosaic)
