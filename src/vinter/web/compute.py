"""Heavy computation away from the threads that answer requests: a small pool of processes, each thing done
once.

``serve`` sets how many processes (VINTER_COMPUTE); without it the calling thread computes. Whoever asks for
what is being computed waits for the same result. A page waits a moment; when that was not enough it says so
and asks again by itself (``StillComputing``), so that threads are never all taken by waiting.
"""

import os
import threading
import time
from collections.abc import Callable, Hashable
from concurrent.futures import Future, ProcessPoolExecutor
from concurrent.futures import TimeoutError as NotInTime
from concurrent.futures.process import BrokenProcessPool
from importlib import import_module
from typing import Any, TypeVar, cast

from django.conf import settings
from django.http import HttpRequest, HttpResponse
from django.shortcuts import render

from vinter.core.parallel import follow_asker, forked_pool, load_ahead
from vinter.web.byte_cache import ByteCache

V = TypeVar("V")
PAGE_SECONDS = 0.8  # s that a page waits for what it needs
PATIENT_SECONDS = 90.0  # s that a file, a picture or a form waits
NICE = 2
LOADED = "vinter.web.nights.loaded"


class StillComputing(Exception):
    """What a page needs is being worked out; ``ahead`` counts what is worked out before and beside it."""

    def __init__(self, ahead: int) -> None:
        super().__init__(f"still computing, {ahead} before it")
        self.ahead = ahead


def _begin() -> None:
    import_module(LOADED)  # there already, unless another pool of this process was the first
    os.nice(NICE)
    follow_asker()


class ComputePool:
    """Processes, and what they are working on, by key."""

    def __init__(self, processes: int) -> None:
        self.processes = processes
        self._pool: ProcessPoolExecutor | None = None
        self._running: dict[Hashable, Future[Any]] = {}
        self._guard = threading.Lock()

    def start(self) -> None:
        """Start the processes before anything is asked."""
        with self._guard:
            pool = self._started()
        for _ in range(self.processes):
            pool.submit(time.sleep, 0.0)

    def _started(self) -> ProcessPoolExecutor:
        if self._pool is None:
            load_ahead(LOADED)
            self._pool = forked_pool(self.processes, _begin)
        return self._pool

    def future(self, key: Hashable, function: Callable[..., V], arguments: tuple[object, ...]) -> "Future[V]":
        """The work under a key, begun now unless it is under way."""
        with self._guard:
            if key in self._running:
                return self._running[key]
            try:
                future = self._started().submit(function, *arguments)
            except BrokenProcessPool:  # a process died, of memory most likely: a new pool
                self._pool = None
                future = self._started().submit(function, *arguments)
            self._running[key] = future
        future.add_done_callback(lambda done: self._forget(key))
        return future

    def _forget(self, key: Hashable) -> None:
        with self._guard:
            self._running.pop(key, None)

    @property
    def busy(self) -> int:
        """How many things are being worked out or wait for it."""
        with self._guard:
            return len(self._running)


POOL = ComputePool(settings.COMPUTE_PROCESSES)


def computed(
    key: Hashable, function: Callable[..., V], *arguments: object, seconds: float = PATIENT_SECONDS
) -> V:
    """What a function gives for some arguments (all of which travel between processes), worked out in the
    pool. StillComputing when it took longer than may be waited."""
    if not settings.COMPUTE_PROCESSES:
        return function(*arguments)
    for attempt in (1, 2):
        future = POOL.future(key, function, arguments)
        try:
            return future.result(seconds)
        except NotInTime:
            raise StillComputing(POOL.busy) from None
        except BrokenProcessPool:
            if attempt == 2:
                raise
            POOL._pool = None
    raise AssertionError("unreachable")


def remembered(
    cache: ByteCache,
    key: Hashable,
    function: Callable[..., V],
    *arguments: object,
    seconds: float = PAGE_SECONDS,
) -> V:
    """What ``computed`` gives, kept in a cache. What a page did not wait for is kept for when it asks
    again."""
    if not settings.COMPUTE_PROCESSES:
        return cache.get(key, lambda: function(*arguments))
    found = cache.peek(key)
    if found is not None:
        return cast(V, found)
    future = POOL.future(key, function, arguments)
    future.add_done_callback(lambda done: None if done.exception() else cache.put(key, done.result()))
    return computed(key, function, *arguments, seconds=seconds)


class WaitingPages:
    """Turns StillComputing into a page that asks again by itself; for files and pictures into 503 with a time
    to come again."""

    def __init__(self, get_response: Callable[[HttpRequest], HttpResponse]) -> None:
        self.get_response = get_response

    def __call__(self, request: HttpRequest) -> HttpResponse:
        """The response as it is."""
        return self.get_response(request)

    def process_exception(self, request: HttpRequest, error: Exception) -> HttpResponse | None:
        """The waiting page."""
        if not isinstance(error, StillComputing):
            return None
        if request.method == "GET" and request.headers.get("Accept", "").startswith("text/html"):
            response = render(request, "waiting.html", {"ahead": error.ahead}, status=202)
            response["Refresh"] = "1"
        else:
            words = "still working this out; ask again in a moment"
            response = HttpResponse(words, status=503, content_type="text/plain; charset=utf-8")
        response["Retry-After"] = "1"
        response["Cache-Control"] = "no-store"
        return response
