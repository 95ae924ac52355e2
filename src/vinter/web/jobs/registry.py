"""Which function does a job of a kind. An app registers its kinds when it is loaded; this room knows no app.

A handler repeats safely: it replaces what an earlier attempt left.
"""

from collections.abc import Callable
from concurrent.futures import Executor
from dataclasses import dataclass

from django.utils.module_loading import import_string

Progress = Callable[[str, float], None]


@dataclass(frozen=True)
class JobContext:
    """What a handler gets beside its subject: an executor, a way to tell progress, a way to know of a
    cancel."""

    pool: Executor
    progress: Progress
    stop: Callable[[], bool]


Handler = Callable[[int, JobContext], None]
_HANDLERS: dict[str, str] = {}


def register(kind: str, path: str) -> None:
    """Name the function (a dotted path, so that web pages do not load the pipelines) that does jobs of a
    kind."""
    _HANDLERS[kind] = path


def handler_of(kind: str) -> Handler:
    """The function that does a job of a kind; KeyError when no app registered one."""
    handler: Handler = import_string(_HANDLERS[kind])
    return handler
