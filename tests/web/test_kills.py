"""kill -9 of the web server, the worker and a pool child at random moments of every kind of long work: the
same result, no orphan, no torn file. One kill a kind; ten with --slow."""

import http.client
import json
import os
import random
import shutil
import signal
import threading
import time
import urllib.request
from pathlib import Path

import cv2
import pytest
import tifffile
from conftest import OWN_PATH
from django.urls import reverse
from served import Served

from vinter.web.finish.models import Export, Finish
from vinter.web.jobs.models import Job
from vinter.web.stacks.models import Stack


@pytest.fixture(scope="module")
def served(django_db_setup):
    from django.conf import settings
    from django.db import connection

    one = Served(
        {
            **os.environ,
            "VINTER_DB": str(connection.settings_dict["NAME"]),
            "VINTER_HOME": str(settings.HOME),
            "VINTER_WORKERS": "2",
            "VINTER_LEASE": "2",
            "VINTER_FORECAST": "http://127.0.0.1:9/",
            "PYTHONPATH": OWN_PATH,
        }
    )
    yield one
    one.stop()


def until(job, ready, seconds=120):
    end = time.monotonic() + seconds
    while time.monotonic() < end:
        job.refresh_from_db()
        if ready(job):
            return
        time.sleep(0.02)
    raise AssertionError(f"{job} after {seconds} s: {job.error}")


@pytest.fixture
def kills(request):
    """How often each kind of work is killed."""
    return 10 if request.config.getoption("--slow") else 1


def orphans():
    """Processes of ours whose parent is gone."""
    found = []
    for entry in Path("/proc").iterdir():
        try:
            if entry.name.isdigit():
                line = (entry / "cmdline").read_text()
                parent = int((entry / "stat").read_text().rsplit(")", 1)[1].split()[1])
                if parent == 1 and ("multiprocessing" in line or "vinter." in line):
                    found.append(line.replace("\0", " "))
        except (OSError, IndexError, ValueError):
            continue
    return found


def no_orphan(before, seconds=5):
    """No process of ours lost its parent since ``before`` (others may run on this machine)."""
    end = time.monotonic() + seconds
    while (left := set(orphans()) - before) and time.monotonic() < end:
        time.sleep(0.1)
    assert not left


def torn(media):
    """Drafts and parts that were left where a finished file is looked for by its name."""
    return [p for p in Path(media).rglob("*") if p.is_file() and p.name.endswith(".part")]


class Work:
    """A kind of long work: how it is begun (returns its job), what its result is, how to begin afresh."""

    def __init__(self, begin, result, afresh=lambda turn: None):
        self.begin, self.result, self.afresh = begin, result, afresh


def stacking(desk, take, tmp):
    def begin():
        desk.post(reverse("stack-new", args=[take.pk]))
        return Job.objects.latest("id")

    def afresh(turn):
        if turn % 2:
            shutil.rmtree(take.work, ignore_errors=True)  # nothing kept: the frames are read again

    return Work(
        begin, lambda job: tifffile.imread(Stack.objects.get(pk=job.subject).picture).tobytes(), afresh
    )


def measuring(desk, take, tmp):
    def afresh(turn):
        take.frame_set.update(measure=None, error="")
        shutil.rmtree(take.previews)

    def begin():
        desk.post(reverse("measure", args=[take.pk]))
        return Job.objects.latest("id")

    def result(job):
        previews = {p.name: p.read_bytes() for p in sorted(take.previews.glob("*.jpg"))}
        return repr([(f.name, f.measure, f.error) for f in take.frame_set.all()]), previews

    return Work(begin, result, afresh)


def filming(desk, take, tmp):
    def begin():
        desk.post(reverse("film", args=[take.pk]))
        return Job.objects.latest("id")

    def result(job):
        """Its pictures; the file itself carries a number drawn anew each time."""
        film, pictures = cv2.VideoCapture(str(take.film)), []
        while (read := film.read())[0]:
            pictures.append(read[1].tobytes())
        return pictures

    return Work(begin, result, lambda turn: take.film.unlink(missing_ok=True))


