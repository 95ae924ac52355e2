"""A time-lapse as a video file: WebM (VP8) or MP4 (VP9), both open and played by browsers."""

import errno
import os
import tempfile
from collections.abc import Callable, Sequence
from pathlib import Path

import cv2
import numpy as np
import numpy.typing as npt

from vinter.core.errors import BadInput
from vinter.core.formats.whole import whole
from vinter.core.parallel import Cancelled

WIDTH = 1920  # px
LEAST_FRAMES = 2
CODECS = {".webm": "VP80", ".mp4": "vp09"}
U8 = npt.NDArray[np.uint8]


def can_write(suffix: str) -> bool:
    """Whether this machine's video library has the encoder of a kind of file."""
    with tempfile.TemporaryDirectory() as folder:
        trial = Path(folder) / f"trial{suffix}"
        writer = cv2.VideoWriter(str(trial), cv2.VideoWriter.fourcc(*CODECS[suffix]), 24, (64, 64))
        opened = writer.isOpened()
        writer.release()
    return opened


def write_video(
    out: Path,
    pictures: Sequence[Path],
    fps: float = 12.0,
    width: int = WIDTH,
    progress: Callable[[int, int], None] = lambda done, n: None,
    stop: Callable[[], bool] = lambda: False,
    tones: Sequence[U8] | None = None,
    grow: bool = False,
) -> tuple[int, int]:
    """Write 8-bit pictures in their order as a video of ``fps`` a second; returns its width and height in px.

    The first picture gives the proportions; others are brought to its size. ``tones`` is a table (256,) for
    each picture that its levels go through; ``grow`` keeps the brightest of all pictures so far, so that star
    trails grow. The file appears whole or not at all. BadInput names a picture that cannot be read or whose
    proportions differ by over 2 %; Cancelled when ``stop`` turns true.
    """
    if len(pictures) < LEAST_FRAMES:
        raise BadInput(f"a time-lapse needs {LEAST_FRAMES} frames or more; {len(pictures)} kept")
    if not 1 <= fps <= 60:
        raise BadInput(f"{fps:g} pictures a second are not within 1 to 60")
    with whole(out) as draft:
        size = _written(draft, pictures, fps, width, progress, stop, tones, grow)
        if _frames_in(draft) != len(pictures):  # the library says nothing when the disk is full
            raise OSError(errno.ENOSPC, os.strerror(errno.ENOSPC), str(out))
    return size


def _written(
    draft: Path,
    pictures: Sequence[Path],
    fps: float,
    width: int,
    progress: Callable[[int, int], None],
    stop: Callable[[], bool],
    tones: Sequence[U8] | None,
    grow: bool,
) -> tuple[int, int]:
    writer, size, brightest = None, (0, 0), None
    codec = CODECS.get(draft.suffix.lower(), "")
    if not codec:
        raise BadInput(f"{draft.name}: a film is written as {' or '.join(CODECS)}")
    try:
        for i, path in enumerate(pictures):
            if stop():
                raise Cancelled
            picture = cv2.imread(str(path))
            if picture is None:
                raise BadInput(f"{path.name}: cannot be read as a picture")
            height = picture.shape[0] / picture.shape[1]
            if writer is None:
                wide = min(width, picture.shape[1]) // 2 * 2
                size = (wide, round(wide * height / 2) * 2)
                writer = cv2.VideoWriter(str(draft), cv2.VideoWriter.fourcc(*codec), fps, size)
                if not writer.isOpened():
                    raise BadInput(f"this machine's video library cannot write {draft.suffix[1:]} files")
            if abs(height / (size[1] / size[0]) - 1) > 0.02:
                raise BadInput(
                    f"{path.name}: its proportions differ from the first frame's; leave it out or turn it"
                )
            picture = cv2.resize(picture, size, interpolation=cv2.INTER_AREA)
            if tones is not None:
                picture = cv2.LUT(picture, tones[i])
            if grow:
                picture = brightest = picture if brightest is None else np.maximum(brightest, picture)
            writer.write(picture)
            progress(i + 1, len(pictures))
    finally:
        if writer is not None:
            writer.release()
    return size


def _frames_in(path: Path) -> int:
    """How many frames of a video can be read back."""
    reader, count = cv2.VideoCapture(str(path)), 0
    while reader.grab():
        count += 1
    reader.release()
    return count
