"""One stack while it runs: its settings, folders and pool, its progress, and what it found cached."""

import time
from collections.abc import Callable, Iterator
from concurrent.futures import Executor, Future
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any, TypeVar

from vinter.core.parallel import collected
from vinter.core.stack.settings import Settings
from vinter.core.stage_cache import StageCache

V = TypeVar("V")

Progress = Callable[[str, float], None]


@dataclass(kw_only=True)
class Run:
    """State of one stack while it runs."""

    settings: Settings
    folder: Path
    cache: StageCache
    pool: Executor
    progress: Progress
    stop: Callable[[], bool]
    started: float = field(default_factory=time.monotonic)
    reused: dict[str, Any] = field(default_factory=dict)

    def gather(
        self, futures: dict[Future[V], int], label: str, start: float, end: float
    ) -> Iterator[tuple[int, V]]:
        """Keys and results as they come, with progress between two shares of the whole; stops when asked
        to."""
        return collected(
            futures, self.stop, lambda done, n: self.progress(label, start + (end - start) * done / n)
        )

    def stage(self, name: str, key: str, make: Callable[[], V]) -> V:
        """What a stage gives, cached or made anew; notes which."""
        value, self.reused[name] = self.cache.made(key, make)
        return value
