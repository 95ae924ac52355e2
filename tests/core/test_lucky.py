"""The sharpest share of many frames of a trembling disc, against the disc itself."""

from functools import cache
from pathlib import Path

import cv2
import numpy as np
import pytest

from vinter.core.errors import BadInput
from vinter.core.frames.content import HEAD_BYTES, check_content, content_words
from vinter.core.frames.film_reading import film_pictures, linear_picture
from vinter.core.frames.frame import Colour
from vinter.core.parallel import Cancelled
from vinter.core.stack.lucky import cut_out, disc_of, frames_of, onto, sharpness, stack_lucky

SIZE = 150  # px of the disc


@cache
def moon(seed=1):
    """A disc with craters, 0 to 0.5, three quarters lit; not to be written to."""
    rng = np.random.default_rng(seed)
    y, x = np.mgrid[:240, :320].astype(float)
    r = np.hypot(x - 160, y - 120)
    disc = np.clip(SIZE / 2 - r + 0.5, 0, 1) * np.clip(0.75 + (x - 160) / SIZE, 0.05, 1)
    for _ in range(120):
        cx, cy, size = rng.normal(160, 35), rng.normal(120, 35), rng.uniform(1.2, 5)
        away = np.hypot(x - cx, y - cy) / size
        disc *= 1 - 0.5 * np.exp(-(away**2)) + 0.35 * np.exp(-((away - 1.4) ** 2) * 4)
    return np.clip(disc * 0.4, 0, 1).astype(np.float32)


def trembling(count=40, seed=2, noise=0.004):
    """Frames of it: shifted, bent field by field, blurred by turns, with noise; and by how much each was
    blurred."""
    rng = np.random.default_rng(seed)
    clean, frames, blurs = moon(), [], []
    y, x = np.mgrid[:240, :320].astype(np.float32)
    for _ in range(count):
        dx, dy = rng.normal(0, 9, 2)
        bend = [
            cv2.resize(
                rng.normal(0, 0.7, (5, 6)).astype(np.float32), (320, 240), interpolation=cv2.INTER_CUBIC
            )
            for _ in "xy"
        ]
        blur = float(rng.choice([0.5, 1.5, 3.0], p=[0.3, 0.4, 0.3]))
        moved = cv2.remap(clean, x + np.float32(dx) + bend[0], y + np.float32(dy) + bend[1], cv2.INTER_CUBIC)
        seen = cv2.GaussianBlur(moved, (0, 0), blur) + rng.normal(0, noise, clean.shape)
        frames.append(np.repeat(np.asarray(seen, np.float32)[..., None], 3, axis=2))
        blurs.append(blur)
    return frames, blurs


def as_source(frames):
    return lambda: ((f, Colour()) for f in frames)


def test_the_disc_is_found_where_it_is_and_not_in_an_empty_sky():
    frames, _ = trembling(3)
    for frame in frames:
        x, y, size = disc_of(frame)
        assert size == pytest.approx(SIZE, rel=0.2) and 100 < x < 220 and 60 < y < 180
    rng = np.random.default_rng(0)
    assert disc_of(np.asarray(0.003 + rng.normal(0, 0.0005, (200, 300, 3)), np.float32)) is None


def test_what_is_cut_out_goes_on_beyond_the_edge():
    rgb = np.arange(300, dtype=np.float32).reshape(10, 10, 3)
    part = cut_out(rgb, 0, 0, 6)
    assert part.shape == (6, 6, 3) and (part[0, 0] == rgb[0, 0]).all() and (part[5, 5] == rgb[2, 2]).all()


def test_sharpness_falls_with_blur_and_hardly_with_noise():
    clean = moon()
    marks = [sharpness(cv2.GaussianBlur(clean, (0, 0), s)) for s in (0.4, 1.0, 2.0, 4.0)]
    assert marks == sorted(marks, reverse=True) and marks[0] > 2 * marks[-1]
    rng = np.random.default_rng(1)
    noisy = sharpness(np.asarray(clean + rng.normal(0, 0.005, clean.shape), np.float32))
    assert noisy == pytest.approx(sharpness(clean), rel=0.1)


def test_a_part_is_brought_onto_another_to_a_fraction_of_a_pixel():
    clean = np.repeat(moon()[..., None], 3, axis=2)
    shift = np.array([[1, 0, 2.37], [0, 1, -1.61]])
    moved = cv2.warpAffine(clean, shift, (320, 240), flags=cv2.INTER_CUBIC, borderMode=cv2.BORDER_REPLICATE)
    back = onto(moved[:, 40:280], clean[:, 40:280])
    inner = np.s_[20:-20, 20:-20]
    before = np.abs(moved[:, 40:280][inner] - clean[:, 40:280][inner]).mean()
    assert np.abs(back[inner] - clean[:, 40:280][inner]).mean() < 0.12 * before


