"""An archive on its way in: parsed in a limited child, stored in short transactions, and nothing left of one
that was killed."""

import json
import os
import resource
import signal
import sqlite3
import subprocess
import sys
import threading
import time
import zipfile
from pathlib import Path
from urllib.parse import urlencode

import pytest
from django.conf import settings
from django.urls import reverse

from vinter.core.errors import BadInput
from vinter.web.archive import parsing, underway
from vinter.web.archive.models import Archive
from vinter.web.archive.reading import read_archive
from vinter.web.archive.tasks import bring_in
from vinter.web.archive.writing import write_archive
from vinter.web.bin.models import BinEntry
from vinter.web.gear.models import Phone
from vinter.web.jobs.models import Job
from vinter.web.shots.models import Shot
from vinter.web.sites.models import Reading, Site
from vinter.web.takes.models import Frame, Take


def state(user):
    return {
        "sites": Site.everything.filter(owner=user).count(),
        "shots": Shot.everything.filter(owner=user).count(),
        "takes": Take.everything.filter(owner=user).count(),
        "frames": Frame.everything.filter(take__owner=user).count(),
        "phones": Phone.objects.filter(owner=user).count(),
        "readings": Reading.objects.filter(site__owner=user).count(),
        "bin": BinEntry.objects.filter(owner=user).count(),
    }


def files_of(user):
    folder = Path(settings.MEDIA_ROOT) / str(user.pk)
    return (
        sorted(str(p.relative_to(folder)) for p in folder.rglob("*") if p.is_file())
        if folder.is_dir()
        else []
    )


@pytest.fixture
def home(nerea, shot, tmp_path):
    """An archive of a home with a take of two frames, and many readings."""
    take = Take.objects.create(owner=nerea, shot=shot, kind=Take.UPLOADED, title="One")
    take.folder.mkdir(parents=True, exist_ok=True)
    for i in range(2):
        (take.folder / f"{i}.dng").write_bytes(b"raw" * 1000)
        Frame.objects.create(take=take, name=f"{i}.dng", stored=f"{i}.dng", size=3000, digest=f"{i}")
    write_archive(nerea, tmp_path / "home.zip")
    return tmp_path / "home.zip"


def swollen(source, out, count):
    """The archive with its first shot's site read ``count`` times."""
    with zipfile.ZipFile(source) as old, zipfile.ZipFile(out, "w") as new:
        site = json.loads(old.read("sites.geojson"))["features"][0]["id"]
        for name in old.namelist():
            data = old.read(name)
            if name == "readings.json":
                row = {"site": site, "day": "2026-05-01", "zenith": 21.3, "note": "by the meter"}
                data = json.dumps([{"id": i + 1, **row} for i in range(count)])
            new.writestr(name, data)
    return out


@pytest.mark.django_db(transaction=True)
def test_others_write_while_a_large_archive_comes_in(home, stranger, tmp_path, monkeypatch):
    large = swollen(home, tmp_path / "large.zip", 3000)
    done, waits, errors, held = threading.Event(), [], [], []
    end = underway.Batches.end

    def timed(self, good=True):
        if self._open is not None:
            end(self, good)
            held.append(time.monotonic() - self._began)

    monkeypatch.setattr(underway.Batches, "end", timed)

    def write():
        """Another program that takes the write lock again and again, and how long it waits for it."""
        other = sqlite3.connect(settings.DATABASES["default"]["NAME"], timeout=20, isolation_level=None)
        while not done.is_set():
            began = time.monotonic()
            try:
                other.execute("BEGIN IMMEDIATE")
                waits.append(time.monotonic() - began)
                other.execute("COMMIT")
            except sqlite3.Error as error:
                errors.append(error)
            time.sleep(0.05)

    writer = threading.Thread(target=write)
    writer.start()
    try:
        read_archive(large, stranger)
    finally:
        done.set()
        writer.join()
    assert Reading.objects.filter(site__owner=stranger).count() == 3000
    assert max(held) < 1.0  # s for which the write lock is held
    assert not errors and len(waits) > 3 and max(waits) < 4.0, (errors, max(waits))


@pytest.mark.django_db(transaction=True)
def test_nothing_is_seen_of_it_before_all_is_in(home, stranger, monkeypatch):
    seen = []
    real = underway.Underway.show

    def show(self):
        seen.append([model.objects.filter(owner=stranger).count() for model in (Site, Take)])
        real(self)

    monkeypatch.setattr(underway.Underway, "show", show)
    monkeypatch.setattr(underway, "HELD_SECONDS", 0.0)  # every row a transaction of its own
    read_archive(home, stranger)
    assert seen == [[0, 0]]
    assert (
        Site.objects.filter(owner=stranger).exists()
        and Take.objects.get(owner=stranger).frame_set.count() == 2
    )
    assert not BinEntry.objects.filter(owner=stranger).exists()


@pytest.mark.django_db(transaction=True)
@pytest.mark.parametrize("row", [1, 4, 7])
def test_what_fails_in_mid_import_leaves_nothing(home, stranger, monkeypatch, row):
    monkeypatch.setattr(underway, "HELD_SECONDS", 0.0)
    before, files, count = state(stranger), files_of(stranger), [0]
    real = underway.Batches.step

    def step(self):
        count[0] += 1
        if count[0] > row:
            raise OSError(28, "no space left")
        real(self)

    monkeypatch.setattr(underway.Batches, "step", step)
    with pytest.raises(OSError, match="no space"):
        read_archive(home, stranger)
    left = files_of(stranger)
    assert state(stranger) == before and left == files


