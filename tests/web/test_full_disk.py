"""A disk of 60 MB that fills at every step: a plain sentence, nothing torn, what was there is kept."""

import os
import shutil
import subprocess
from contextlib import contextmanager
from pathlib import Path

import pytest
from desk import upload
from django.db import OperationalError, connection
from django.urls import reverse

from vinter.core.formats.whole import DISK_FULL, check_room, no_room, whole
from vinter.web.finish.models import Export, Finish
from vinter.web.finish.tasks import export_finish
from vinter.web.keeping import backup
from vinter.web.stacks.models import Stack
from vinter.web.stacks.tasks import run_stack
from vinter.web.takes.models import Take
from vinter.web.takes.tasks import film_take, measure_take, shoot_take

HTML = {"headers": {"Accept": "text/html"}}


class SmallDisk:
    """A disk in memory, filled up by one file."""

    def __init__(self, folder):
        self.folder, self.filler = folder, folder / "filler"

    def fill(self, leave=0):
        with self.filler.open("wb") as file:
            os.posix_fallocate(file.fileno(), 0, shutil.disk_usage(self.folder).free - leave)

    def torn(self):
        return [p for p in self.folder.rglob("*") if ".part" in p.name]

    @contextmanager
    def full(self, leave=0):
        before = {p: p.read_bytes() for p in self.folder.rglob("*") if p.is_file()}
        self.fill(leave)
        try:
            yield
        finally:
            self.filler.unlink()
        assert not self.torn()
        assert all(p.read_bytes() == data for p, data in before.items() if p.exists())


@pytest.fixture
def disk(tmp_path, settings, monkeypatch):
    folder = tmp_path / "disk"
    folder.mkdir()
    mounted = subprocess.run(
        ["mount", "-t", "tmpfs", "-o", "size=60m", "vinter", str(folder)], capture_output=True, check=False
    )
    if mounted.returncode:
        pytest.skip("this user may not mount a small disk")
    settings.HOME, settings.MEDIA_ROOT = folder, folder / "media"
    monkeypatch.setenv("VINTER_SPARE_MB", "0")
    yield SmallDisk(folder)
    subprocess.run(["umount", "-l", str(folder)], check=True)


@pytest.fixture
def raises_full():
    @contextmanager
    def expected():
        with pytest.raises(OSError) as caught:
            yield
        assert no_room(caught.value)

    return expected


def test_the_spare_space_stays_free_for_every_writer(disk, monkeypatch, raises_full):
    monkeypatch.setenv("VINTER_SPARE_MB", "20")
    with whole(disk.folder / "a.txt") as draft:
        draft.write_text("here")
    disk.fill(19 * 2**20)
    with raises_full(), whole(disk.folder / "a.txt") as draft:
        draft.write_text("gone")
    with raises_full():
        check_room(disk.folder)
    assert (disk.folder / "a.txt").read_text() == "here" and not disk.torn()


@pytest.mark.django_db
def test_frames_on_a_full_disk(disk, desk, nerea, shot, tools, raises_full, small_take):
    frame = small_take.frame_set.first()
    data = frame.path.read_bytes()
    take = Take.objects.create(owner=nerea, shot=shot, kind=Take.UPLOADED, title="More")
    with disk.full(leave=50_000):
        answer = desk.post(reverse("upload", args=[take.pk]), {"file": upload("a.dng", data)})
        assert answer.status_code == 507 and DISK_FULL in answer.json()["error"]
        part = reverse("upload", args=[take.pk]) + f"?id=abcdef0123&name=a.dng&size={len(data)}&offset=0"
        sent = desk.post(part, data[:1000], content_type="application/octet-stream")
        assert sent.status_code == 507 and DISK_FULL in sent.json()["error"]
    assert not take.frame_set.exists()
    assert desk.post(reverse("upload", args=[take.pk]), {"file": upload("a.dng", data)}).status_code == 200
    with disk.full(), raises_full():
        measure_take(take.pk, tools)
    assert take.frame_set.get().error == "" and take.frame_set.get().measure is None  # not the frame's fault
    measure_take(take.pk, tools)
    assert take.frame_set.get().measure
    with disk.full(leave=200_000), raises_full():
        film_take(small_take.pk, tools)
    assert not small_take.film.exists()
    simulated = Take.objects.create(owner=nerea, shot=shot, kind=Take.SIMULATED, title="Simulated")
    with disk.full(leave=200_000), raises_full():
        shoot_take(simulated.pk, tools)


