"""Time-lapse video: opened again by an independent call, whole or not there, errors named."""

import cv2
import numpy as np
import pytest

from vinter.core.errors import BadInput
from vinter.core.formats.video import write_video
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
