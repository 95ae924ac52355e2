"""Files that come with a request: one small file to read, or frames to measure and forget."""

import secrets
import tempfile
from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager
from pathlib import Path
from typing import TypeVar

from django.conf import settings
from django.core.files.uploadedfile import UploadedFile
from django.http import HttpRequest

from vinter.core.errors import BadInput
from vinter.core.formats.whole import whole
from vinter.core.frames.content import HEAD_BYTES, check_content
from vinter.core.frames.decoding import decoded
from vinter.core.frames.measure import Measure
from vinter.core.frames.measuring import measure
from vinter.core.frames.reading import named
from vinter.core.imported import Imported
from vinter.web.compute import computed

LARGEST_FRAME = 80 * 2**20
MOST_FRAMES = 24
SMALL = 2**20
REFUSED, MOST_REFUSED = "refused", 20
T = TypeVar("T")
V = TypeVar("V")


def one_file(request: HttpRequest, what: str, largest: int = SMALL) -> "UploadedFile[bytes]":
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
    note_refused(request, found.refused)
    return found.good


def note_refused(request: HttpRequest, why: Sequence[str]) -> None:
    """Say at the head of the next page what was refused, the first few in words and the others by number."""
    if why:
        more = len(why) - MOST_REFUSED
        request.session[REFUSED] = [*why[:MOST_REFUSED], *([f"and {more} more"] if more > 0 else [])]


@contextmanager
def saved_files(
    files: "Sequence[UploadedFile[bytes]]", least: int = 1, known: bool = True
) -> Iterator[list[tuple[Path, str]]]:
    """Uploaded frames, checked by content unless anything may come: where they lie and what they are called;
    gone afterwards."""
    if not least <= len(files) <= MOST_FRAMES:
        raise BadInput(f"{least} to {MOST_FRAMES} files are wanted, {len(files)} came")
    with tempfile.TemporaryDirectory(dir=settings.FILE_UPLOAD_TEMP_DIR) as folder:
        saved = []
        for file in files:
            name = Path(file.name or "file").name
            if not file.size or file.size > LARGEST_FRAME:
                raise BadInput(f"{name}: empty or larger than {LARGEST_FRAME // 2**20} MB")
            start = file.read(HEAD_BYTES)
            if known:
                check_content(name, start)
            path = Path(folder) / f"{secrets.token_hex(6)}{Path(name).suffix.lower()}"
            with whole(path, lasting=False) as draft:
                draft.write_bytes(start + file.read())
            saved.append((path, name))
        yield saved


def measure_saved(path: Path, name: str) -> tuple[Measure, bool]:
    """Measures of a saved file, and whether its data are linear; for a process of the pool."""
    frame = decoded(path, name)
    with named(name):
        return measure(frame), frame.linear


def measured_files(files: "Sequence[UploadedFile[bytes]]", least: int = 1) -> list[tuple[Measure, bool]]:
    """``measure_saved`` of uploaded frames, which are forgotten."""
    with saved_files(files, least) as saved:
        return [computed(("measure", path), measure_saved, path, name) for path, name in saved]


def from_frames(
    files: "Sequence[UploadedFile[bytes]]", least: int, find: Callable[..., V], *arguments: object
) -> V:
    """What a function finds in uploaded frames (its first argument) and more arguments; in a process of the
    pool, after which the frames are forgotten."""
    with saved_files(files, least) as saved:
        found: V = computed(("frames", saved[0][0]), found_in, find, saved, arguments)
        return found


def found_in(find: Callable[..., V], saved: list[tuple[Path, str]], arguments: tuple[object, ...]) -> V:
    """What a function finds in saved files; for a process of the pool."""
    frames = [decoded(path, name) for path, name in saved]
    with named(saved[0][1]):
        return find(frames, *arguments)
