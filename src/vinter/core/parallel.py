"""Collecting the results of parallel work, with progress and a way to stop."""

from collections.abc import Callable, Iterator
from concurrent.futures import Future, as_completed
from typing import Any


class Cancelled(Exception):
    """Raised inside long work when its caller asked to stop."""


def collected(
    futures: dict[Future[Any], int], stop: Callable[[], bool], on_progress: Callable[[int, int], None]
) -> Iterator[tuple[int, Any]]:
    """Yield (key, result) as the futures end; ``on_progress`` hears how many of how many. Cancelled when
    ``stop`` turns true.

    A future is forgotten as soon as its result was yielded, so that large results do not pile up.
    """
    count = len(futures)
    for done, future in enumerate(as_completed(list(futures)), 1):
        if stop():
            for waiting in futures:
                waiting.cancel()
            raise Cancelled
        yield futures.pop(future), future.result()
        on_progress(done, count)
