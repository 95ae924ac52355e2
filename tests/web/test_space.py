"""Space: what is deleted can be put back for a week, what may be stored has an end, what was left behind is
swept."""

import io
import json
import os
import re
import shutil
import threading
import time
import zipfile
from datetime import timedelta
from pathlib import Path

import pytest
from desk import said, upload
from django.urls import reverse
from django.utils import timezone

from vinter.web import quota
from vinter.web.bin.models import KEPT_DAYS, BinEntry, binnable_models, purge
from vinter.web.file_state import size_of, state_of
from vinter.web.finish.models import Export, Finish
from vinter.web.finish.tasks import export_finish
from vinter.web.jobs import chores
from vinter.web.jobs.models import Job
from vinter.web.shots.models import Shot
from vinter.web.space.usage import left_behind, sweep, usage
from vinter.web.stacks.models import Stack
from vinter.web.takes.models import Frame, Take


def counts():
    return {m.__name__: (m.objects.count(), m.everything.count()) for m in binnable_models()}


def put(desk, kind, row):
    """Press the button; the address of the page that follows."""
    answer = desk.post(reverse("bin-put", args=[kind, row.pk]))
    assert answer.status_code == 302
    return answer["Location"]


@pytest.fixture
def finished(desk, small_stack, tools):
    """A finish of the small stack with an export."""
    desk.post(reverse("finish-new", args=[small_stack.pk]))
    finish = Finish.objects.get()
    export = Export.objects.create(owner=finish.owner, finish=finish, kind="jpg", recipe=finish.recipe)
    export_finish(export.pk, tools)
    return finish


@pytest.mark.django_db
def test_a_site_goes_with_all_that_came_of_it_and_comes_back_whole(desk, mill, finished):
    before = counts()
    page = said(desk.get(put(desk, "site", mill)))
    assert "Moved to the bin: site Tide mill, with everything made from it." in page and "Undo" in page
    assert not Shot.objects.exists() and not Take.objects.exists() and not Export.objects.exists()
    assert desk.get(reverse("site", args=[mill.pk])).status_code == 404
    assert desk.get(reverse("finish", args=[finished.pk])).status_code == 404
    assert "Small frames" not in said(desk.get(reverse("ledger")))
    entry = BinEntry.objects.get()
    assert desk.post(reverse("bin-restore", args=[entry.pk]))["Location"] == reverse("site", args=[mill.pk])
    assert counts() == before and not BinEntry.objects.exists()
    assert finished.export_set.get().ready


@pytest.mark.django_db
def test_what_was_deleted_on_its_own_brings_back_what_it_is_nothing_without(desk, finished):
    take = finished.stack.take
    put(desk, "export", finished.export_set.get())
    put(desk, "take", take)
    first, last = BinEntry.objects.order_by("id")
    desk.post(reverse("bin-restore", args=[first.pk]))  # the export: its take must come too
    assert (
        Export.objects.count() == Take.objects.count() == 1
        and not BinEntry.objects.filter(pk=last.pk).exists()
    )


@pytest.mark.django_db
def test_emptying_the_bin_deletes_rows_and_files_for_good(desk, finished):
    take, stack, export = finished.stack.take, finished.stack, finished.export_set.get()
    folders = [take.folder, stack.folder]
    put(desk, "stack", stack)
    put(desk, "take", take)
    assert all(f.exists() for f in folders)
    desk.post(reverse("bin-empty", args=[BinEntry.objects.get(label__startswith="take").pk]))
    assert not any(f.exists() for f in folders) and not export.path.exists() and not export.small.exists()
    for model in (Take, Frame, Stack, Finish, Export):
        assert not model.everything.exists()
    desk.post(reverse("bin-empty", args=[0]))
    assert not BinEntry.objects.exists() and Shot.objects.exists()


@pytest.mark.django_db
def test_after_a_week_the_bin_is_emptied_by_itself(desk, small_take):
    put(desk, "take", small_take)
    assert purge() == 0
    BinEntry.objects.update(created=timezone.now() - timedelta(days=KEPT_DAYS, minutes=1))
    chores.do_chores()
    assert not Take.everything.exists() and not small_take.folder.exists()


@pytest.mark.django_db
def test_frames_left_out_are_deleted_and_come_back_by_undo_or_by_a_new_upload(desk, small_take):
    frames = list(small_take.frame_set.all())
    refused = desk.post(reverse("left-out-delete", args=[small_take.pk]), headers={"Accept": "text/html"})
    assert refused.status_code == 400 and "every frame is used" in refused.content.decode()
    for frame in frames[:2]:
        desk.post(reverse("decide", args=[frame.pk]), {"decision": "drop"})
    page = said(desk.post(reverse("left-out-delete", args=[small_take.pk]), follow=True))
    assert (
        "Moved to the bin: 2 frames of Small frames" in page
        and "3 of 3 frames go into the stack"
        in page.replace("</output>", "").replace('<output id="stackable">', "")
    )
    data = frames[0].path.read_bytes()
    import hashlib

    Frame.everything.filter(pk=frames[0].pk).update(digest=hashlib.sha256(data).hexdigest())
    sent = desk.post(reverse("upload", args=[small_take.pk]), {"file": upload("again.dng", data)})
    assert sent.json()["duplicate"] and small_take.frame_set.count() == 4
    desk.post(reverse("bin-restore", args=[BinEntry.objects.get().pk]))
    assert small_take.frame_set.count() == 5


