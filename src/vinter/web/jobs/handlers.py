"""Which function does a job of a kind. A handler repeats safely: it replaces what an earlier attempt left."""

from collections.abc import Callable
from concurrent.futures import Executor
from dataclasses import dataclass

Progress = Callable[[str, float], None]


@dataclass(frozen=True)
class Tools:
    """What a handler gets beside its subject: an executor, a way to tell progress, a way to know of a
    cancel."""

    pool: Executor
    progress: Progress
    stop: Callable[[], bool]


Handler = Callable[[int, Tools], None]


def handlers() -> dict[str, Handler]:
    """Handlers by kind; imported here so that web pages do not load the pipelines."""
    from vinter.web.finish.tasks import export_finish
    from vinter.web.stacks.tasks import run_stack
    from vinter.web.takes.tasks import film_take, measure_take, shoot_take

    return {
        "shoot": shoot_take,
        "measure": measure_take,
        "stack": run_stack,
        "export": export_finish,
        "film": film_take,
    }