@pytest.mark.django_db
def test_stack_finish_and_downloads_on_a_full_disk(disk, desk, nerea, tools, raises_full, small_stack):
    again = Stack.objects.create(owner=nerea, take=small_stack.take, frames=small_stack.frames)
    shutil.rmtree(small_stack.take.work)
    for leave in (
        0,
        3 * 2**20,
        7 * 2**20,
    ):  # while frames are read, while it is combined, while it is written
        with disk.full(leave), raises_full():
            run_stack(again.pk, tools)
    assert not (again.folder / "stack.tif").exists()
    for which in ("fits", "dng", "png"):
        with disk.full(leave=100_000):
            answer = desk.get(reverse("stack-file", args=[small_stack.pk, which]), **HTML)
            assert answer.status_code == 507 and "disk is full" in answer.content.decode()
        whole_file = desk.get(reverse("stack-file", args=[small_stack.pk, which]))
        assert whole_file.status_code == 200 and len(b"".join(whole_file.streaming_content)) > 100_000
    with disk.full():
        painted = desk.post(
            reverse("paint", args=[small_stack.pk]),
            {"strokes": '[{"points": [[9, 9]], "radius": 30, "sky": true}]'},
            **HTML,
        )
        assert painted.status_code == 507
    desk.post(reverse("finish-new", args=[small_stack.pk]))
    finish = Finish.objects.get()
    export = Export.objects.create(owner=nerea, finish=finish, kind="tif", recipe=finish.recipe)
    with disk.full(leave=50_000), raises_full():
        export_finish(export.pk, tools)
    export.refresh_from_db()
    assert not export.ready and not export.path.exists()
    export_finish(export.pk, tools)
    export.refresh_from_db()
    assert export.ready
    with disk.full(leave=100_000), raises_full():
        backup(disk.folder / "all.zip")
    assert not (disk.folder / "all.zip").exists()


@pytest.mark.django_db
def test_a_large_upload_is_refused_before_it_is_taken_in(disk, desk, small_take):
    with disk.full(leave=2**20):
        answer = desk.post(
            reverse("upload", args=[small_take.pk]), {"file": upload("a.dng", b"II*\0" + b"x" * 3 * 2**20)}
        )
        assert answer.status_code == 507 and answer.content.decode() == DISK_FULL
        assert not list(Path(disk.folder / "incoming").glob("*"))


@pytest.mark.django_db(transaction=True)
def test_a_database_without_room_says_so(desk, mill, settings):
    """The pages of the file are counted out, as on a disk without room."""
    desk.raise_request_exception = False
    with connection.cursor() as cursor:
        cursor.execute("VACUUM")  # no free pages of earlier tests
        pages = cursor.execute("PRAGMA page_count").fetchone()[0]
        cursor.execute(f"PRAGMA max_page_count = {pages}")
    try:
        answer = None
        for i in range(40):
            data = {"day": "2027-01-02", "zenith": "21.4", "note": f"{i} " + "x" * 190}
            answer = desk.post(reverse("site-reading", args=[mill.pk]), data, **HTML)
            if answer.status_code != 302:
                break
        assert answer.status_code == 507 and "disk is full" in answer.content.decode()
    finally:
        with connection.cursor() as cursor:
            cursor.execute("PRAGMA max_page_count = 1073741823")


def test_a_full_disk_outside_a_view_is_said_too(client, monkeypatch):
    def fails(*args, **kwargs):
        raise OperationalError("database or disk is full")

    monkeypatch.setattr("django.contrib.sessions.middleware.SessionMiddleware.process_request", fails)
    client.raise_request_exception = False
    answer = client.get("/sign-in/")
    assert answer.status_code == 507 and answer.content.decode() == DISK_FULL
