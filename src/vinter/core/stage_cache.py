"""What long work found out, kept on disk under a key of all it depends on, so that only what changed runs
again."""

import hashlib
import json
import os
import pickle
from collections.abc import Callable, Iterable
from pathlib import Path
from typing import TypeVar, cast

from vinter.core.formats.whole import whole

V = TypeVar("V")
SUM_BYTES = 32  # bytes of the SHA-256 that stands before what is kept
FORMAT = 7  # version; raise it when what is kept changes its meaning


def key_of(*parts: object) -> str:
    """A name for what depends on these parts (JSON data or paths) and on the code's version."""
    from vinter import __version__

    text = json.dumps([__version__, FORMAT, *parts], sort_keys=True, default=str)
    return hashlib.sha256(text.encode()).hexdigest()[:24]


def stamp(path: Path) -> list[object]:
    """What tells one state of a file from another, without reading it."""
    there = path.stat()
    return [str(path.resolve()), there.st_size, there.st_mtime_ns]


def content_of(path: Path) -> str:
    """What tells the content of a small file from another, wherever it lies."""
    return hashlib.sha256(path.read_bytes()).hexdigest()


class StageCache:
    """A folder of results. A result is there whole or not at all, whatever dies in between."""

    def __init__(self, folder: Path) -> None:
        self.folder = folder
        folder.mkdir(parents=True, exist_ok=True)

    def path(self, key: str, suffix: str) -> Path:
        """Where a kept file lies."""
        return self.folder / f"{key}{suffix}"

    def found(self, key: str) -> object | None:
        """What was kept under a key; None when nothing was, or when it cannot be read."""
        path = self.path(key, ".pickle")
        try:
            data = path.read_bytes()
            kept, sum_of_it = data[SUM_BYTES:], data[:SUM_BYTES]
            if hashlib.sha256(kept).digest() != sum_of_it:  # looked at before anything of it is believed
                return None
            value: object = pickle.loads(kept)
            os.utime(path)
        except (OSError, EOFError, pickle.UnpicklingError, AttributeError, ImportError):
            return None
        return value

    def keep(self, key: str, value: object) -> None:
        """Keep a value, behind the sum by which it is known to be whole."""
        data = pickle.dumps(value)
        with whole(self.path(key, ".pickle"), lasting=False) as draft:
            draft.write_bytes(hashlib.sha256(data).digest() + data)

    def made(self, key: str, make: Callable[[], V]) -> tuple[V, bool]:
        """The kept value or a new one, and whether it was kept."""
        kept = self.found(key)
        if kept is not None:
            return cast(V, kept), True
        value = make()
        self.keep(key, value)
        return value, False


def prune(folders: Iterable[Path], limit_bytes: int) -> int:
    """Throw away the oldest cached files until all folders together hold at most the limit; returns the bytes
    freed."""
    files = [
        (s.st_mtime, s.st_size, p)
        for folder in folders
        if folder.is_dir()
        for p in folder.iterdir()
        if (s := p.stat())
    ]
    over = sum(size for _, size, _ in files) - limit_bytes
    freed = 0
    for _, size, path in sorted(files):
        if freed >= over:
            break
        path.unlink(missing_ok=True)
        freed += size
    return freed
