"""A JPEG packed in two halves is the one packed in one piece."""

from concurrent.futures import ThreadPoolExecutor
from io import BytesIO

import cv2
import numpy as np
import pytest
from PIL import Image

from vinter.core.formats.jpeg_halves import MOST_UNITS, jpeg_in_halves
from vinter.core.formats.pictures import jpeg_bytes


def by_opencv(data):
    return cv2.imdecode(np.frombuffer(data, np.uint8), 1)


def by_pillow(data):
    return np.asarray(Image.open(BytesIO(data)))


@pytest.mark.parametrize(
    "size", [(1200, 1600), (601, 799), (33, 40), (17, 33), (16, 20), (100, 3), (8, 8), (1, 1)]
)
def test_two_readers_see_the_same_picture(size):
    noise = np.random.default_rng(1).integers(0, 255, (*size, 3), np.uint8)
    picture = cv2.GaussianBlur(noise, (0, 0), 1.5)
    with ThreadPoolExecutor(2) as pool:
        halves = jpeg_in_halves(picture, 89, pool)()
    whole = jpeg_bytes(picture, 89)
    for read in (by_opencv, by_pillow):
        assert np.array_equal(read(halves), read(whole))
    assert (b"\xff\xdd" in halves) == (size[0] > 16)


def test_what_is_too_large_for_an_interval_is_packed_in_one_piece():
    tall = np.full((2 * MOST_UNITS // 16, 2048, 3), 90, np.uint8)
    with ThreadPoolExecutor(2) as pool:
        packed = jpeg_in_halves(tall, 89, pool)()
    assert b"\xff\xdd" not in packed and Image.open(BytesIO(packed)).size == (2048, len(tall))
