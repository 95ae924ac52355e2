"""Collecting the results of parallel work, with progress and a way to stop; processes that end with their
parent."""

import ctypes
import multiprocessing
import os
import signal
import threading
from collections.abc import Callable, Iterator
from concurrent.futures import Future, ProcessPoolExecutor, as_completed
from contextlib import suppress
from multiprocessing import forkserver
from multiprocessing.connection import wait
from typing import TypeVar

V = TypeVar("V")

PR_SET_PDEATHSIG = 1  # Linux, prctl(2)
M_TRIM_THRESHOLD, M_MMAP_THRESHOLD, M_ARENA_MAX = -1, -3, -8  # glibc, mallopt(3)


def end_with_parent(how: signal.Signals, parent: int | None) -> None:
    """Ask the kernel to send this process a signal when its parent dies, so that kill -9 leaves no orphans.

    ``parent`` is the process that started this one: when it died before the kernel was asked, this one ends.
    """
    ctypes.CDLL(None).prctl(PR_SET_PDEATHSIG, how)
    if parent is not None and os.getppid() != parent:
        os._exit(1)


def load_ahead(*modules: str) -> None:
    """Start the process that pools are forked from; it loads the modules beside what this one has to load.
    A process has one of them: what is asked for later is loaded in the pool's own processes."""
    multiprocessing.get_context("forkserver").set_forkserver_preload(list(modules))
    forkserver.ensure_running()


def forked_pool(processes: int, begin: Callable[..., None], *arguments: object) -> ProcessPoolExecutor:
    """A pool of processes forked from the one that ``load_ahead`` started; each calls ``begin`` first, which
    ends with ``follow_asker``."""
    return ProcessPoolExecutor(
        processes,
        mp_context=multiprocessing.get_context("forkserver"),
        initializer=begin,
        initargs=arguments,
    )


def one_heap() -> None:
    """Have the threads of this process share one heap that keeps what was freed (Linux, glibc): else every
    thread keeps its own, and each large picture is asked of the system anew and given back."""
    with suppress(AttributeError, OSError):
        library = ctypes.CDLL(None)
        for what, value in ((M_ARENA_MAX, 1), (M_MMAP_THRESHOLD, 2**30), (M_TRIM_THRESHOLD, 2**29)):
            library.mallopt(what, value)


def give_back() -> None:
    """Give memory that was freed back to the system (Linux, glibc)."""
    with suppress(AttributeError, OSError):
        ctypes.CDLL(None).malloc_trim(0)


def follow_asker() -> None:
    """As a process of a pool, whoever forked it: gone when the process that asked for the pool is, and not
    ended by the terminal's interrupt."""
    signal.signal(signal.SIGINT, signal.SIG_IGN)
    asker = multiprocessing.parent_process()
    if asker is not None:
        threading.Thread(target=_gone_with, args=(asker.sentinel,), daemon=True).start()


def _gone_with(sentinel: int) -> None:
    wait([sentinel])
    os._exit(1)


class Cancelled(Exception):
    """Raised inside long work when its caller asked to stop."""


def collected(
    futures: dict[Future[V], int], stop: Callable[[], bool], on_progress: Callable[[int, int], None]
) -> Iterator[tuple[int, V]]:
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