@pytest.mark.django_db
def test_work_on_what_is_deleted_is_cancelled(desk, small_take):
    desk.post(reverse("stack-new", args=[small_take.pk]))
    put(desk, "take", small_take)
    assert Job.objects.get().state == Job.CANCELLED


@pytest.mark.django_db
def test_nobody_deletes_or_restores_what_is_someone_elses(client, stranger, small_take, desk):
    put(desk, "take", small_take)
    entry = BinEntry.objects.get()
    client.force_login(stranger)
    for kind, pk in (
        ("shot", small_take.shot_id),
        ("take", small_take.pk),
        ("frame", small_take.frame_set.first().pk),
    ):
        assert client.post(reverse("bin-put", args=[kind, pk])).status_code == 404
    assert client.post(reverse("bin-put", args=["user", stranger.pk])).status_code == 404
    assert client.post(reverse("bin-restore", args=[entry.pk])).status_code == 404
    assert client.post(reverse("bin-empty", args=[entry.pk])).status_code == 404
    client.post(reverse("bin-empty", args=[0]))
    assert "In the bin" not in said(client.get(f"/sites/?binned={entry.pk}")) and BinEntry.objects.exists()


@pytest.mark.django_db
def test_the_page_tells_what_takes_how_much_and_gives_it_back(desk, nerea, finished):
    take, stack = finished.stack.take, finished.stack
    desk.get(reverse("stack-file", args=[stack.pk, "fits"]))
    found = usage(nerea.pk)
    on_disk = sum(p.stat().st_size for p in (take.folder.parents[1]).rglob("*") if p.is_file())
    others = sum(p.stat().st_size for p in (take.folder.parents[1] / "rehearse").rglob("*") if p.is_file())
    assert abs(found.total - on_disk + others) < 0.01 * on_disk
    page = said(desk.get(reverse("space")))
    assert "Can be worked out again" in page and "Small frames" in page
    assert take.work.exists() and (stack.folder / "stack.fits").exists()
    answer = desk.post(reverse("space-again", args=[take.pk]))
    assert int(answer["Location"].split("freed=")[1]) == found.again > 0
    assert not take.work.exists() and not (stack.folder / "stack.fits").exists() and stack.picture.exists()
    assert usage(nerea.pk).total == found.total - found.again
    assert desk.get(reverse("stack-file", args=[stack.pk, "fits"])).status_code == 200


@pytest.mark.django_db
def test_a_person_stores_as_much_as_they_may(desk, small_take, settings):
    data = small_take.frame_set.first().path.read_bytes()
    quota._measured.clear()
    stored = quota.stored(Path(settings.MEDIA_ROOT) / str(small_take.owner_id))
    settings.QUOTA_BYTES = stored + len(data) + 1000
    assert (
        desk.post(reverse("upload", args=[small_take.pk]), {"file": upload("a.dng", data)}).status_code == 200
    )
    other = desk.post(reverse("upload", args=[small_take.pk]), {"file": upload("b.dng", data + b"x" * 2000)})
    assert other.status_code == 507 and re.search(
        r"b\.dng: .* GB is what you may store", other.json()["error"]
    )
    settings.QUOTA_BYTES, settings.MACHINE_QUOTA_BYTES = 0, 1
    quota._measured.clear()
    refused = desk.post(reverse("stack-new", args=[small_take.pk]), headers={"Accept": "text/html"})
    assert refused.status_code == 400 and "this server" in refused.content.decode()
    assert not Stack.objects.exists()


@pytest.mark.django_db
def test_what_was_left_behind_is_swept_after_a_day_and_nothing_else(desk, small_take, settings):
    part = small_take.folder / "partial" / "abcd1234.part"
    torn = small_take.previews / ".1234.part.jpg"
    gone = Path(settings.MEDIA_ROOT) / str(small_take.owner_id) / "takes" / "987654"
    part.parent.mkdir(exist_ok=True)
    (gone / "looks").mkdir(parents=True)
    part.write_bytes(b"x")
    torn.write_bytes(b"x")
    assert not {part, torn, gone} & set(left_behind())
    for path in (part, torn, gone):
        os.utime(path, (time.time() - 90000,) * 2)
    for path in small_take.folder.glob("*.dng"):
        os.utime(path, (time.time() - 90000,) * 2)
    assert {part, torn, gone} <= set(left_behind())
    sweep()
    assert not part.exists() and not torn.exists() and not gone.exists()
    assert all(f.path.exists() for f in small_take.frame_set.all())


