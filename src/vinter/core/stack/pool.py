"""The processes of a stack: forked from one that has loaded all they need."""

from concurrent.futures import ProcessPoolExecutor

from vinter.core.parallel import forked_pool, load_ahead

LOADED = "vinter.core.stack.loaded"


def load_stacking_ahead() -> None:
    """Start the process that a stack's pool is forked from; it loads beside what this one has to load
    itself."""
    load_ahead(LOADED)


def own_pool(workers: int) -> ProcessPoolExecutor:
    """A pool of n processes; they are gone when this one is."""
    load_stacking_ahead()
    from vinter.core.stack.ingest import begin_worker  # slow to load: after the other process has begun

    return forked_pool(workers, begin_worker)