def test_the_sharpest_are_kept_and_their_mean_is_nearer_the_truth_than_any():
    frames, blurs = trembling()
    made = stack_lucky(as_source(frames), 0.25)
    assert made.seen == 40 and len(made.kept) == 10
    assert np.mean([blurs[i] for i in made.kept]) < 0.8  # of 0.5, 1.5 and 3
    assert made.gain > 1.1 and max(made.sharpness) == 1

    def error(rgb):
        """Against the disc, at its own place and light."""
        part = rgb[..., 1]
        true = cut_out(np.repeat(moon()[..., None], 3, axis=2), 160, 120, part.shape[0])
        back = onto(np.asarray(rgb, np.float32), true, fields=False)[..., 1]
        return float(np.sqrt(np.mean((back - true[..., 1])[30:-30, 30:-30] ** 2)))

    side = made.rgb.shape[0]
    singles = [error(cut_out(frames[i], *disc_of(frames[i])[:2], side)) for i in made.kept]
    plain = np.mean([cut_out(f, *disc_of(f)[:2], side) for f in frames], axis=0)
    assert error(made.rgb) < 0.85 * min(singles) and error(made.rgb) < 0.8 * error(
        np.asarray(plain, np.float32)
    )


def a_film(path, frames):
    codec = "VP80" if path.suffix == ".webm" else "vp09"
    film = cv2.VideoWriter(str(path), cv2.VideoWriter_fourcc(*codec), 24, (320, 240))
    for frame in frames:
        film.write(np.asarray(np.clip(frame, 0, 1) ** (1 / 2.2) * 255, np.uint8))
    film.release()
    return path


def test_a_film_is_taken_apart(tmp_path):
    frames, _ = trembling(12)
    path = a_film(tmp_path / "moon.mp4", frames)
    seen = [linear_picture(p) for p in film_pictures(path)]
    assert len(seen) == 12 and seen[0].shape == (240, 320, 3)
    assert np.abs(seen[3] - np.clip(frames[3], 0, 1)).mean() < 0.01
    made = stack_lucky(lambda: frames_of([path]), 0.5)
    assert made.seen == 12 and len(made.kept) == 6
    assert len(list(film_pictures(a_film(tmp_path / "moon.webm", frames)))) == 12


def test_a_film_is_told_from_a_picture_by_its_first_bytes(tmp_path):
    frames, _ = trembling(3)
    for name in ("moon.mp4", "moon.webm"):
        head = a_film(tmp_path / name, frames).read_bytes()[:HEAD_BYTES]
        assert content_words(head) == "a film"
        check_content(name, head, films=True)
        with pytest.raises(BadInput, match="a film, where a picture is wanted"):
            check_content(name, head)
        with pytest.raises(BadInput, match="its content is a film"):
            check_content("moon.jpg", head, films=True)
    assert (
        content_words(b"\0\0\0\x18ftypheic") == "HEIF or AVIF"
        and content_words(b"\0\0\0\x1cftypavif") == "AVIF"
    )


@pytest.mark.long("films are written and read")
def test_what_a_film_breaks_off_with_is_said_and_nothing_else_is_opened(tmp_path):
    frames, _ = trembling(40)
    whole = a_film(tmp_path / "moon.mp4", frames).read_bytes()
    torn = tmp_path / "torn.mp4"
    torn.write_bytes(whole[: len(whole) // 3])
    with pytest.raises(BadInput, match=r"torn\.mp4: not a film that can be read"):
        list(film_pictures(torn))
    # a list of other files is not followed, whatever its name
    for name, text in (
        ("list.mp4", f"ffconcat version 1.0\nfile {tmp_path}/moon.mp4\n"),
        ("live.mov", f"#EXTM3U\n#EXTINF:1,\nfile://{tmp_path}/moon.mp4\n"),
    ):
        (tmp_path / name).write_text(text)
        with pytest.raises(BadInput, match=f"{name}: not a film"):
            list(film_pictures(tmp_path / name))
    # nor a picture that calls itself a film, though the library would take it for one
    cv2.imwrite(str(tmp_path / "one.png"), np.zeros((64, 64, 3), np.uint8))
    (tmp_path / "one.mp4").write_bytes((tmp_path / "one.png").read_bytes())
    with pytest.raises(BadInput, match=r"one\.mp4: not a film"):
        list(film_pictures(tmp_path / "one.mp4"))
    # one that is left in the middle leaves no process
    few = film_pictures(tmp_path / "moon.mp4")
    next(few)
    few.close()
    assert not [
        p for p in Path("/proc").glob("[0-9]*/cmdline") if str(tmp_path).encode() in read_or_nothing(p)
    ]


def read_or_nothing(path):
    try:
        return path.read_bytes()
    except OSError:
        return b""


def test_what_cannot_be_stacked_says_why(tmp_path):
    frames, _ = trembling(4)
    with pytest.raises(BadInput, match="4 frames show a bright disc"):
        stack_lucky(as_source(frames))
    with pytest.raises(BadInput, match="share of 0"):
        stack_lucky(as_source(frames), 0)
    with pytest.raises(Cancelled):
        stack_lucky(as_source(frames * 3), stop=lambda: True)
    (tmp_path / "a.mp4").write_bytes(b"no film at all" * 50)
    with pytest.raises(BadInput, match=r"a\.mp4"):
        list(film_pictures(tmp_path / "a.mp4"))
