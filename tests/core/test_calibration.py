"""Darks, flats and the choice of frames."""

import cv2
import numpy as np
import pytest
import tifffile
from inline import Inline
from starfield import BLACK, Field, make, write

from vinter.core.errors import BadInput
from vinter.core.frames.judging import compare
from vinter.core.frames.measuring import measure
from vinter.core.frames.reading import read_frame
from vinter.core.stack.ingest import master_frame
from vinter.core.stack.pipeline import Settings, stack

SPEC = Field(count=3, width=640, height=480, stars=250, focal=500.0, streak=None, ground=False)


def flat_field(level, shade):
    rng = np.random.default_rng(8)
    y, x = np.mgrid[:480, :640]
    falloff = 1 - shade * (((x - 320) / 320) ** 2 + ((y - 240) / 240) ** 2) / 2
    return np.round(BLACK + level * falloff + rng.normal(0, 20, (480, 640))).astype(np.uint16), falloff


def test_a_flat_takes_out_dark_corners(tmp_path):
    for name in ("lights", "flats"):
        (tmp_path / name).mkdir()
    make(tmp_path / "lights", SPEC)
    _, falloff = flat_field(1, 0.4)
    for path in sorted((tmp_path / "lights").glob("*.dng")):
        frame = read_frame(path)
        write(
            path,
            np.round((frame.data.astype(float) - BLACK) * falloff + BLACK).clip(0).astype(np.uint16),
            SPEC,
        )
    for i in range(3):
        write(tmp_path / "flats" / f"f{i}.dng", flat_field(6000, 0.4)[0], SPEC)

    def corner_to_middle(picture):
        return np.median(picture[10:60, 10:60, 1]) / np.median(picture[10:60, 295:345, 1])

    plain = tifffile.imread(
        stack([tmp_path / "lights"], tmp_path / "a.tif", Settings(), pool=Inline()).picture
    )
    flats = tuple(sorted((tmp_path / "flats").glob("*.dng")))
    flattened = tifffile.imread(
        stack([tmp_path / "lights"], tmp_path / "b.tif", Settings(flats=flats), pool=Inline()).picture
    )
    assert corner_to_middle(plain) < 0.85
    assert corner_to_middle(flattened) == pytest.approx(1, abs=0.04)


def test_darks_take_out_a_pattern(tmp_path):
    for name in ("lights", "darks"):
        (tmp_path / name).mkdir()
    make(tmp_path / "lights", SPEC)
    pattern = np.zeros((480, 640))
    pattern[:, 300:304] = 500  # an amplifier's glowing columns
    for path in sorted((tmp_path / "lights").glob("*.dng")):
        write(path, (read_frame(path).data + pattern).astype(np.uint16), SPEC)
    for i in range(3):
        write(tmp_path / "darks" / f"d{i}.dng", (BLACK + pattern).astype(np.uint16), SPEC)
    darks = tuple(sorted((tmp_path / "darks").glob("*.dng")))
    picture = tifffile.imread(
        stack(
            [tmp_path / "lights"], tmp_path / "a.tif", Settings(darks=darks, method="mean"), pool=Inline()
        ).picture
    )
    assert np.median(picture[:, 300:304, 1]) == pytest.approx(np.median(picture[:, 320:330, 1]), rel=0.03)


def test_calibration_frames_of_another_size_are_named(tmp_path):
    make(tmp_path, SPEC)
    small = Field(count=1, width=320, height=240, stars=40, focal=300.0, streak=None, ground=False)
    write(tmp_path / "d.dng", np.full((240, 320), BLACK, np.uint16), small)
    master_frame([tmp_path / "d.dng"], tmp_path / "m.npy", False)
    lights = sorted(tmp_path.glob("IMG*.dng"))
    with pytest.raises(BadInput, match="another size"):
        stack(lights, tmp_path / "a.tif", Settings(darks=(tmp_path / "d.dng",)), pool=Inline())


def test_a_clouded_frame_and_a_soft_one_stand_out_in_their_take(tmp_path):
    spec = Field(count=6, width=800, height=600, stars=400, focal=600.0, streak=None, ground=False)
    make(tmp_path, spec)
    paths = sorted(tmp_path.glob("*.dng"))
    cloudy = read_frame(paths[1]).data.astype(float)
    cloudy[100:] = BLACK + 1500 + np.random.default_rng(1).normal(0, 60, cloudy[100:].shape)
    write(paths[1], cloudy.round().astype(np.uint16), spec)
    soft = read_frame(paths[3]).data.astype(np.float32)
    for y in (0, 1):
        for x in (0, 1):
            soft[y::2, x::2] = cv2.GaussianBlur(np.ascontiguousarray(soft[y::2, x::2]), (0, 0), 2.0)
    noise = np.random.default_rng(2).normal(0, 40, soft.shape)
    write(paths[3], (soft + noise).round().astype(np.uint16), spec)
    judged = {m.file: m for m in compare([measure(read_frame(p)) for p in paths])}
    assert judged["IMG_0001.dng"].verdict == "drop" and "cloud" in " ".join(judged["IMG_0001.dng"].reasons)
    assert judged["IMG_0003.dng"].verdict == "drop" and "soft" in " ".join(judged["IMG_0003.dng"].reasons)
    assert all(judged[f"IMG_000{i}.dng"].verdict == "keep" for i in (0, 2, 4, 5))


def test_trails_of_a_long_exposure_are_called_trailed(tmp_path):
    rng = np.random.default_rng(3)
    picture = np.full((600, 800), BLACK + 800.0) + rng.normal(0, 25, (600, 800))
    y, x = np.mgrid[:600, :800]
    for cx, cy in rng.uniform(30, [770, 570], (80, 2)):
        for t in np.linspace(-7, 7, 29):
            part = np.s_[int(cy) - 6 : int(cy) + 8, int(cx + t) - 6 : int(cx + t) + 8]
            picture[part] += 160 * np.exp(-((x[part] - cx - t) ** 2 + (y[part] - cy) ** 2) / (2 * 1.4**2))
    write(tmp_path / "t.dng", picture.round().clip(0, 16383).astype(np.uint16), Field(width=800, height=600))
    m = measure(read_frame(tmp_path / "t.dng"))
    assert m.verdict == "drop" and "trailed" in m.reasons[0]
    assert m.trail_px == pytest.approx(14, rel=0.3)
