"""An import while it is under way: what it has made so far is hidden in the bin and written down on disk, so
that nothing is left of one that was killed."""

import fcntl
import json
import os
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path

from django.apps import apps
from django.contrib.auth.models import User
from django.db import models, transaction

from vinter.core.errors import BadInput
from vinter.core.formats.whole import whole
from vinter.web.bin.models import BinEntry, Binnable, binnable_models, destroy

LABEL = "An archive that is being brought in"
HELD_SECONDS = 0.15  # s for which the database is held at once
FREE_SECONDS = 0.1  # s for which others may have it in between
NOTES = "import.json"


class Underway:
    """One import's rows: those that can go to the bin are hidden there until all are in; others are listed
    with their kind and number."""

    def __init__(self, owner: User, folder: Path) -> None:
        self.notes = folder / NOTES
        self.hidden = BinEntry.objects.create(owner=owner, label=LABEL)
        self.entries = [self.hidden.pk]
        self.listed: list[tuple[str, int]] = []
        self._note()

    def _note(self) -> None:
        with whole(self.notes) as draft:
            draft.write_text(json.dumps({"entries": self.entries, "rows": self.listed}))

    def entry(self, owner: User, label: str) -> BinEntry:
        """An entry of the bin of the import's own, which stays."""
        made = BinEntry.objects.create(owner=owner, label=label)
        self.entries.append(made.pk)
        return made

    def made(self, row: models.Model) -> None:
        """Remember a row that was stored."""
        if not isinstance(row, Binnable):
            self.listed.append((row._meta.label, row.pk))

    @contextmanager
    def batches(self) -> Iterator["Batches"]:
        """Short transactions, one after the other: the last is closed at the end, or undone."""
        held = Batches(self._note)
        try:
            yield held
        except BaseException:
            held.end(good=False)
            raise
        held.end()

    def show(self) -> None:
        """Show all of it, within the caller's transaction; it is no longer under way."""
        for model in binnable_models():
            model._base_manager.filter(binned=self.hidden).update(binned=None)
        self.hidden.delete()

    def over(self) -> None:
        """Nothing of it has to be undone any more."""
        self.notes.unlink(missing_ok=True)


class Batches:
    """A transaction that is closed and begun anew where it has held the database long enough."""

    def __init__(self, note: Callable[[], None]) -> None:
        self._note = note
        self._open: transaction.Atomic | None = None
        self._began = 0.0

    def step(self) -> None:
        """Before a row: begin, or let others have their turn."""
        if self._open is not None and time.monotonic() - self._began > HELD_SECONDS:
            self.end()
            time.sleep(FREE_SECONDS)
        if self._open is None:
            self._open = transaction.atomic()
            self._open.__enter__()
            self._began = time.monotonic()

    def end(self, good: bool = True) -> None:
        """Close the open one; what it made is written down first."""
        if self._open is None:
            return
        closing, self._open = self._open, None
        if good:
            self._note()
            closing.__exit__(None, None, None)
        else:
            closing.__exit__(Cancelled, Cancelled(), None)


class Cancelled(Exception):
    """A batch that is not kept."""


def undo(folder: Path) -> None:
    """Delete what an import made that is not over: its rows and their files."""
    notes = folder / NOTES
    try:
        left = json.loads(notes.read_text())
    except FileNotFoundError:
        return
    hidden, *_ = left["entries"]
    if not BinEntry.objects.filter(pk=hidden).exists():  # killed after all was shown, before this was over
        notes.unlink(missing_ok=True)
        return
    for entry in BinEntry.objects.filter(pk__in=left["entries"]):
        destroy(entry)
    for label, pk in reversed(left["rows"]):
        apps.get_model(label)._base_manager.filter(pk=pk).delete()
    notes.unlink(missing_ok=True)


@contextmanager
def alone(folder: Path) -> Iterator[None]:
    """One import of a person at a time; what an earlier one left when it was killed is undone first."""
    folder.mkdir(parents=True, exist_ok=True)
    lock = os.open(folder, os.O_RDONLY | os.O_DIRECTORY)
    try:
        try:
            fcntl.flock(lock, fcntl.LOCK_EX | fcntl.LOCK_NB)
        except BlockingIOError:
            raise BadInput("another archive is being brought in; wait until it is done") from None
        undo(folder)
        yield
    finally:
        os.close(lock)