def exporting(desk, take, tmp):
    stack = Stack.objects.filter(take=take).first()
    desk.post(reverse("finish-new", args=[stack.pk]))
    finish = Finish.objects.latest("id")

    def begin():
        desk.post(reverse("export", args=[finish.pk]), {"kind": "tif", "width": ""})
        return Job.objects.latest("id")

    def result(job):
        export = Export.objects.get(pk=job.subject)
        assert export.ready and export.made_width == 800
        return export.path.read_bytes(), export.small.read_bytes()

    return Work(begin, result)


@pytest.mark.long(
    "web server, worker and pool are killed and a whole job is done again, for each kind of work"
)
@pytest.mark.parametrize("kind", [stacking, measuring, filming, exporting])
@pytest.mark.django_db(transaction=True)
def test_killed_at_random_the_result_is_the_same(desk, request, served, settings, kills, kind):
    take = request.getfixturevalue("small_stack" if kind is exporting else "small_take")
    take = take.take if kind is exporting else take
    dice = random.Random(20270610)
    work, before = kind(desk, take, None), set(orphans())
    work.afresh(1)
    first = work.begin()
    until(first, lambda j: j.state == Job.RUNNING or not j.active)
    started = time.monotonic()
    until(first, lambda j: not j.active)
    length = max(time.monotonic() - started, 0.3)
    assert first.state == Job.DONE, first.error
    wanted, hit = work.result(first), []
    for turn in range(kills):
        work.afresh(turn)
        job = work.begin()
        until(job, lambda j: j.state == Job.RUNNING or not j.active)
        time.sleep(dice.random() * 0.8 * length)
        what = ("web", "worker", "pool")[(turn + dice.randrange(2)) % 3]
        for pid in (served.pids(what) or served.pids("worker"))[:1]:  # a film has no pool
            os.kill(pid, signal.SIGKILL)
            hit.append(what)
        if what == "web":
            served.process.wait()
            served.start()
        until(job, lambda j: not j.active)
        assert job.state == Job.DONE, (turn, what, job.error)
        assert work.result(job) == wanted, (turn, what)
        assert not torn(settings.MEDIA_ROOT) and served.answers() == 200
        no_orphan(before)
    assert len(hit) >= kills - 1


@pytest.mark.long("a server is started, killed and started again")
@pytest.mark.django_db(transaction=True)
def test_an_upload_goes_on_after_the_server_was_killed(desk, small_take, served, settings, kills):
    """As the page does it: in parts, and after a broken connection from where it broke."""
    data = small_take.frame_set.first().path.read_bytes() + b"\0" * 200_000
    dice, session = random.Random(7), desk.cookies["sessionid"].value
    token, before = "a" * 32, set(orphans())

    def ask(address, body=None):
        request = urllib.request.Request(
            f"http://127.0.0.1:{served.port}{address}",
            body,
            {
                "Cookie": f"sessionid={session}; csrftoken={token}",
                "X-CSRFToken": token,
                "Referer": f"http://127.0.0.1:{served.port}/",
                "Content-Type": "application/octet-stream",
            },
        )
        with urllib.request.urlopen(request, timeout=20) as answer:
            return json.loads(answer.read())

    for turn in range(kills):
        content = data + bytes([turn])
        address = reverse("upload", args=[small_take.pk]) + f"?id={turn:08x}"
        size, killed, done = len(content), False, None
        while done is None:
            try:
                here = ask(address)["offset"]
                part = content[here : here + 100_000]
                if not killed and here >= size * dice.random():
                    threading.Timer(0.02 * dice.random(), served.process.kill).start()
                    killed = True
                said = ask(f"{address}&name=n{turn}.dng&size={size}&offset={here}", part)
                done = said if "name" in said else None
            except (OSError, http.client.HTTPException):
                served.process.wait()
                served.start()
        assert killed and done == {"name": f"n{turn}.dng", "duplicate": False}
        assert small_take.frame_set.get(name=f"n{turn}.dng").path.read_bytes() == content
        assert not torn(settings.MEDIA_ROOT)
        if served.process.poll() is not None:
            served.process.wait()
            served.start()
        no_orphan(before)
