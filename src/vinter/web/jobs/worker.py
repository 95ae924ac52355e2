"""The worker: takes jobs one at a time, keeps their lease alive, and lets a pool of processes do the work."""

import ctypes
import logging
import multiprocessing
import os
import signal
import threading
import time
from concurrent.futures import Executor, ProcessPoolExecutor
from concurrent.futures.process import BrokenProcessPool
from types import FrameType

from django.db import OperationalError

RETRY_SECONDS = 3.0
BEAT_SECONDS = 3.0
IDLE_SECONDS = 0.4
PROGRESS_SECONDS = 0.5
PR_SET_PDEATHSIG = 1
log = logging.getLogger("vinter.worker")


def die_with_parent() -> None:
    """Ask the kernel to end this process when its parent dies, so that kill -9 leaves no orphans."""
    ctypes.CDLL(None).prctl(PR_SET_PDEATHSIG, signal.SIGKILL)
    signal.signal(signal.SIGINT, signal.SIG_IGN)


def make_pool(processes: int, cluster: str) -> Executor:
    """A pool of spawned processes, or a Dask cluster's executor when one is named."""
    if cluster:
        from dask.distributed import Client  # type: ignore[import-not-found]

        executor: Executor = Client(cluster).get_executor()
        return executor
    return ProcessPoolExecutor(
        processes, mp_context=multiprocessing.get_context("spawn"), initializer=die_with_parent
    )


class Worker:
    """Runs jobs until told to stop."""

    def __init__(self) -> None:
        from django.conf import settings

        self.settings = settings
        self.stopping = threading.Event()
        self.pool = make_pool(settings.WORKER_PROCESSES, settings.CLUSTER)

    def run(self) -> None:
        """Take jobs for ever."""
        from vinter.web.jobs.models import claim

        while not self.stopping.is_set():
            job = claim()
            if job is None:
                self.stopping.wait(IDLE_SECONDS)
            else:
                try:
                    self.work(job)
                except OperationalError:  # the database could not take the news: a full disk, most likely
                    log.exception("the end of job %s could not be noted; it will be taken up again", job)
                    self.stopping.wait(RETRY_SECONDS)

    def work(self, job) -> None:  # type: ignore[no-untyped-def]
        """Do one job and end its row with what came of it."""
        from django.db import close_old_connections

        from vinter.core.errors import BadInput
        from vinter.core.parallel import Cancelled
        from vinter.web.jobs.models import Job, beat, finish, report, wants_stop
        from vinter.web.jobs.registry import JobContext, handler_of

        ended = threading.Event()

        def keep_alive() -> None:
            while not ended.wait(BEAT_SECONDS):
                try:
                    beat(job)
                except OperationalError:
                    log.warning("the lease of job %s could not be renewed just now", job)
                close_old_connections()

        last = [0.0]

        def progress(label: str, share: float) -> None:
            if time.monotonic() - last[0] >= PROGRESS_SECONDS:
                last[0] = time.monotonic()
                report(job, label, share)

        threading.Thread(target=keep_alive, daemon=True).start()
        try:
            handler_of(job.kind)(job.subject, JobContext(self.pool, progress, lambda: wants_stop(job)))
            finish(job, Job.DONE)
        except Cancelled:
            finish(job, Job.CANCELLED, "cancelled; what was there before is kept")
        except BadInput as error:
            finish(job, Job.FAILED, str(error))
        except BrokenProcessPool:
            log.warning("a pool process died during %s; the job will be tried again", job)
            self.pool.shutdown(wait=False, cancel_futures=True)
            self.pool = make_pool(self.settings.WORKER_PROCESSES, self.settings.CLUSTER)
            Job.objects.filter(pk=job.pk, attempt=job.attempt).update(lease_until=job.created)
        except OSError as error:
            finish(job, Job.FAILED, f"{error.strerror or error}. What was stored before is kept.")
        except Exception:  # a defect in one job must not end the worker
            log.exception("job %s failed", job)
            finish(
                job,
                Job.FAILED,
                "something went wrong inside Vinter; the frames are untouched, the log has the details",
            )
        finally:
            ended.set()


def main() -> None:
    """Entry point of the worker process."""
    os.environ.setdefault("DJANGO_SETTINGS_MODULE", "vinter.web.settings")
    ctypes.CDLL(None).prctl(PR_SET_PDEATHSIG, signal.SIGTERM)
    logging.basicConfig(level=logging.INFO, format="%(levelname)s %(name)s: %(message)s")
    import django

    django.setup()
    worker = Worker()

    def stop(signum: int, frame: FrameType | None) -> None:
        # the kernel ends the pool's processes with us; shutting the pool down here could deadlock on a second
        # signal
        os._exit(0)

    signal.signal(signal.SIGTERM, stop)
    signal.signal(signal.SIGINT, stop)
    worker.run()


if __name__ == "__main__":
    main()
