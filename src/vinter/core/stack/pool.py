"""The processes of a stack that has no pool given: forked from one that has loaded all they need."""

import multiprocessing
from concurrent.futures import ProcessPoolExecutor
from multiprocessing import forkserver

LOADED = "vinter.core.stack.loaded"


def load_ahead() -> None:
    """Start the process that the pool's are forked from; it loads beside what this one has to load itself."""
    multiprocessing.get_context("forkserver").set_forkserver_preload([LOADED])
    forkserver.ensure_running()


def own_pool(workers: int) -> ProcessPoolExecutor:
    """A pool of n processes; they are gone when this one is."""
    from vinter.core.stack.ingest import begin_worker  # slow to load: after the other process has begun

    load_ahead()
    return ProcessPoolExecutor(
        workers, mp_context=multiprocessing.get_context("forkserver"), initializer=begin_worker
    )
