"""The worker: in each lane one job at a time, its heart kept beating, done by a pool of processes.

Long jobs run at a lower priority than quick ones, and both below the pages.
"""

import logging
import os
import signal
import threading
import time
from concurrent.futures import Executor
from concurrent.futures.process import BrokenProcessPool
from types import FrameType

from django.db import OperationalError

from vinter.core.parallel import end_with_parent, forked_pool, load_ahead
from vinter.core.stack.ingest import begin_worker
from vinter.core.stack.pool import LOADED

RETRY_SECONDS = 3.0
BEATS_PER_LEASE = 5
NICE = {"quick": 5, "long": 10}
IDLE_SECONDS = 0.4
PROGRESS_SECONDS = 0.5
log = logging.getLogger("vinter.worker")


def start_in_pool(nice: int) -> None:
    """What a process of the pool does first."""
    os.nice(nice)
    begin_worker()


def make_pool(processes: int, cluster: str, nice: int = 0) -> Executor:
    """A pool of processes forked from one that has loaded what they need, or a Dask cluster's executor when
    one is named."""
    if cluster:
        from dask.distributed import Client

        executor: Executor = Client(cluster).get_executor()
        return executor
    load_ahead(LOADED, "django.db")
    return forked_pool(processes, start_in_pool, nice)


class Worker:
    """Runs the jobs of one lane until its process ends."""

    def __init__(self, lane: str) -> None:
        from django.conf import settings

        from vinter.web.jobs.models import Heartbeats

        self.lane = lane
        self.settings = settings
        self.beats = Heartbeats(settings.LEASE_SECONDS)
        self.pool = self._new_pool()

    def _new_pool(self) -> Executor:
        return make_pool(self.settings.WORKER_PROCESSES, self.settings.CLUSTER, NICE[self.lane])

    def run(self) -> None:
        """Take jobs for ever."""
        from vinter.web.jobs.chores import EVERY_SECONDS, do_chores
        from vinter.web.jobs.models import claim
        from vinter.web.jobs.registry import QUICK

        rested = time.monotonic() - EVERY_SECONDS
        while True:
            try:
                if self.lane == QUICK and time.monotonic() - rested > EVERY_SECONDS:
                    rested = time.monotonic()
                    do_chores()
                job = claim(self.lane, self.beats)
                if job is None:
                    time.sleep(IDLE_SECONDS)
                else:
                    self.work(job)
            except OperationalError:  # the database could not take the news: a full disk, most likely
                log.exception("the database could not be written; what was begun will be taken up again")
                time.sleep(RETRY_SECONDS)

    def work(self, job) -> None:  # type: ignore[no-untyped-def]
        """Do one job and end its row with what came of it."""
        from django.core.exceptions import ObjectDoesNotExist
        from django.db import close_old_connections

        from vinter.core.errors import BadInput
        from vinter.core.formats.whole import DISK_FULL, no_room
        from vinter.core.parallel import Cancelled
        from vinter.web.jobs.models import Job, beat, finish, give_back, report, wants_stop
        from vinter.web.jobs.registry import JobContext, handler_of

        ended = threading.Event()

        def keep_alive() -> None:
            while not ended.wait(self.settings.LEASE_SECONDS / BEATS_PER_LEASE):
                try:
                    beat(job)
                except OperationalError:
                    log.warning("the heartbeat of job %s could not be written just now", job)
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
        except ObjectDoesNotExist:
            finish(job, Job.CANCELLED, "what it was about was deleted meanwhile")
        except BadInput as error:
            finish(job, Job.FAILED, str(error))
        except BrokenProcessPool:
            log.warning("a pool process died during %s; the job will be tried again", job)
            self.pool.shutdown(wait=False, cancel_futures=True)
            self.pool = self._new_pool()
            give_back(job)
        except OSError as error:
            plain = f"{error.strerror or error}. What was stored before is kept."
            finish(job, Job.FAILED, DISK_FULL if no_room(error) else plain)
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
    parent = os.environ.get("VINTER_PARENT")
    end_with_parent(signal.SIGTERM, int(parent) if parent else None)
    logging.basicConfig(level=logging.INFO, format="%(levelname)s %(name)s: %(message)s")
    import django

    django.setup()
    from vinter.web.jobs.registry import LONG, QUICK

    def stop(signum: int, frame: FrameType | None) -> None:
        # the kernel ends the pool's processes with us; shutting the pool down here could deadlock on a second
        # signal
        os._exit(0)

    signal.signal(signal.SIGTERM, stop)
    signal.signal(signal.SIGINT, stop)
    threading.Thread(target=Worker(QUICK).run, daemon=True, name=QUICK).start()
    Worker(LONG).run()


if __name__ == "__main__":
    main()