KILLED = """
import os, sys, django
django.setup()
from pathlib import Path
from django.contrib.auth.models import User
from vinter.web.archive import underway
from vinter.web.archive.reading import read_archive
underway.HELD_SECONDS = 0.0
count, real = [0], underway.Batches.step
def step(self):
    count[0] += 1
    if count[0] > int(sys.argv[3]):
        os.kill(os.getpid(), 9)
    real(self)
underway.Batches.step = step
read_archive(Path(sys.argv[1]), User.objects.get(username=sys.argv[2]))
"""


@pytest.mark.django_db(transaction=True)
def test_one_that_was_killed_is_undone_by_the_next(home, stranger):
    before = state(stranger)
    environment = {
        **os.environ,
        "VINTER_DB": str(settings.DATABASES["default"]["NAME"]),
        "VINTER_HOME": str(settings.HOME),
        "PYTHONPATH": str(Path(__file__).parents[2] / "src"),
    }
    command = [sys.executable, "-c", KILLED, str(home), stranger.get_username(), "6"]
    assert subprocess.run(command, env=environment, check=False).returncode == -signal.SIGKILL
    assert state(stranger) != before and not Site.objects.filter(owner=stranger).exists()
    read_archive(home, stranger)
    once = state(stranger)
    assert once["takes"] == 1 and once["frames"] == 2 and once["bin"] == 0
    assert once["shots"] == Shot.objects.filter(owner=stranger).count() == 1


@pytest.mark.django_db(transaction=True)
def test_killed_after_all_was_shown_it_stays(home, stranger, monkeypatch):
    monkeypatch.setattr(underway.Underway, "over", lambda self: None)
    read_archive(home, stranger)
    shown = state(stranger)
    folder = Path(settings.MEDIA_ROOT) / str(stranger.pk) / "archives"
    assert (folder / underway.NOTES).is_file()
    underway.undo(folder)
    assert state(stranger) == shown and not (folder / underway.NOTES).exists()


@pytest.mark.django_db(transaction=True)
def test_one_at_a_time(home, stranger):
    folder = Path(settings.MEDIA_ROOT) / str(stranger.pk) / "archives"
    with underway.alone(folder), pytest.raises(BadInput, match="another archive is being brought in"):
        read_archive(home, stranger)
    read_archive(home, stranger)


def test_lists_that_would_fill_the_memory_are_refused_without_filling_it(tmp_path, monkeypatch):
    """A small ZIP that is 52 MB of empty lists: parsed they would take over 1 GB."""
    monkeypatch.setattr(parsing, "MEMORY_BYTES", int(0.9 * 2**30))
    path = tmp_path / "a.zip"
    with (
        zipfile.ZipFile(path, "w", zipfile.ZIP_DEFLATED, compresslevel=1) as z,
        z.open("takes.json", "w") as out,
    ):
        out.write(b"[[]")
        for _ in range(50):
            out.write(b",[]" * 350_000)
        out.write(b"]")
    before = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss
    with pytest.raises(BadInput, match=r"a\.zip: reading it needs more than 0\.9 GB"):
        parsing.parsed(path, tmp_path, ["takes.json"])
    assert resource.getrusage(resource.RUSAGE_SELF).ru_maxrss - before < 50_000  # kB


@pytest.mark.parametrize(
    ("text", "words"),
    [
        ("[" * 100_000, "takes.json cannot be read"),
        ('[{"id": NaN}]', "NaN is no number"),
        ('{"id": 1}', "is no list of rows with ids"),
        ('[{"id": "1"}]', "is no list of rows with ids"),
    ],
)
def test_lists_that_are_none_are_named(tmp_path, text, words):
    with zipfile.ZipFile(tmp_path / "a.zip", "w") as z:
        z.writestr("takes.json", text)
    with pytest.raises(BadInput, match=r"a\.zip: takes\.json") as refused:
        parsing.parsed(tmp_path / "a.zip", tmp_path, ["takes.json"])
    assert words in str(refused.value)


@pytest.mark.django_db
def test_an_archive_of_any_size_comes_in_parts(home, stranger, client, tools):
    client.force_login(stranger)
    data, address = home.read_bytes(), reverse("archive-part")
    query = {"id": "0a1b2c3d", "name": "home.zip", "size": len(data)}

    def send(offset, body):
        asked = urlencode({**query, "offset": offset})
        return client.post(f"{address}?{asked}", body, content_type="application/octet-stream").json()

    third = len(data) // 3
    assert send(0, data[:third]) == {"offset": third}
    assert client.get(address, {"id": query["id"]}).json() == {"offset": third}
    assert send(0, data[:third]) == {"offset": third}  # a part that comes twice is not added
    assert send(third, data[third : 2 * third]) == {"offset": 2 * third}
    assert send(2 * third, data[2 * third :]) == {"led": reverse("archive")}
    waiting = Archive.objects.get(owner=stranger)
    assert waiting.path.read_bytes() == data and Job.objects.get(subject=waiting.pk).kind == "import-archive"
    bring_in(waiting.pk, tools)
    assert Take.objects.filter(owner=stranger).count() == 1

    query["id"], query["size"] = "ffffffff", 9
    assert "home.zip: not an archive of Vinter" in send(0, b"PK nothin")["error"]
    assert client.get(address, {"id": "../../x"}).status_code == 400
    assert client.get(address, {"id": "ffffffff"}).json() == {"offset": 0}
