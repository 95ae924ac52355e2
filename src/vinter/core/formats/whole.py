"""Files that are there whole or not at all, whatever dies, fills up or comes twice in between."""

import os
import secrets
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from pathlib import Path
from typing import Any

import cv2
import numpy as np
import numpy.typing as npt


@contextmanager
def whole(path: Path) -> Iterator[Path]:
    """A draft beside a file to write to; when all went well it takes the file's place at once, else it is
    gone.

    The draft has the file's suffix. Two writers of one file do not meet: each has a draft of its own and the
    last one wins.
    """
    draft = path.with_name(f".{secrets.token_hex(6)}.part{path.suffix}")
    try:
        yield draft
        with draft.open("rb") as file:
            os.fsync(file.fileno())
        draft.replace(path)
    finally:
        draft.unlink(missing_ok=True)


def write_image(path: Path, picture: npt.NDArray[Any], parameters: Sequence[int] = ()) -> None:
    """A picture, grey or RGB, in the format of its suffix, whole; OSError when it could not be written."""
    bgr = picture[..., ::-1] if picture.ndim == 3 else picture
    with whole(path) as draft:
        if not cv2.imwrite(str(draft), np.ascontiguousarray(bgr), list(parameters)):
            raise OSError(f"{path.name} could not be written")
