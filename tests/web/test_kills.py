"""kill -9 of the web server, the worker and a pool child at ten random moments: every stack ends with the
same picture."""

import os
import random
import shutil
import signal
import socket
import subprocess
import sys
import time
import urllib.request
from pathlib import Path

import numpy as np
import pytest
import tifffile
from django.urls import reverse

from vinter.web.jobs.models import Job
from vinter.web.stacks.models import Stack

KILLS = 10


def children(pid, word):
    """Children of a process whose command line holds a word."""
    found = []
    for entry in Path("/proc").iterdir():
        try:
            if (
                entry.name.isdigit()
                and int((entry / "stat").read_text().rsplit(")", 1)[1].split()[1]) == pid
                and word in (entry / "cmdline").read_text()
            ):
                found.append(int(entry.name))
        except (OSError, IndexError, ValueError):
            continue
    return found


class Served:
    """The whole of `vinter serve` on the test database, started again by hand when its web process dies."""

    def __init__(self, environment):
        self.environment = environment
        with socket.socket() as s:
            s.bind(("127.0.0.1", 0))
            self.port = s.getsockname()[1]
        self.process = None
        self.start()

    def start(self):
        command = [
            sys.executable,
            "-m",
            "vinter.cli",
            "serve",
            "--host",
            "127.0.0.1",
            "--port",
            str(self.port),
        ]
        self.process = subprocess.Popen(command, env=self.environment, stdout=subprocess.DEVNULL)
        self.answers()

    def answers(self):
        for _ in range(300):
            try:
                return urllib.request.urlopen(f"http://127.0.0.1:{self.port}/sign-in/", timeout=5).status
            except OSError:
                time.sleep(0.1)
        raise AssertionError("the web server does not answer")

    def pids(self, what):
        workers = children(self.process.pid, "vinter.web.jobs.worker")
        if what == "web":
            return [self.process.pid]
        return (
            workers
            if what == "worker"
            else [p for w in workers for p in children(w, "multiprocessing.spawn")]
        )


@pytest.fixture
def served(transactional_db, settings):
    from django.db import connection

    one = Served(
        {
            **os.environ,
            "VINTER_DB": str(connection.settings_dict["NAME"]),
            "VINTER_HOME": str(settings.HOME),
            "VINTER_WORKERS": "2",
            "VINTER_LEASE": "2",
            "VINTER_FORECAST": "http://127.0.0.1:9/",
            "PYTHONPATH": str(Path(__file__).parents[2] / "src"),
        }
    )
    yield one
    one.process.terminate()
    one.process.wait(20)


def until(job, ready, seconds=120):
    end = time.monotonic() + seconds
    while time.monotonic() < end:
        job.refresh_from_db()
        if ready(job):
            return
        time.sleep(0.02)
    raise AssertionError(f"{job} after {seconds} s: {job.error}")


@pytest.mark.django_db(transaction=True)
def test_ten_kills(desk, small_take, served):
    dice = random.Random(20270610)

    def begun():
        desk.post(reverse("stack-new", args=[small_take.pk]))
        return Stack.objects.latest("id"), Job.objects.latest("id")

    first, job = begun()
    until(job, lambda j: j.state == Job.RUNNING)
    started = time.monotonic()
    until(job, lambda j: not j.active)
    length = time.monotonic() - started
    assert job.state == Job.DONE, job.error
    wanted = tifffile.imread(first.picture)
    hit = {"web": 0, "worker": 0, "pool": 0}
    for turn in range(KILLS):
        if turn % 2:
            shutil.rmtree(small_take.work)  # nothing kept: the frames are read again
        one, job = begun()
        until(job, lambda j: j.state == Job.RUNNING)
        time.sleep(dice.random() * 0.8 * length)
        what = dice.choice(["web", "worker", "pool", "pool"])
        for pid in served.pids(what)[:1]:
            os.kill(pid, signal.SIGKILL)
            hit[what] += 1
        if what == "web":
            served.process.wait()
            served.start()
        until(job, lambda j: not j.active)
        assert job.state == Job.DONE, (turn, what, job.error)
        assert served.answers() == 200
        assert np.array_equal(tifffile.imread(one.picture), wanted), (turn, what)
        assert Stack.objects.get(pk=one.pk).report["frames_used"] == 5
    assert sum(hit.values()) >= 8 and all(hit.values())
