"""Pictures with a gain map: their light beyond white, against a scene of known light, and maps that lie."""

import io
import struct

import cv2
import numpy as np
import pytest
from heifs import AUXILIARY, auxiliary, iso_block, maker_note, tone_mapped
from PIL import Image

from vinter.core.frames.doctor import examine_file
from vinter.core.frames.gain_map import beyond_white, gain_map
from vinter.core.frames.gain_numbers import ISO_NAME, in_block
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
    assert found.most.tolist() == [2.5, 2.0, 1.0] and found.numbers.gamma == pytest.approx([1.0, 0.9, 0.8])
    lit = found.applied(np.ones((240, 320, 3), np.float32))[100, 160]
    assert lit[0] > lit[1] > lit[2]
    with_map(tmp_path / "two.jpg", scene(), extra={"GainMapMax": [2.5, 2]})
    assert gain_map(tmp_path / "two.jpg") is None


def base_and_share(light, small=2):
    """A picture whose white cuts the light, and what is lost (EV, logarithmic) as shares of the most."""
    shown = np.clip(light, 0, 1)
    gain = np.log2((light + OFFSET) / (shown + OFFSET))
    share = cv2.resize(
        np.clip(gain / gain.max(), 0, 1), None, fx=1 / small, fy=1 / small, interpolation=cv2.INTER_AREA
    )
    return (
        np.round(255 * encoded(shown)).astype(np.uint8),
        np.round(255 * share).astype(np.uint8),
        float(gain.max()),
    )


def bright_as(found, light):
    """Whether light beyond white, and in the dark yard, is what the scene holds."""
    shining, dim = light[..., 0] > 1.6, (light[..., 0] < 0.2) & (light[..., 0] > 0.05)
    inside = cv2.erode(shining.astype(np.uint8), np.ones((9, 9))) > 0
    assert np.median(np.abs(found[inside] / light[inside] - 1)) < 0.05
    assert np.median(np.abs(found[dim] / light[dim] - 1)) < 0.06


def test_a_heif_with_a_derived_bright_picture_comes_back_whole(tmp_path):
    light = scene()
    base, share, most = base_and_share(light)
    block = iso_block(0, most, 1, OFFSET, OFFSET)
    (tmp_path / "yard.heic").write_bytes(tone_mapped(base, share, block))
    bright_as(developed(tmp_path / "yard.heic", tmp_path), light)
    assert any(one.topic == "gain map" for one in examine_file(tmp_path / "yard.heic"))


def test_a_jpeg_with_the_binary_numbers_comes_back_whole(tmp_path):
    light = scene()
    base, share, most = base_and_share(light)
    second = jpeg(share)
    segment = ISO_NAME + iso_block(0, most, 1, OFFSET, OFFSET)
    segment = b"\xff\xe2" + struct.pack(">H", len(segment) + 2) + segment
    (tmp_path / "yard.jpg").write_bytes(jpeg(base) + second[:2] + segment + second[2:])
    bright_as(developed(tmp_path / "yard.jpg", tmp_path), light)


# Headroom by the two numbers of a maker note, worked by hand from the four published straight lines
@pytest.mark.parametrize(
    ("numbers", "stops"),
    [((0.8, 0.005), 1.7), ((0.8, 0.5), 1.5505), ((1.2, 0.005), 2.65), ((1.2, 0.5), 2.1515)],
)
def test_a_phones_auxiliary_picture_is_linear_in_light_up_to_its_headroom(tmp_path, numbers, stops):
    headroom = 2**stops
    light = scene()
    light[60:140, 100:220] *= (headroom - 0.05) / light.max()
    shown = np.clip(light, 0, 1)
    share = (light / np.maximum(shown, 1e-6)).max(axis=2)
    share = np.clip((share - 1) / (headroom - 1), 0, 1)[::2, ::2]
    curve = np.where(share < 0.018, 4.5 * share, 1.099 * np.maximum(share, 1e-9) ** 0.45 - 0.099)
    values = np.repeat(np.round(255 * curve).astype(np.uint8)[..., None], 3, axis=2)
    exif = Image.Exif()
    exif.get_ifd(0x8769)[0x927C] = maker_note({33: numbers[0], 48: numbers[1], 5: 1.0})
    base = np.round(255 * encoded(shown)).astype(np.uint8)
    (tmp_path / "yard.heic").write_bytes(auxiliary(base, values, exif.tobytes()))
    assert gain_map(tmp_path / "yard.heic").most == pytest.approx(np.full(3, stops), abs=1e-4)
    found = beyond_white(tmp_path / "yard.heic", shown.astype(np.float32))
    peak = light[..., 0] > 1.3
    inside = cv2.erode(peak.astype(np.uint8), np.ones((9, 9))) > 0
    assert np.median(np.abs(found[inside][:, 0] / light[inside][:, 0] - 1)) < 0.04


def test_the_headroom_that_is_written_wins_and_without_one_there_is_no_map(tmp_path):
    base, share, _ = base_and_share(scene())
    data = auxiliary(base, np.repeat(share[..., :1], 3, axis=2))
    (tmp_path / "none.heic").write_bytes(data)
    assert gain_map(tmp_path / "none.heic") is None
    (tmp_path / "said.heic").write_bytes(data + b'<x HDRGainMap:HDRGainMapHeadroom="4.0"/>')
    assert gain_map(tmp_path / "said.heic").most.tolist() == [2, 2, 2]
    (tmp_path / "mask.heic").write_bytes(
        (data + b'HDRGainMapHeadroom="4.0"').replace(AUXILIARY, AUXILIARY[:-3] + b"key")
    )
    assert gain_map(tmp_path / "mask.heic") is None


def test_the_binary_numbers_in_both_forms_and_by_colour():
    shared = struct.pack(">HHB3I", 0, 0, 0x08 | 0x80, 100, 0, 300)
    shared += b"".join(struct.pack(">iiIii", 0, 100 * k, 100, 2, 1) for k in (3, 2, 1))
    found = in_block(shared)
    assert found.most.tolist() == [3, 2, 1] and found.gamma.tolist() == [1, 1, 1]
    assert found.before == pytest.approx(np.full(3, 0.02)) and found.after == pytest.approx(np.full(3, 0.01))
    good = iso_block(-1, 2, 0.5, 0.1, 0.2)
    one = in_block(good)
    assert [float(v[0]) for v in (one.least, one.most, one.gamma)] == [-1, 2, 0.5]
    for bad in (
        good[:30],
        b"",
        b"\0\1" + good[2:],
        iso_block(0, 60, 1, 0, 0),
        iso_block(0, 2, 1, 0, 0, rooms=(2, 0)),
    ):
        assert in_block(bad) is None


def test_a_heif_that_is_torn_anywhere_is_read_as_a_plain_one_or_refused_in_words(tmp_path):
    base, share, most = base_and_share(scene())
    data = tone_mapped(base, share, iso_block(0, most, 1, OFFSET, OFFSET))
    end = data.index(b"mdat")
    for at in range(8, end, 23):
        for torn in (data[:at], data[:at] + b"\xff\xff\xff" + data[at + 3 :]):
            (tmp_path / "torn.heic").write_bytes(torn)
            found = gain_map(tmp_path / "torn.heic")
            assert found is None or np.isfinite(found.applied(np.ones((24, 32, 3), np.float32))).all()
