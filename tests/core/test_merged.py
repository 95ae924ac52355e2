"""Linear DNG as merged modes write it: floating point, deflated, JPEG XL."""

import numpy as np
import pytest
import tifffile

from vinter.core.errors import BadInput
from vinter.core.frames.measuring import clean, measure
from vinter.core.frames.merged import HIGHEST
from vinter.core.frames.raw import check_size
from vinter.core.frames.reading import read_frame

MERGED = {
    "half": (np.float16, "deflate"),
    "float": (np.float32, None),
    "deflated": (np.uint16, "deflate"),
    "jpeg xl": (np.uint16, 52546),
}


def merged_dng(path, picture, kind):
    """Linear RGB (1 is white) as the DNG of a merged mode, its sky under a light of its own."""
    stored, compression = MERGED[kind]
    floating = np.issubdtype(stored, np.floating)
    data = picture.astype(stored) if floating else np.round(np.clip(picture, 0, 1) * 65535).astype(stored)
    tags = [
        (50706, "B", 4, (1, 7, 1, 0), True),
        (50708, "s", 0, "Marlet 7", True),
        (50717, "I", 3, (1 if floating else 65535,) * 3, True),
        (50728, "2I", 3, (46, 100, 1, 1, 71, 100), True),
        (50721, "2i", 9, (9, 10, -3, 10, -1, 10, -4, 10, 12, 10, 2, 10, -1, 10, 2, 10, 6, 10), True),
        (50778, "H", 1, 21, True),
    ]
    lossless = {"lossless": True} if kind == "jpeg xl" else None
    how = {"photometric": 34892, "planarconfig": "contig", "tile": (256, 256), "metadata": None}
    tifffile.imwrite(path, data, compression=compression, compressionargs=lossless, extratags=tags, **how)
    return path


@pytest.mark.parametrize("kind", MERGED)
def test_what_merged_modes_write_is_read_to_its_levels(tmp_path, kind):
    rng = np.random.default_rng(3)
    picture = 0.03 + 0.004 * rng.standard_normal((300, 400, 3))
    picture[150, 200] = (0.7, 0.8, 0.9)
    frame = read_frame(merged_dng(tmp_path / "m.dng", picture, kind))
    assert frame.kind == "linear" and frame.size == (400, 300)
    assert frame.colour.neutral == pytest.approx((0.46, 1.0, 0.71), abs=1e-6)
    light = (frame.data.astype(float) - frame.black[0, 0]) / (frame.white - frame.black[0, 0])
    if kind in ("half", "float"):
        light *= HIGHEST  # whatever is in the frame, so that frames can be told apart by their light
    slack = {"half": 6e-4, "float": 4e-5}.get(kind, 2e-5)
    assert np.abs(light - picture).max() < slack and light.min() < 0.02
    assert measure(frame, clean(frame)).raw == "processed"


def test_light_over_white_keeps_its_place_and_a_broken_merged_file_is_named(tmp_path):
    picture = np.full((300, 400, 3), 0.05)
    picture[100:110, 100:110], picture[0, 0] = 3.6, np.nan
    path = merged_dng(tmp_path / "bright.dng", picture, "float")
    frame = read_frame(path)
    light = (frame.data.astype(float) - frame.black[0, 0]) / (frame.white - frame.black[0, 0])
    assert light[105, 105, 1] / light[200, 200, 1] == pytest.approx(72, rel=0.01)
    cut = tmp_path / "cut.dng"
    cut.write_bytes(path.read_bytes()[:900])
    with pytest.raises(BadInput, match=r"cut\.dng"):
        read_frame(cut)


def test_a_merged_file_too_large_for_a_frames_memory_is_refused_before_it_is_unpacked(tmp_path, monkeypatch):
    path = merged_dng(tmp_path / "wide.dng", np.full((300, 400, 3), 0.05), "deflated")
    monkeypatch.setattr(tifffile.TiffPage, "asarray", lambda *_, **__: pytest.fail("was unpacked"))
    monkeypatch.setattr(check_size, "__defaults__", (100_000,))
    with pytest.raises(BadInput, match="400 x 300 pixels is too large"):
        read_frame(path)
