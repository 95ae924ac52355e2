"""Films of unknown origin, taken apart in a child process with limits on memory and time, picture by picture.

The child, ``python -m vinter.core.frames.film_reading FILE``, writes for each picture its width and height
(two little-endian 32-bit numbers) and its RGB bytes, and at the end two zeros. It opens nothing but the file.
"""

import os
import resource
import select
import signal
import subprocess
import sys
import time
from collections.abc import Iterator
from pathlib import Path

import numpy as np
import numpy.typing as npt

from vinter.core.camera.illuminant import linear_srgb
from vinter.core.errors import BadInput
from vinter.core.frames.content import HEAD_BYTES, Reader, kinds_of
from vinter.core.frames.decoding import MEMORY_BYTES, OUT_OF_MEMORY, limit_process
from vinter.core.frames.film_metadata import film_metadata
from vinter.core.frames.frame import Colour, Frame
from vinter.core.frames.raw import LARGEST_PICTURE
from vinter.core.parallel import end_with_parent

F32 = npt.NDArray[np.float32]
U8 = npt.NDArray[np.uint8]
MOST_FRAMES = 3000
CPU_SECONDS = 1800  # s of a child's processor for a whole film
WAIT_SECONDS = 40.0  # s for one picture, after which the child is ended
NO_FILM = 2


def film_pictures(path: Path, label: str = "") -> Iterator[U8]:
    """The pictures of a film as RGB (height, width, 3), turned as it says, at most ``MOST_FRAMES``.

    Raises:
        BadInput: with the label (or the file's name) when it is no film, when its pictures are too large or
            cannot be decoded within the limits; pictures before the fault were given.
    """
    label = label or path.name
    with path.open("rb") as file:
        if not any(kind.reader == Reader.FILM for kind in kinds_of(file.read(HEAD_BYTES))):
            raise BadInput(f"{label}: not a film that can be read")
    quiet = dict.fromkeys(("OMP_NUM_THREADS", "OPENBLAS_NUM_THREADS"), "1")
    # of what the library could open, the file alone: no address, no list of other files
    quiet["OPENCV_FFMPEG_CAPTURE_OPTIONS"] = "protocol_whitelist;file"
    child = subprocess.Popen(
        [sys.executable, "-m", "vinter.core.frames.film_reading", str(path.resolve())],
        stdin=subprocess.DEVNULL,
        stdout=subprocess.PIPE,
        stderr=subprocess.DEVNULL,
        env={**os.environ, **quiet},
    )
    try:
        yield from _heard(child, label)
    finally:
        child.kill()
        child.wait()
        assert child.stdout is not None
        child.stdout.close()


def _heard(child: "subprocess.Popen[bytes]", label: str) -> Iterator[U8]:
    assert child.stdout is not None
    pipe = child.stdout.fileno()
    for seen in range(MOST_FRAMES + 1):
        end = time.monotonic() + WAIT_SECONDS
        size = np.frombuffer(_exactly(pipe, 8, end, label) or bytes(8), "<u4")
        width, height = int(size[0]), int(size[1])
        if not width:
            status = child.wait(WAIT_SECONDS)
            if status or not seen:
                raise BadInput(f"{label}: {_why(status)}")
            return
        if width * height > LARGEST_PICTURE:
            raise BadInput(f"{label}: its pictures of {width} x {height} pixels are too large")
        if seen == MOST_FRAMES:
            return
        data = _exactly(pipe, width * height * 3, end, label)
        if data is None:
            raise BadInput(f"{label}: {_why(child.wait(WAIT_SECONDS))}")
        yield np.frombuffer(data, np.uint8).reshape(height, width, 3)


def _why(status: int) -> str:
    if status == OUT_OF_MEMORY:
        return f"opening it needs more than {MEMORY_BYTES / 2**30:.1f} GB of memory"
    if status in (-signal.SIGXCPU, -signal.SIGKILL):
        return "took too long to open"
    return "not a film that can be read"


def _exactly(pipe: int, count: int, end: float, label: str) -> bytes | None:
    """So many bytes; None when the pipe ends before."""
    data = bytearray(count)
    view, place = memoryview(data), 0
    while place < count:
        if not select.select([pipe], [], [], max(end - time.monotonic(), 0))[0]:
            raise BadInput(f"{label}: a picture of it took too long to open")
        got = os.readv(pipe, [view[place:]])
        if not got:
            return None
        place += got
    return bytes(data)


def film_frame(picture: U8, path: Path, label: str = "") -> Frame:
    """A picture of the film at a path as a frame that can be measured, called ``label`` or as its file."""
    return Frame(
        path=path.with_name(label) if label else path,
        kind="film",
        data=picture.astype(np.uint16),
        pattern=None,
        black=np.zeros((2, 2)),
        white=255.0,
        colour=Colour(),
        meta=film_metadata(path),
        linear=False,
    )


def linear_picture(eight: U8) -> F32:
    """Light of 8-bit sRGB values, 0 to 1."""
    return linear_srgb(np.arange(256) / 255).astype(np.float32)[eight]


# ---- what runs in the child


def write_pictures(path: Path, out: int) -> int:
    """Write a film's pictures into a pipe; the exit status."""
    import cv2

    cv2.setNumThreads(1)
    film = cv2.VideoCapture(str(path), cv2.CAP_FFMPEG)
    seen = 0
    with os.fdopen(out, "wb") as pipe:
        while film.isOpened() and seen <= MOST_FRAMES:
            good, bgr = film.read()
            if not good or bgr is None:
                break
            height, width = bgr.shape[:2]
            pipe.write(np.array([width, height], "<u4").tobytes())
            pipe.write(np.ascontiguousarray(bgr[..., ::-1], np.uint8).data)
            seen += 1
        pipe.write(bytes(8))
    return 0 if seen else NO_FILM


def main() -> None:
    """Serve one film to the parent."""
    end_with_parent(signal.SIGKILL, None)
    limit_process(CPU_SECONDS)
    resource.setrlimit(resource.RLIMIT_FSIZE, (0, 0))
    try:
        status = write_pictures(Path(sys.argv[1]), os.dup(1))
    except MemoryError:
        status = OUT_OF_MEMORY
    except BrokenPipeError:
        status = 0
    os._exit(status)


if __name__ == "__main__":
    main()
