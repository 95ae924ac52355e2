"""The chosen rows of a list as one ZIP file, written as it is sent: what is known of them and their files."""

import json
import re
import zipfile
from collections.abc import Iterator
from pathlib import Path

from vinter.core.finite import finite
from vinter.web.archive.writing import plain_text, row_data
from vinter.web.bin.models import Binnable
from vinter.web.finish.models import Export, Finish
from vinter.web.shots.models import Shot
from vinter.web.stacks.models import Stack
from vinter.web.takes.models import Frame, Take

CHUNK = 2**20  # bytes that are read and sent at once
LONGEST_NAME = 60  # characters of a folder's name


class _Sent:
    """A file that cannot be wound back: what is written to it waits to be sent."""

    def __init__(self) -> None:
        self.waiting: list[bytes] = []

    def write(self, data: bytes) -> int:
        """Take bytes in."""
        self.waiting.append(bytes(data))
        return len(data)

    def flush(self) -> None:
        """Nothing is held back."""

    def taken(self) -> bytes:
        """What was written since this was asked last."""
        data, self.waiting = b"".join(self.waiting), []
        return data


def _folder(row: Binnable) -> str:
    """A name for a row's folder that any system takes: its words and its number."""
    words = re.sub(r"[^\w.-]+", "-", str(row)).strip("-.")[:LONGEST_NAME]
    return f"{words or row._meta.model_name}-{row.pk}"


def _files(row: Binnable) -> dict[str, Path]:
    """The files of a row by the name they get."""
    if isinstance(row, Take):
        frames = Frame.objects.filter(take=row)
        names = [f.name for f in frames]
        return {
            (f"{f.pk}-{f.name}" if names.count(f.name) > 1 else f.name): row.folder / f.stored for f in frames
        }
    if isinstance(row, Stack):
        return {name: row.folder / name for name in ("stack.tif", "stack.mask.png", "after.jpg")}
    if isinstance(row, Finish):
        return {f"{e.pk}{e.suffix}": e.path for e in Export.objects.filter(finish=row)}
    return {}


def _texts(row: Binnable) -> dict[str, str]:
    """What is written of a row beside its files: the recipe of a finish."""
    return {"recipe.json": json.dumps(row.recipe, indent=1)} if isinstance(row, Finish) else {}


def chosen_zip(rows: list[Binnable]) -> Iterator[bytes]:
    """The ZIP file of some rows, piece by piece; a file that vanishes meanwhile is left out."""
    sent = _Sent()
    with zipfile.ZipFile(sent, "w", zipfile.ZIP_STORED, allowZip64=True) as archive:  # type: ignore[call-overload]
        known = [{"folder": _folder(row), **row_data(row)} for row in rows]
        archive.writestr("chosen.json", plain_text(finite(known)), zipfile.ZIP_DEFLATED)
        for row in rows:
            for name, text in _texts(row).items():
                archive.writestr(f"{_folder(row)}/{name}", text, zipfile.ZIP_DEFLATED)
            for name, path in _files(row).items():
                try:
                    info = zipfile.ZipInfo.from_file(path, f"{_folder(row)}/{Path(name).name}")
                except (FileNotFoundError, ValueError):
                    continue
                with path.open("rb") as read, archive.open(info, "w") as write:
                    while data := read.read(CHUNK):
                        write.write(data)
                        yield sent.taken()
    yield sent.taken()


EXPORTED = (Shot, Take, Stack, Finish)
