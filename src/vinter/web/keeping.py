"""All of a home as one file, and back: the database by SQLite's online backup, pictures, and the key.

Both work while Vinter runs. What can be worked out again (kept stages of stacks) is left out.
"""

import logging
import os
import shutil
import sqlite3
import tempfile
import threading
import time
import zipfile
import zlib
from collections.abc import Iterator
from contextlib import closing
from pathlib import Path, PurePosixPath

from django.conf import settings
from django.db import connection

from vinter.core.errors import BadInput
from vinter.core.formats.whole import whole
from vinter.web.file_state import state_of

log = logging.getLogger("vinter.backup")
DATABASE, KEY, MEDIA = "vinter.sqlite3", "secret.key", "media"
LEFT_OUT = {"work", "partial"}
LAST = "backup.last"  # file that is touched whenever a backup was made
NAMED = "vinter-%Y-%m-%d-%H%M%S.zip"  # names of backups on a schedule
DAY = 86_400
EARLIEST = 315_619_200.0  # Unix seconds of 1980-01-02: ZIP files know nothing older
LARGE = 2**31  # bytes, from which a member is written in the form for large ones


def _database() -> Path:
    return Path(connection.settings_dict["NAME"])


def _copied(source: Path, target: Path) -> None:
    """One database over another, whole, while either is in use."""
    with closing(sqlite3.connect(source)) as a, closing(sqlite3.connect(target)) as b:
        a.backup(b)


def backup(out: Path) -> tuple[int, int]:
    """Everything into one ZIP file, which is there whole or not at all; how many files it holds, and how many
    were deleted by somebody while it was written and are not in it."""
    if not out.parent.is_dir():
        raise BadInput(f"{out.parent}: no such folder")
    media = Path(settings.MEDIA_ROOT)
    with tempfile.TemporaryDirectory() as folder, whole(out) as draft:
        copy = Path(folder) / DATABASE
        _copied(_database(), copy)
        with zipfile.ZipFile(draft, "w", zipfile.ZIP_STORED, allowZip64=True) as archive:
            archive.write(copy, DATABASE, zipfile.ZIP_DEFLATED)
            if (settings.HOME / KEY).is_file():
                archive.write(settings.HOME / KEY, KEY)
            gone = sum(not _added(archive, path, media) for path in _files(media))
            count = len(archive.namelist())
    (settings.HOME / LAST).touch()
    return count, gone


def last_backup() -> float | None:
    """When the last backup of this home was made, Unix; None when never."""
    there = state_of(settings.HOME / LAST)
    return there.st_mtime if there else None


_scheduled = threading.Lock()


def back_up_when_due() -> threading.Thread | None:
    """A chore of the worker: every ``BACKUP_DAYS`` a backup into ``BACKUP_DIR``, of which the last
    ``BACKUPS_KEPT`` stay. It is written beside what the worker does; the thread that does so, if one was
    started."""
    if not settings.BACKUP_DIR or not _due() or _scheduled.locked():
        return None
    thread = threading.Thread(target=_scheduled_backup, name="backup", daemon=True)
    thread.start()
    return thread


def _of_schedule() -> list[Path]:
    """The backups there are in the folder, oldest first."""
    return sorted(Path(settings.BACKUP_DIR).glob("vinter-????-??-??-??????.zip"))


def _due() -> bool:
    there = _of_schedule()
    return not there or time.time() - there[-1].stat().st_mtime >= settings.BACKUP_DAYS * DAY


def _scheduled_backup() -> None:
    with _scheduled:
        try:
            out = Path(settings.BACKUP_DIR) / time.strftime(NAMED, time.gmtime())
            count, gone = backup(out)
            log.info("%s: %s files; %s were deleted meanwhile", out, count, gone)
            for old in _of_schedule()[: -max(settings.BACKUPS_KEPT, 1)]:
                old.unlink(missing_ok=True)
        except (BadInput, OSError) as error:
            log.error("the backup into %s could not be made: %s", settings.BACKUP_DIR, error)


def _files(media: Path) -> Iterator[Path]:
    """The files that a backup holds, folder by folder; a folder that vanishes meanwhile is passed over."""
    for folder, inside, names in os.walk(media):
        inside[:] = sorted(set(inside) - LEFT_OUT)
        yield from (Path(folder) / name for name in sorted(names) if not name.startswith("."))


def _added(archive: zipfile.ZipFile, path: Path, media: Path) -> bool:
    """Whether a file is in the archive now; not when it was deleted before it could be read. Once opened it
    is read to its end, whatever becomes of its name."""
    try:
        source = path.open("rb")
    except FileNotFoundError:
        return False
    with source:
        state = os.fstat(source.fileno())
        entry = zipfile.ZipInfo(
            f"{MEDIA}/{path.relative_to(media).as_posix()}", time.localtime(max(state.st_mtime, EARLIEST))[:6]
        )
        entry.external_attr = (state.st_mode & 0xFFFF) << 16
        with archive.open(entry, "w", force_zip64=state.st_size > LARGE) as inside:
            shutil.copyfileobj(source, inside, 2**20)
    return True


def _members(archive: zipfile.ZipFile, name: str) -> list[zipfile.ZipInfo]:
    """What is in a backup; BadInput when it is none, or a name leads out of the home."""
    members = archive.infolist()
    if DATABASE not in archive.namelist():
        raise BadInput(f"{name}: not a backup of Vinter: there is no {DATABASE} in it")
    for member in members:
        parts = PurePosixPath(member.filename).parts
        known = member.filename in (DATABASE, KEY) or parts[:1] == (MEDIA,)
        if not known or ".." in parts or PurePosixPath(member.filename).is_absolute():
            raise BadInput(f"{name}: {member.filename!r} does not belong into a backup")
    try:
        broken = archive.testzip()
    except (zipfile.BadZipFile, zlib.error) as error:
        raise BadInput(f"{name}: damaged ({error}); nothing was restored") from error
    if broken:
        raise BadInput(f"{name}: {broken} in it is damaged; nothing was restored")
    return members


def restore(source: Path) -> int:
    """A backup over what is here: the database as a whole, pictures beside those that are here; returns how
    many files came. The key stays when there is one, so that who is signed in stays so."""
    if not zipfile.is_zipfile(source):
        raise BadInput(f"{source}: not a backup of Vinter")
    with zipfile.ZipFile(source) as archive, tempfile.TemporaryDirectory() as folder:
        members = _members(archive, source.name)
        _copied(Path(archive.extract(DATABASE, folder)), _database())
        for member in members:
            if member.filename == DATABASE or member.is_dir():
                continue
            target = settings.HOME / member.filename
            if member.filename == KEY and target.exists():
                continue
            target.parent.mkdir(parents=True, exist_ok=True)
            with archive.open(member) as read, whole(target) as draft:
                with draft.open("wb") as write:
                    shutil.copyfileobj(read, write)
                if member.filename == KEY:
                    draft.chmod(0o600)
        return len(members)
