"""Pictures with a gain map: their light beyond white, against a scene of known light, and maps that lie."""

import io

import cv2
import numpy as np
import pytest
from PIL import Image

from vinter.core.frames.doctor import examine_file
from vinter.core.frames.gain_map import beyond_white, gain_map
from vinter.core.frames.reading import read_frame
from vinter.core.stack.file import read_stack
from vinter.core.stack.pipeline import Settings, stack

OFFSET = 1 / 64


def scene():
    """Linear light (240, 320, 3): a dark yard and a window 1.5 to 6 times over white."""
    x = np.mgrid[:240, :320].astype(np.float32)[1]
    light = np.repeat((0.03 + 0.1 * x / 320)[..., None], 3, axis=2) * np.array([1, 0.9, 0.7], np.float32)
    light[60:140, 100:220] = (1.5 + 4.5 * (x[60:140, 100:220, None] - 100) / 120) * np.array([1, 0.9, 0.6])
    return cv2.GaussianBlur(light, (0, 0), 1.5)


def encoded(linear):
    return np.where(
        linear <= 0.0031308, 12.92 * linear, 1.055 * np.maximum(linear, 1e-9) ** (1 / 2.4) - 0.055
    )


def xmp(**numbers):
    words = " ".join(f'hdrgm:{name}="{v}"' for name, v in numbers.items() if not isinstance(v, list))
    lists = "".join(
        f"<hdrgm:{name}><rdf:Seq>{''.join(f'<rdf:li>{v}</rdf:li>' for v in many)}</rdf:Seq></hdrgm:{name}>"
        for name, many in numbers.items()
        if isinstance(many, list)
    )
    body = (
        '<x:xmpmeta xmlns:x="adobe:ns:meta/"><rdf:RDF xmlns:rdf="http://www.w3.org/1999/02/22-rdf-syntax-ns#">'
        f'<rdf:Description xmlns:hdrgm="http://ns.adobe.com/hdr-gain-map/1.0/" hdrgm:Version="1.0" {words}>'
        f"{lists}</rdf:Description></rdf:RDF></x:xmpmeta>"
    )
    data = b"http://ns.adobe.com/xap/1.0/\0" + body.encode()
    return b"\xff\xe1" + (len(data) + 2).to_bytes(2, "big") + data


def jpeg(pixels, quality=97, turn=1):
    out, exif = io.BytesIO(), Image.Exif()
    exif[274] = turn
    Image.fromarray(pixels).save(out, "JPEG", quality=quality, subsampling=0, exif=exif)
    return out.getvalue()


def with_map(path, light, gamma=1.0, extra=None, small=2, turn=1):
    """A picture whose white cuts the light, and the map that brings it back."""
    shown = np.clip(light, 0, 1)
    base = np.round(255 * encoded(shown)).astype(np.uint8)
    gain = np.log2((light + OFFSET) / (shown + OFFSET))
    most = float(gain.max())
    share = cv2.resize(
        np.clip(gain / most, 0, 1), None, fx=1 / small, fy=1 / small, interpolation=cv2.INTER_AREA
    )
    second = jpeg(np.round(255 * share**gamma).astype(np.uint8))
    numbers = {"GainMapMin": 0, "GainMapMax": most, "Gamma": gamma, "OffsetSDR": OFFSET, "OffsetHDR": OFFSET}
    said = xmp(**{**numbers, "HDRCapacityMin": 0, "HDRCapacityMax": most, **(extra or {})})
    path.write_bytes(jpeg(base, turn=turn) + second[:2] + said + second[2:])
    return base


def developed(path, tmp_path):
    """The picture by itself, as it goes into the finish."""
    result = stack([path], tmp_path / "out.tif", Settings(workers=1, ground="none"))
    return read_stack(result.picture)[0]