def test_a_chore_that_fails_keeps_no_other_from_being_done(monkeypatch):
    done = []
    monkeypatch.setattr(chores, "_CHORES", ["vinter.web.nowhere.at_all", "vinter.web.space.usage.sweep"])
    monkeypatch.setattr("vinter.web.space.usage.sweep", lambda: done.append(1))
    chores.do_chores()
    assert done == [1]


def test_several_of_a_list_are_exported_with_their_files(desk, nerea, stranger, shot):
    mine = Take.objects.create(owner=nerea, kind=Take.UPLOADED, title="Walk / two")
    other = Take.objects.create(owner=stranger, kind=Take.UPLOADED, title="Not hers")
    mine.folder.mkdir(parents=True, exist_ok=True)
    for stored, name in (("a.dng", "IMG_1.dng"), ("b.dng", "IMG_1.dng"), ("gone.dng", "IMG_2.dng")):
        Frame.objects.create(take=mine, name=name, stored=stored, size=3, digest=stored)
    (mine.folder / "a.dng").write_bytes(b"one")
    (mine.folder / "b.dng").write_bytes(b"two" * 10**6)
    answer = desk.post(reverse("export-chosen", args=["take"]), {"row": [mine.pk, other.pk, "x"]})
    with zipfile.ZipFile(io.BytesIO(b"".join(answer.streaming_content))) as archive:
        assert archive.testzip() is None
        (known,) = json.loads(archive.read("chosen.json"))
        assert known["title"] == "Walk / two" and known["folder"] == f"Walk-two-{mine.pk}"
        files = {n: archive.read(n) for n in archive.namelist() if n.startswith(known["folder"])}
    assert sorted(files.values()) == [b"one", b"two" * 10**6]  # what is gone is left out, nothing overwritten
    shots = desk.post(reverse("export-chosen", args=["shot"]), {"row": [shot.pk]})
    with zipfile.ZipFile(io.BytesIO(b"".join(shots.streaming_content))) as archive:
        assert json.loads(archive.read("chosen.json"))[0]["title"] == shot.title
    assert desk.post(reverse("export-chosen", args=["take"]), {"row": [other.pk]}).status_code == 400
    assert desk.post(reverse("export-chosen", args=["site"]), {"row": [shot.site.pk]}).status_code == 404
    assert "Export the chosen takes" in said(desk.get(reverse("takes")))


def test_several_of_a_list_are_deleted_at_once_and_come_back_by_one_undo(desk, nerea, stranger):
    takes = [Take.objects.create(owner=nerea, kind=Take.UPLOADED, title=f"Walk {i}") for i in range(4)]
    other = Take.objects.create(owner=stranger, kind=Take.UPLOADED, title="Not hers")
    page = said(desk.get(reverse("takes")))
    assert page.count('name="row"') == Take.objects.filter(owner=nerea).count()
    chosen = [takes[0].pk, takes[2].pk, other.pk, "x"]
    answer = desk.post(reverse("bin-several", args=["take"]), {"row": chosen}, follow=True)
    assert "2 takes: " in said(answer) and "Undo" in said(answer)
    assert {t.title for t in Take.objects.filter(owner=nerea)} >= {"Walk 1", "Walk 3"}
    assert not Take.objects.filter(pk__in=chosen[:2]).exists() and Take.objects.filter(pk=other.pk).exists()
    desk.post(reverse("bin-restore", args=[BinEntry.objects.get().pk]))
    assert Take.objects.filter(pk__in=chosen[:2]).count() == 2
    assert desk.post(reverse("bin-several", args=["take"]), {}).status_code == 400
    assert desk.post(reverse("bin-several", args=["user"]), {"row": [1]}).status_code == 404
    for name in ("shots", "stacks", "finishes"):
        assert desk.get(reverse(name)).status_code == 200


def test_a_folder_is_counted_while_its_files_come_and_go(tmp_path):
    (tmp_path / "stays").write_bytes(b"x" * 1000)
    (tmp_path / "link").symlink_to(tmp_path / "stays")  # takes no room of its own
    over = threading.Event()

    def churn():
        while not over.is_set():
            parts = tmp_path / "take" / "partial"
            parts.mkdir(parents=True)
            (parts / "a.part").write_bytes(b"y" * 10)
            shutil.rmtree(tmp_path / "take")

    other = threading.Thread(target=churn)
    other.start()
    try:
        found = {size_of(tmp_path) for _ in range(3000)}
    finally:
        over.set()
        other.join()
    assert found <= {1000, 1010} and state_of(tmp_path / "take") is None
    assert size_of(tmp_path / "stays") == 1000 and size_of(tmp_path / "nothing") == 0
