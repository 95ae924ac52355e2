"""Whether this home is as docs/operating.md wants it: what `vinter check` says, and what a watcher is
answered."""

import shutil
import stat
import time
from dataclasses import dataclass
from pathlib import Path

from django.conf import settings
from django.db import DatabaseError, connection
from django.db.migrations.executor import MigrationExecutor

from vinter.web.jobs.chores import EVERY_SECONDS
from vinter.web.jobs.models import Job
from vinter.web.keeping import DATABASE, DAY, KEY, last_backup

ALIVE = "worker.alive"
SILENT_SECONDS = 3 * EVERY_SECONDS  # s since the worker last ran after which it counts as gone
OLD_BACKUP_DAYS = 7
HERE = {"localhost", "127.0.0.1", "[::1]"}


@dataclass(frozen=True)
class Finding:
    """What was looked at, whether it is right, and what is so or what to do."""

    name: str
    right: bool
    words: str


def note_alive() -> None:
    """A chore of the worker: leave a sign that it runs."""
    (settings.HOME / ALIVE).touch()


def findings() -> list[Finding]:
    """All that can be looked at from here, also while nothing runs."""
    return [_database(), _space(), _worker(), _clock(), _key(), _addresses(), _https(), _backup()]


def healthy() -> bool:
    """What a watcher wants to know: the database answers, there is space, the worker runs. Anybody may ask,
    so it costs one query."""
    try:
        return _space().right and _worker().right
    except DatabaseError:
        return False


def _database() -> Finding:
    try:
        executor = MigrationExecutor(connection)
        behind = executor.migration_plan(executor.loader.graph.leaf_nodes())
    except DatabaseError as error:
        return Finding("database", False, f"{settings.HOME / DATABASE}: {error}")
    if behind:
        return Finding("database", False, f"{len(behind)} steps behind this version: start Vinter once")
    return Finding("database", True, "answers, as this version wants it")


def _space() -> Finding:
    free, spare = shutil.disk_usage(settings.HOME).free, int(settings.SPARE_MB) * 2**20
    words = f"{free / 1e9:.1f} GB free in {settings.HOME}; {spare / 1e9:.1f} stay so (VINTER_SPARE_MB)"
    return Finding("space", free > 2 * spare, words if free > 2 * spare else f"{words}: make room")


def _worker() -> Finding:
    path = settings.HOME / ALIVE
    waiting = Job.objects.filter(state=Job.QUEUED).count()
    tail = f"; {waiting} job{'' if waiting == 1 else 's'} waiting" if waiting else ""
    if not path.exists():
        return Finding("worker", False, f"has never run here: start it with 'vinter serve'{tail}")
    ago = time.time() - path.stat().st_mtime
    if ago > SILENT_SECONDS:
        return Finding("worker", False, f"silent for {ago / 60:.0f} min{tail}: is Vinter running?")
    return Finding("worker", True, f"ran {max(ago, 0) / 60:.0f} min ago{tail}")


def _clock() -> Finding:
    ahead = max(
        (p.stat().st_mtime for p in (settings.HOME / DATABASE, settings.HOME / ALIVE) if p.exists()),
        default=0,
    )
    wrong = ahead - time.time()
    if wrong > 60:
        return Finding(
            "clock", False, f"{wrong / 60:.0f} min behind the newest file here: set it, plans depend on it"
        )
    return Finding(
        "clock", True, time.strftime("%Y-%m-%d %H:%M UTC, not behind any file here", time.gmtime())
    )


def _key() -> Finding:
    path = settings.HOME / KEY
    if not path.exists():
        return Finding("key", True, "given by VINTER_SECRET")
    open_to = stat.S_IMODE(path.stat().st_mode) & 0o077
    return Finding(
        "key",
        not open_to,
        f"{path}: {'others can read it: chmod 600' if open_to else 'its owner alone reads it'}",
    )


def _addresses() -> Finding:
    beyond = [host for host in settings.ALLOWED_HOSTS if host not in HERE]
    if "*" in beyond:
        return Finding(
            "addresses", False, "VINTER_HOSTS is *: name the hosts, or links can be made to point elsewhere"
        )
    if not beyond:
        return Finding("addresses", True, "answers on this machine only")
    missing = [
        host
        for host in beyond
        if not any(host.lstrip(".") in origin for origin in settings.CSRF_TRUSTED_ORIGINS)
    ]
    if missing:
        words = "in VINTER_HOSTS but not in VINTER_ORIGINS: behind a proxy its forms are refused"
        return Finding("addresses", False, f"{', '.join(missing)}: {words}")
    return Finding("addresses", True, f"answers to {', '.join(beyond)}")


def _https() -> Finding:
    secure = [origin for origin in settings.CSRF_TRUSTED_ORIGINS if origin.startswith("https:")]
    if secure and not settings.HTTPS:
        return Finding(
            "https", False, f"{secure[0]} is named, but VINTER_HTTPS is not 1: cookies go over plain http too"
        )
    if settings.HTTPS and not secure:
        return Finding("https", False, "VINTER_HTTPS is 1, but no https address is in VINTER_ORIGINS")
    return Finding("https", True, "cookies by HTTPS only" if settings.HTTPS else "not asked for: plain http")


def _backup() -> Finding:
    last = last_backup()
    if last is None:
        return Finding(
            "backup", False, "none was ever made here: 'vinter backup FILE.zip', or VINTER_BACKUP_DIR"
        )
    days = (time.time() - last) / DAY
    allowed = max(OLD_BACKUP_DAYS, 2 * settings.BACKUP_DAYS) if settings.BACKUP_DIR else OLD_BACKUP_DAYS
    words = f"the last was made {days:.1f} days ago"
    if settings.BACKUP_DIR and not Path(settings.BACKUP_DIR).is_dir():
        return Finding("backup", False, f"{words}; VINTER_BACKUP_DIR {settings.BACKUP_DIR} is no folder")
    return Finding("backup", days <= allowed, words)