@pytest.mark.parametrize(("gamma", "turn"), [(1.0, 1), (0.7, 1), (1.0, 6)])
def test_light_beyond_white_comes_back(tmp_path, gamma, turn):
    """Also of a picture that was taken upright, whose map lies as its pixels do."""
    light = scene()
    with_map(tmp_path / "yard.jpg", light, gamma, turn=turn)
    found = developed(tmp_path / "yard.jpg", tmp_path)
    wanted = np.rot90(light, -1) if turn == 6 else light
    assert found.shape == wanted.shape and found.max() > 5
    shining, dim = wanted[..., 0] > 1.6, (wanted[..., 0] < 0.2) & (wanted[..., 0] > 0.05)
    inside = cv2.erode(shining.astype(np.uint8), np.ones((9, 9))) > 0
    assert np.median(np.abs(found[inside] / wanted[inside] - 1)) < 0.04
    assert np.median(np.abs(found[dim] / wanted[dim] - 1)) < 0.06
    assert any(one.topic == "gain map" for one in examine_file(tmp_path / "yard.jpg"))


def test_frames_of_a_burst_are_read_as_they_show(tmp_path):
    """Each of them may carry a map of its own: they are combined by what they have in common."""
    base = with_map(tmp_path / "yard.jpg", scene())
    frame = read_frame(tmp_path / "yard.jpg")
    assert not frame.linear and np.abs(frame.data[..., 1] / 257 - base[..., 1]).mean() < 2


def test_a_picture_without_a_map_is_what_it_was(tmp_path):
    base = np.round(255 * encoded(np.clip(scene(), 0, 1))).astype(np.uint8)
    (tmp_path / "plain.jpg").write_bytes(jpeg(base))
    (tmp_path / "two.jpg").write_bytes(jpeg(base) + jpeg(base[::2, ::2]))  # a second picture that is no map
    for name in ("plain.jpg", "two.jpg"):
        frame = read_frame(tmp_path / name)
        assert not frame.linear and np.abs(frame.data[..., 1] / 257 - base[..., 1]).mean() < 2
        assert gain_map(tmp_path / name) is None


@pytest.mark.parametrize(
    "extra",
    [
        {"GainMapMax": "nan"}, {"GainMapMax": 60}, {"Gamma": 0}, {"GainMapMax": "x"},
        {"BaseRenditionIsHDR": "True"}, {"OffsetSDR": "1e999"},
    ],
)  # fmt: skip
def test_a_map_that_lies_is_left_and_the_picture_read(tmp_path, extra):
    base = with_map(tmp_path / "odd.jpg", scene(), extra=extra)
    frame = read_frame(tmp_path / "odd.jpg")
    assert not frame.linear and np.abs(frame.data[..., 1] / 257 - base[..., 1]).mean() < 2


def test_a_map_that_is_cut_short_is_left_and_the_picture_read(tmp_path):
    base = with_map(tmp_path / "cut.jpg", scene())
    data = (tmp_path / "cut.jpg").read_bytes()
    (tmp_path / "cut.jpg").write_bytes(data[: len(jpeg(base)) + 900])
    frame = read_frame(tmp_path / "cut.jpg")
    linear = np.full((240, 320, 3), 0.5, np.float32)
    assert frame.data.shape == (240, 320, 3)
    assert np.isfinite(beyond_white(tmp_path / "cut.jpg", linear)).all()


def test_numbers_by_colour_are_read(tmp_path):
    with_map(tmp_path / "rgb.jpg", scene(), extra={"GainMapMax": [2.5, 2, 1], "Gamma": [1.0, 0.9, 0.8]})
    found = gain_map(tmp_path / "rgb.jpg")
    assert found.most.tolist() == [2.5, 2.0, 1.0] and found.gamma == pytest.approx([1.0, 0.9, 0.8])
    lit = found.applied(np.ones((240, 320, 3), np.float32))[100, 160]
    assert lit[0] > lit[1] > lit[2]
    with_map(tmp_path / "two.jpg", scene(), extra={"GainMapMax": [2.5, 2]})
    assert gain_map(tmp_path / "two.jpg") is None
