"""Shared fixtures: people, their things, and a worker process on the test database."""

import os
import shutil
import subprocess
import sys
from copy import deepcopy
from pathlib import Path

import pytest

sys.path.insert(0, str(Path(__file__).parent))


def pytest_addoption(parser):
    parser.addoption("--slow", action="store_true", help="ten kills of every kind of work instead of one")


LONG = ("test_kills", "test_hostile_addresses", "test_archive", "test_whole_path", "test_stack")


def pytest_collection_modifyitems(items):
    """Files that take long come first, so that no process is left alone with them at the end."""

    def place(item):
        return LONG.index(item.path.stem) if item.path.stem in LONG else len(LONG)

    items.sort(key=place)


LONG_SECONDS = 15.0


@pytest.hookimpl(wrapper=True)
def pytest_runtest_makereport(item, call):
    report = yield
    reason = item.get_closest_marker("long")
    report.user_properties.append(("long", reason.args[0] if reason else ""))
    return report


def pytest_terminal_summary(terminalreporter):
    """What took long, each with its reason; a test without one wants to be shorter."""
    calls = [r for r in terminalreporter.stats.get("passed", []) if r.when == "call"]
    slow = sorted((r for r in calls if r.duration > LONG_SECONDS), key=lambda r: -r.duration)
    for r in slow:
        reason = dict(r.user_properties).get("long") or "NO REASON GIVEN"
        terminalreporter.write_line(f"{r.duration:6.1f} s  {r.nodeid}: {reason}")


@pytest.fixture(scope="session", autouse=True)
def assets():
    """Styles and scripts under their hashed names, as when serving."""
    from vinter.web.assets import collect

    collect()


@pytest.fixture(autouse=True)
def no_files_of_other_tests(request):
    """Rows are rolled back after a test; so are the files that belonged to them."""
    yield
    if {"db", "transactional_db"} & set(request.fixturenames):
        from django.conf import settings

        shutil.rmtree(settings.MEDIA_ROOT, ignore_errors=True)


@pytest.fixture(autouse=True)
def quick_passwords(settings):
    """Passwords are kept by a hash that takes no time; what is made to be slow is not tried over and over."""
    settings.PASSWORD_HASHERS = ["django.contrib.auth.hashers.MD5PasswordHasher"]


@pytest.fixture(scope="session", autouse=True)
def static_files(assets):
    """Every client of a test builds the middleware anew; the files that it serves are looked for once."""
    from whitenoise.middleware import WhiteNoiseMiddleware

    look, found = WhiteNoiseMiddleware.add_files, {}

    def add_files(self, root, prefix=None):
        if (root, prefix) not in found:
            look(self, root, prefix)
            found[root, prefix] = dict(self.files)
        self.files.update(found[root, prefix])

    with pytest.MonkeyPatch.context() as patch:
        patch.setattr(WhiteNoiseMiddleware, "add_files", add_files)
        yield


@pytest.fixture(scope="session")
def seeded():
    from kept import KeptRows

    from vinter.web.demo.seed import seed

    return KeptRows(seed)


@pytest.fixture
def nerea(django_user_model, seeded):
    """The demo photographer with her sites, phones and one shot."""
    seeded.put()
    return django_user_model.objects.get(username="nerea")


@pytest.fixture(scope="session")
def unpacked(tmp_path_factory):
    """The pictures of the demo's past are unpacked once."""
    from kept import kept_files

    from vinter.web.demo import past

    with pytest.MonkeyPatch.context() as patch:
        patch.setattr(past, "unpack", kept_files(past.unpack, tmp_path_factory.mktemp("past")))
        yield


@pytest.fixture
def past(nerea, unpacked):
    """The demo photographer with her four nights."""
    from vinter.web.demo.past import add_past

    add_past(nerea)
    return nerea


@pytest.fixture
def stranger(django_user_model):
    return django_user_model.objects.create_user("stranger", password="a long password")


@pytest.fixture
def shot(nerea):
    from vinter.web.shots.models import Shot

    return Shot.objects.get(owner=nerea)


@pytest.fixture
def small_sensor(shot):
    """Her phone's main lens before a sensor of 3 megapixels of the same size: simulated frames take a quarter
    of the time."""
    from dataclasses import replace

    shot.phone.store_lens(replace(shot.phone.core().lens("main"), width=2016, height=1512, pitch=4.0))
    return shot.phone


@pytest.fixture(scope="session")
def measured_frames(tmp_path_factory):
    """Five small frames of the independent generator with pictures of them, and their measures by name; made
    once."""
    from starfield import Field, make

    from vinter.web.takes.work import measure_file

    folder = tmp_path_factory.mktemp("frames")
    make(folder, Field(count=5, width=800, height=600, stars=300, focal=600.0, streak=2))
    (folder / "looks").mkdir()
    paths = sorted(folder.glob("*.dng"))
    return folder, {p.name: measure_file(p, p.name, folder / "looks") for p in paths}


