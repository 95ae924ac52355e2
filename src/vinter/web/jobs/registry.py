"""Which function does a job of a kind. An app registers its kinds when it is loaded; this room knows no app.

A handler repeats safely: it replaces what an earlier attempt left.
"""

from collections.abc import Callable
from concurrent.futures import Executor
from dataclasses import dataclass

from django.utils.module_loading import import_string

Progress = Callable[[str, float], None]
QUICK, LONG = "quick", "long"
LANES = (QUICK, LONG)


@dataclass(frozen=True)
class JobContext:
    """What a handler gets beside its subject: an executor, a way to tell progress, a way to know of a
    cancel."""

    pool: Executor
    progress: Progress
    stop: Callable[[], bool]


Handler = Callable[[int, JobContext], None]


@dataclass(frozen=True)
class JobKind:
    """A kind of job: the dotted path of its function (so that web pages do not load the pipelines), its lane,
    a noun for people, and whether it takes in what arrives while it runs."""

    path: str
    lane: str = LONG
    noun: str = "some work"
    takes_in: bool = False


_KINDS: dict[str, JobKind] = {}


def register(kind: str, what: JobKind) -> None:
    """Name what does jobs of a kind."""
    _KINDS[kind] = what


def kind_of(kind: str) -> JobKind:
    """A kind by its key; KeyError when no app registered it."""
    return _KINDS[kind]


def handler_of(kind: str) -> Handler:
    """The function that does a job of a kind."""
    handler: Handler = import_string(_KINDS[kind].path)
    return handler
