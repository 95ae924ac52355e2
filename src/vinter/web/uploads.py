"""Files that come with a request: one small file to read, or frames to measure and forget."""

import secrets
import tempfile
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from pathlib import Path
from typing import TypeVar

from django.core.files.uploadedfile import UploadedFile
from django.http import HttpRequest

from vinter.core.errors import BadInput
from vinter.core.frames.content import check_content
from vinter.core.frames.decoding import decoded
from vinter.core.frames.reading import Frame
from vinter.core.imported import Imported

LARGEST_FRAME = 80 * 2**20
MOST_FRAMES = 24
SMALL = 2**20
REFUSED, MOST_REFUSED = "refused", 20
T = TypeVar("T")


def one_file(request: HttpRequest, what: str, largest: int = SMALL) -> UploadedFile:
    """The file of a request; BadInput when there is none, or it is empty or larger than some bytes.

    ``what`` names what is wanted, for the message.
    """
    file = request.FILES.get("file")
    if not isinstance(file, UploadedFile) or not file.name:
        raise BadInput(f"no file came with the request; {what} is wanted")
    if not file.size or file.size > largest:
        raise BadInput(
            f"{file.name}: empty or larger than {largest / 2**20:g} MB; {what} is wanted, nothing was changed"
        )
    return file


def good_of(request: HttpRequest, found: Imported[T]) -> T:
    """The good lines of a file; why others were refused is said at the head of the next page."""
    if found.refused:
        more = len(found.refused) - MOST_REFUSED
        request.session[REFUSED] = [
            *found.refused[:MOST_REFUSED],
            *([f"and {more} more"] if more > 0 else []),
        ]
    return found.good


@contextmanager
def opened_frames(files: Sequence[UploadedFile], least: int = 1) -> Iterator[list[Frame]]:
    """Uploaded frames, checked by content, decoded in a limited child; gone afterwards."""
    if not least <= len(files) <= MOST_FRAMES:
        raise BadInput(f"{least} to {MOST_FRAMES} files are wanted, {len(files)} came")
    with tempfile.TemporaryDirectory() as folder:
        frames = []
        for file in files:
            name = Path(file.name or "file").name
            if not file.size or file.size > LARGEST_FRAME:
                raise BadInput(f"{name}: empty or larger than {LARGEST_FRAME // 2**20} MB")
            start = file.read(8)
            check_content(name, start)
            path = Path(folder) / f"{secrets.token_hex(6)}{Path(name).suffix.lower()}"
            path.write_bytes(start + file.read())
            frames.append(decoded(path, name))
        yield frames