@pytest.fixture
def no_blind_search(monkeypatch):
    """The generator's stars are of no real sky: the search through all lenses, which takes seconds, would
    find none."""
    monkeypatch.setattr("vinter.core.stack.examination.solve_blind", lambda *given: None)


@pytest.fixture
def small_take(nerea, shot, measured_frames, no_blind_search):
    """A take of small frames made by the independent generator, measured."""
    from vinter.web.takes.models import Frame, Take
    from vinter.web.takes.tasks import _compare

    folder, measures = measured_frames
    take = Take.objects.create(owner=nerea, shot=shot, kind=Take.UPLOADED, title="Small frames")
    shutil.rmtree(take.folder, ignore_errors=True)  # of an earlier test whose rows were rolled back
    shutil.copytree(folder, take.folder)
    for name, measure in measures.items():
        size = (take.folder / name).stat().st_size
        Frame.objects.create(take=take, name=name, stored=name, size=size, digest=name, measure=dict(measure))
    _compare(take)
    return take


@pytest.fixture
def tools():
    """What a job gets, with an executor that works at once; ``progress.told`` keeps what was told."""
    from inline import Inline

    from vinter.web.jobs.registry import JobContext

    told = []
    made = JobContext(Inline(), lambda label, share: told.append((label, share)), lambda: False)
    made.progress.told = told
    return made


@pytest.fixture
def worked(tools):
    """Does what waits in the queue, in this process, as a worker would; returns the jobs."""
    from vinter.web.jobs.models import Job
    from vinter.web.jobs.registry import handler_of

    def do():
        done = []
        while (job := Job.objects.filter(state=Job.QUEUED).order_by("id").first()) is not None:
            handler_of(job.kind)(job.subject, tools)
            Job.objects.filter(pk=job.pk).update(state=Job.DONE)
            done.append(job)
        return done

    return do


_STACKED = {}


@pytest.fixture
def small_stack(small_take, tools, tmp_path_factory):
    """The small frames, stacked; the real work is done once, later tests get a copy of what it gave."""
    from vinter.web.stacks.models import Stack
    from vinter.web.stacks.tasks import run_stack

    one = Stack.objects.create(
        owner=small_take.owner, take=small_take, frames=[f.pk for f in small_take.frame_set.all()]
    )
    shutil.rmtree(one.folder, ignore_errors=True)
    if not _STACKED:
        run_stack(one.pk, tools)
        one.refresh_from_db()
        kept = tmp_path_factory.mktemp("stacked")
        shutil.copytree(one.folder, kept / "stack")
        shutil.copytree(small_take.work, kept / "work")
        _STACKED.update(folder=kept, report=one.report)
        return one
    shutil.copytree(_STACKED["folder"] / "stack", one.folder)
    shutil.copytree(_STACKED["folder"] / "work", small_take.work, dirs_exist_ok=True)
    one.report = deepcopy(_STACKED["report"])
    one.save(update_fields=["report"])
    return one


@pytest.fixture
def desk(client, nerea):
    """A browser in which the demo photographer is signed in."""
    client.force_login(nerea)
    return client


@pytest.fixture
def mill(nerea):
    """Her site at the tide mill."""
    from vinter.web.sites.models import Site

    return Site.objects.get(owner=nerea, name="Tide mill")


OWN_PATH = ":".join(str(Path(__file__).parents[1] / name) for name in ("tests/unsolved", "src"))


class WorkerProcess:
    """The real worker, as its own process on the test database; it does not search the sky for a generator's
    stars."""

    def __init__(self):
        from django.conf import settings
        from django.db import connection

        self.environment = {
            **os.environ,
            "VINTER_DB": str(connection.settings_dict["NAME"]),
            "VINTER_HOME": str(settings.HOME),
            "VINTER_WORKERS": "2",
            "VINTER_LEASE": "2",
            "PYTHONPATH": OWN_PATH,
        }
        self.process = None

    def start(self):
        self.process = subprocess.Popen(
            [sys.executable, "-m", "vinter.web.jobs.worker"], env=self.environment
        )
        return self

    def kill(self):
        """kill -9."""
        self.process.kill()
        self.process.wait()

    def stop(self):
        if self.process and self.process.poll() is None:
            self.process.terminate()
            self.process.wait(10)


@pytest.fixture
def worker(transactional_db):
    keeper = WorkerProcess()
    yield keeper
    keeper.stop()
