"""Files that are there whole or not at all, whatever dies, fills up or comes twice in between."""

import errno
import math
import mmap
import os
import secrets
import shutil
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from functools import lru_cache
from pathlib import Path
from typing import TypeVar

import cv2
import numpy as np
import numpy.typing as npt

SPARE = "VINTER_SPARE_MB"  # MB of free space that no file may use; 0 where the environment names none
Kind = TypeVar("Kind", bound=np.generic)
FULL_BYTES = 2**20  # bytes free under which a library that wrote too little had no room
DISK_FULL = (
    "the disk is full, or nearly so: what was there is kept, this was not stored; free some space "
    "and try again"
)


def no_room(error: BaseException) -> bool:
    """Whether something failed because no space is left."""
    return isinstance(error, OSError) and error.errno in (errno.ENOSPC, errno.EDQUOT)


def check_room(folder: Path, size: int = 0) -> None:
    """OSError (ENOSPC) when a file of that size in bytes would not leave the spare space free on a folder's
    disk."""
    spare = int(os.environ.get(SPARE, "0")) * 2**20
    if shutil.disk_usage(folder).free < spare + size:
        raise OSError(errno.ENOSPC, os.strerror(errno.ENOSPC), str(folder))


@contextmanager
def whole(path: Path, lasting: bool = True) -> Iterator[Path]:
    """A draft beside a file to write to; when all went well it takes the file's place at once, else it is
    gone.

    The draft has the file's suffix. Two writers of one file do not meet: each has a draft of its own and the
    last one wins. What need not outlast a loss of power (``lasting`` False) is not forced to the disk.
    OSError (ENOSPC) before anything is written when the spare space would not stay free.
    """
    check_room(path.parent)
    draft = path.with_name(f".{secrets.token_hex(6)}.part{path.suffix}")
    try:
        yield draft
        if lasting:
            with draft.open("rb") as file:
                os.fsync(file.fileno())
        draft.replace(path)
    except OSError as error:
        if error.errno is None and shutil.disk_usage(path.parent).free < FULL_BYTES:
            raise OSError(errno.ENOSPC, os.strerror(errno.ENOSPC), str(path)) from error
        raise
    finally:
        draft.unlink(missing_ok=True)


def mapped_array(path: Path, shape: tuple[int, ...]) -> None:
    """A float32 .npy file to write to through memory maps. Its space is taken at once: a map of a file with
    holes would kill its process when the disk fills. OSError (ENOSPC) when there is no room."""
    check_room(path.parent, 4 * int(np.prod(shape)))
    np.lib.format.open_memmap(path, "w+", np.float32, shape)
    with path.open("r+b") as file:
        os.posix_fallocate(file.fileno(), 0, path.stat().st_size)


@lru_cache(maxsize=2048)
def _layout(path: Path, number: int, size: int) -> tuple[tuple[int, ...], np.dtype[np.generic], int]:
    """Shape, type and first byte of the values of a .npy file, as NumPy writes it; ``number`` (inode) and
    ``size`` tell whether it is the same file as before."""
    with path.open("rb") as file:
        np.lib.format.read_magic(file)
        shape, _, dtype = np.lib.format.read_array_header_1_0(file)
        return shape, dtype, file.tell()


def mapped(path: Path, kind: type[Kind], write: bool = False) -> npt.NDArray[Kind]:
    """A .npy file (rows first) of a kind of values as memory, to read or to write to. Its header is looked at
    once, for a stack maps every frame for every tile. ValueError when it holds another kind."""
    with path.open("r+b" if write else "rb") as file:
        now = os.fstat(file.fileno())
        shape, dtype, first = _layout(path, now.st_ino, now.st_size)
        access = mmap.ACCESS_WRITE if write else mmap.ACCESS_READ
        memory = mmap.mmap(file.fileno(), 0, access=access)
    if dtype != kind:
        raise ValueError(f"{path.name} holds {dtype}")
    return np.frombuffer(memory, kind, math.prod(shape), first).reshape(shape)


def write_image(path: Path, picture: npt.NDArray[np.generic], parameters: Sequence[int] = ()) -> None:
    """A picture, grey or RGB, in the format of its suffix, whole; OSError when it could not be written."""
    bgr = picture[..., ::-1] if picture.ndim == 3 else picture
    with whole(path) as draft:
        if not cv2.imwrite(str(draft), np.ascontiguousarray(bgr), list(parameters)):
            raise OSError(f"{path.name} could not be written")
