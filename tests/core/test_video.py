"""Time-lapse video: opened again by an independent call, whole or not there, errors named."""

from itertools import pairwise

import cv2
import numpy as np
import pytest

from vinter.core.errors import BadInput
from vinter.core.formats.video import can_write, write_video
from vinter.core.frames.film import ramp, tone
from vinter.core.frames.frame import Colour
from vinter.core.frames.preview import stretched
from vinter.core.parallel import Cancelled


def pictures(folder, count, shape=(300, 400)):
    out = []
    for i in range(count):
        picture = np.full((*shape, 3), 30, np.uint8)
        cv2.circle(picture, (60 + 40 * i, 150), 14, (255, 255, 255), -1)
        out.append(folder / f"{i}.png")
        cv2.imwrite(str(out[-1]), picture)
    return out


def test_the_disc_moves_from_picture_to_picture(tmp_path):
    assert write_video(tmp_path / "a.webm", pictures(tmp_path, 6), fps=6, width=200) == (200, 150)
    film = cv2.VideoCapture(str(tmp_path / "a.webm"))
    seen = [int(np.argmax(film.read()[1][75, :, 1])) for _ in range(6)]
    assert not film.read()[0] and film.get(cv2.CAP_PROP_FPS) == 6
    assert np.allclose(np.diff(seen), 20, atol=3)


def test_nothing_half_written_stays(tmp_path):
    files = pictures(tmp_path, 3)
    with pytest.raises(Cancelled):
        write_video(tmp_path / "a.webm", files, stop=lambda: True)
    (tmp_path / "bad.png").write_bytes(b"no picture")
    with pytest.raises(BadInput, match=r"bad\.png"):
        write_video(tmp_path / "a.webm", [*files, tmp_path / "bad.png"])
    tall = tmp_path / "tall.png"
    cv2.imwrite(str(tall), np.zeros((400, 300, 3), np.uint8))
    with pytest.raises(BadInput, match=r"tall\.png: its proportions"):
        write_video(tmp_path / "a.webm", [*files, tall])
    with pytest.raises(BadInput, match="2 frames"):
        write_video(tmp_path / "a.webm", files[:1])
    assert not list(tmp_path.glob("*.webm"))


def test_an_mp4_opens_and_a_trail_grows(tmp_path):
    assert can_write(".mp4") and can_write(".webm")
    assert write_video(tmp_path / "a.mp4", pictures(tmp_path, 6), fps=24, width=200, grow=True) == (200, 150)
    film = cv2.VideoCapture(str(tmp_path / "a.mp4"))
    assert film.get(cv2.CAP_PROP_FPS) == 24
    lit = [(film.read()[1][:, :, 1] > 120).sum() for _ in range(6)]
    assert all(b > a * 1.1 for a, b in pairwise(lit)) and lit[-1] > 4.5 * lit[0]
    with pytest.raises(BadInput, match="webm or"):
        write_video(tmp_path / "a.avi", pictures(tmp_path, 3))


def test_the_fading_of_dusk_is_kept_and_a_single_bright_frame_is_not():
    minutes = np.arange(60)
    true = 2.0 ** (-minutes / 15)  # four stops in an hour
    lights = true.copy()
    lights[30] *= 6  # a passing lamp
    factors = ramp(list(lights))
    assert (np.diff(factors) < 0).all()
    inner = slice(8, -8)
    kept = np.log2(factors[inner] / factors[30])
    assert np.abs(kept - np.clip(np.log2(true[inner] / true[30]), -2.5, 2.5)).max() < 0.15
    assert ramp([1.0, 1.0, 1.0]) == pytest.approx([1, 1, 1])


def test_a_tone_is_what_a_true_exposure_would_have_given():
    light = np.linspace(0.01, 0.2, 60, dtype=np.float32)[None, :, None].repeat(3, axis=2)
    plain = Colour((1, 1, 1), ((1, 0, 0), (0, 1, 0), (0, 0, 1)))
    before, half = stretched(light, plain, 1.0), stretched(light, plain, 0.5)
    assert np.abs(cv2.LUT(before, tone(0.5)).astype(int) - half).max() <= 2
