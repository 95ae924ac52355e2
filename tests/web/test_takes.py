"""Uploads and jobs: nothing hostile gets in, nothing is lost, a killed worker's work is finished by the
next."""

import io
import json
import re
import struct
import time

import cv2
import numpy as np
import pytest
import tifffile
from desk import wait
from django.core.files.uploadedfile import SimpleUploadedFile
from django.urls import reverse
from PIL import Image
from starfield import Field, make

from vinter.web.jobs.models import Job
from vinter.web.takes.intake import taken_in
from vinter.web.takes.models import Take


def body(response):
    return b"".join(response) if response.streaming else response.content


def send(desk, take, name, data):
    return desk.post(reverse("upload", args=[take.pk]), {"file": SimpleUploadedFile(name, data)})


@pytest.fixture
def empty_take(nerea):
    from vinter.web.takes.models import Take

    return Take.objects.create(owner=nerea, kind=Take.UPLOADED, title="Mine")


@pytest.mark.django_db
def test_uploads_are_judged_by_content_and_duplicates_kept_once(desk, empty_take, tmp_path):
    make(tmp_path, Field(count=1, width=320, height=240, stars=50, focal=300.0))
    good = (tmp_path / "IMG_0000.dng").read_bytes()
    assert send(desk, empty_take, "a.dng", good).json() == {"name": "a.dng", "duplicate": False}
    assert send(desk, empty_take, "b.dng", good).json()["duplicate"] is True
    for name, data, word in (
        ("x.dng", b"<html>", "not a DNG"),
        ("y.jpg", good, "its name says .jpg"),
        ("z.dng", b"", "empty"),
        ("../../etc/passwd", b"root", "not a DNG"),
    ):
        answer = send(desk, empty_take, name, data)
        assert answer.status_code == 400 and word in answer.json()["error"]
    frame = empty_take.frame_set.get()
    assert (
        frame.path.read_bytes() == good and frame.stored != "a.dng" and frame.path.parent == empty_take.folder
    )


@pytest.mark.django_db(transaction=True)
def test_uploaded_frames_are_measured_and_broken_ones_named(desk, empty_take, worker, tmp_path):
    make(tmp_path, Field(count=3, width=800, height=600, stars=300, focal=600.0, streak=1))
    files = {p.name: p.read_bytes() for p in sorted(tmp_path.glob("*.dng"))}
    files["cut.dng"] = files["IMG_0000.dng"][:5000]
    for name, data in files.items():
        assert send(desk, empty_take, name, data).status_code == 200
    desk.post(reverse("measure", args=[empty_take.pk]))
    worker.start()
    assert wait(Job.objects.get()).state == Job.DONE
    frames = {f.name: f for f in empty_take.frame_set.all()}
    assert "cut.dng" in frames["cut.dng"].error and not frames["cut.dng"].included
    assert all(
        frames[f"IMG_000{i}.dng"].included and frames[f"IMG_000{i}.dng"].measure["stars"] > 100
        for i in range(3)
    )
    page = desk.get(reverse("take", args=[empty_take.pk])).content.decode()
    assert set(re.findall('Star shapes: ([^"]*)', page)) == {"round everywhere"}
    assert "3</output> of 4 frames go into the stack" in page


@pytest.mark.django_db
def test_the_users_word_wins_over_the_suggestion(desk, small_take):
    frame = small_take.frame_set.first()
    page = desk.post(
        reverse("decide", args=[frame.pk]), {"decision": "drop"}, headers={"HX-Request": "true"}
    ).content.decode()
    assert 'data-in="no"' in page and ">4</output>" in page
    desk.post(reverse("decide", args=[frame.pk]), {"decision": "keep"})
    assert len(small_take.stackable()) == 5
    assert desk.post(reverse("decide", args=[frame.pk]), {"decision": "burn"}).status_code == 400


@pytest.mark.long("a stack is killed and done again by the next worker")
@pytest.mark.django_db(transaction=True)
def test_kill_minus_nine_in_mid_stack_and_the_next_worker_finishes_the_same_picture(
    desk, small_take, small_stack, worker
):
    from vinter.web.stacks.models import Stack

    worker.start()
    desk.post(reverse("stack-new", args=[small_take.pk]))
    troubled = Stack.objects.latest("id")
    job = Job.objects.latest("id")
    while job.state != Job.RUNNING or job.progress < 0.05:
        job.refresh_from_db()
        assert job.active and worker.process.poll() is None
        time.sleep(0.02)
    worker.kill()
    job.refresh_from_db()
    assert job.state == Job.RUNNING
    worker.start()
    done = wait(job)
    assert done.state == Job.DONE and done.attempt == 2
    pictures = [tifffile.imread(s.picture) for s in (small_stack, troubled)]
    assert np.array_equal(*pictures)
    report_now = Stack.objects.get(pk=troubled.pk).report
    assert report_now["frames_used"] == 5 and report_now["frames"][0]["file"].startswith("IMG_")


@pytest.mark.django_db
def test_a_painted_mask_keeps_its_corner_still_in_the_next_stack(desk, small_take, worked):
    from vinter.web.stacks.models import Stack

    desk.post(reverse("stack-new", args=[small_take.pk]))
    first = Stack.objects.get()
    worked()
    assert "Paint the sky mask" in desk.get(reverse("paint", args=[first.pk])).content.decode()
    strokes = json.dumps([{"points": [[200, 200], [600, 200]], "radius": 110, "sky": False}])
    shown = cv2.imdecode(
        np.frombuffer(
            desk.post(reverse("paint-try", args=[first.pk]), {"strokes": strokes}).content, np.uint8
        ),
        0,
    )
    assert shown.shape[1] == 1600 and shown[200, 400] == 0 and shown[200, 1000] == 255
    assert desk.post(reverse("paint-try", args=[first.pk]), {"strokes": '[{"points": 7}]'}).status_code == 400
    desk.post(reverse("paint", args=[first.pk]), {"strokes": strokes})
    worked()
    second = Stack.objects.latest("id")
    assert second.pk != first.pk
    old, kept = (
        cv2.imdecode(np.frombuffer(body(desk.get(reverse("stack-file", args=[one.pk, "mask"]))), np.uint8), 0)
        for one in (first, second)
    )
    scale = kept.shape[1] / 1600
    assert kept[round(200 * scale), round(400 * scale)] == 0
    off = np.abs(tifffile.imread(second.picture) - tifffile.imread(first.picture)).max(axis=-1)
    # stars in the painted ground do not count any more: the others lie where they lay to a hundredth of a
    # pixel
    assert np.median(off[(kept == 0) & (old == 255)]) > 5e-4 and np.percentile(off[kept == 255], 99) < 2e-4


@pytest.mark.django_db
def test_trails_with_their_wishes_from_the_form(desk, small_take, worked):
    from vinter.web.stacks.models import Stack

    bad = desk.post(
        reverse("stack-new", args=[small_take.pk]),
        {"method": "trails", "tail": "7"},
        headers={"Accept": "text/html"},
    )
    assert bad.status_code == 400 and "Tails" in bad.content.decode()
    assert not Stack.objects.exists()
    desk.post(
        reverse("stack-new", args=[small_take.pk]), {"method": "trails", "tail": "0.5", "gaps": "close"}
    )
    assert [job.kind for job in worked()] == ["stack"]
    one = Stack.objects.get()
    assert one.report["trails"]["tail"] == 0.5
    page = desk.get(reverse("stack", args=[one.pk])).content.decode()
    assert "the brightest of each place" in page and "Pauses closed along the motion" in page


@pytest.mark.django_db(transaction=True)
def test_a_running_stack_is_cancelled_and_can_be_run_again(desk, small_take, worker):
    desk.post(reverse("stack-new", args=[small_take.pk]))
    job = Job.objects.get()
    desk.post(reverse("job-cancel", args=[job.pk]))
    job.refresh_from_db()
    assert job.state == Job.CANCELLED
    desk.post(reverse("stack-again", args=[job.subject]))
    worker.start()
    again = Job.objects.latest("id")
    while again.state != Job.RUNNING:
        again.refresh_from_db()
        assert worker.process.poll() is None
        time.sleep(0.02)
    desk.post(reverse("job-cancel", args=[again.pk]))
    assert wait(again).state == Job.CANCELLED
    assert "Try again" in desk.get(reverse("stack", args=[job.subject])).content.decode()


def part(client, take, data, offset, size, name="IMG_7.dng", key="abcdef0123456789"):
    return client.post(
        reverse("upload", args=[take.pk]) + f"?id={key}&name={name}&size={size}&offset={offset}",
        data,
        content_type="application/octet-stream",
    )


def test_an_upload_goes_on_where_it_broke(client, nerea, small_take):
    client.force_login(nerea)
    source = small_take.folder / small_take.frame_set.first().stored
    data = source.read_bytes()[:-4] + b"tail"  # another content than the frames that are here
    url = reverse("upload", args=[small_take.pk]) + "?id=abcdef0123456789"
    assert client.get(url).json() == {"offset": 0}
    assert part(client, small_take, data[:9000], 0, len(data)).json() == {"offset": 9000}
    assert part(client, small_take, data[:9000], 0, len(data)).json() == {
        "offset": 9000,
        "again": True,
    }  # sent twice: not added twice
    assert client.get(url).json() == {"offset": 9000}  # after a broken connection
    assert part(client, small_take, data[9000:], 9000, len(data)).json() == {
        "name": "IMG_7.dng",
        "duplicate": False,
    }
    frame = small_take.frame_set.get(name="IMG_7.dng")
    assert frame.path.read_bytes() == data
    assert part(client, small_take, data, 0, len(data), key="ffff0000ffff").json() == {
        "name": "IMG_7.dng",
        "duplicate": True,
    }
    assert not list((small_take.folder / "partial").iterdir())


@pytest.mark.django_db
def test_a_folder_on_the_server_becomes_a_take(nerea, worked, tmp_path, capsys):
    from vinter.cli import main
    from vinter.web.takes.models import Take

    make(tmp_path, Field(count=2, width=400, height=300, stars=80, focal=300.0, streak=None))
    (tmp_path / "again.dng").write_bytes((tmp_path / "IMG_0001.dng").read_bytes())
    (tmp_path / "page.jpg").write_bytes(b"<html>")
    assert main(["import", str(tmp_path), "--user", "nerea", "--title", "From the shelf"]) == 0
    said = capsys.readouterr().out
    assert "IMG_0000.dng: taken in" in said and "already there" in said and "page.jpg: not a DNG" in said
    take = Take.objects.get(title="From the shelf")
    assert take.owner == nerea and take.frame_set.count() == 2 and (tmp_path / "IMG_0000.dng").exists()
    assert [job.kind for job in worked()] == ["measure"]
    assert all(f.measure["stars"] > 20 for f in take.frame_set.all())
    assert main(["import", str(tmp_path), "--user", "nobody"]) == 2 and "nobody" in capsys.readouterr().err
    assert main(["import", str(tmp_path / "gone"), "--user", "nerea"]) == 2


def test_parts_that_make_no_sense_are_refused(client, nerea, small_take):
    client.force_login(nerea)
    wrong = part(client, small_take, b"hello world", 0, 11, name="x.dng")
    assert wrong.status_code == 400 and "x.dng" in wrong.json()["error"]
    assert part(client, small_take, b"abc", 0, 0).status_code == 400
    assert part(client, small_take, b"abc", 0, 3, key="../../etc").status_code == 400
    assert part(client, small_take, b"abcdef", 0, 3).json() == {"offset": 0, "again": True}
    assert client.get(reverse("upload", args=[small_take.pk])).status_code == 405


def test_a_frame_is_type_set_by_hand(client, nerea, small_take):
    client.force_login(nerea)
    frame = small_take.frame_set.first()
    kept = len(small_take.stackable())
    page = client.post(reverse("frame-type", args=[frame.pk]), {"frame_type": "dark"}).content.decode()
    frame.refresh_from_db()
    assert frame.frame_type == "dark" and frame.type_set_by_hand and f">{kept - 1}<" in page
    assert small_take.serving_as("dark") == [frame]
    assert client.post(reverse("frame-type", args=[frame.pk]), {"frame_type": "moon"}).status_code == 400


def test_a_motion_picture_is_a_still_and_a_film(desk, nerea):
    """A JPEG with a film behind it, as phones write it: both are frames of the take, the original stays."""
    take = Take.objects.create(owner=nerea, kind=Take.UPLOADED, title="Moon")
    box = lambda kind, data: struct.pack(">I4s", 8 + len(data), kind) + data  # noqa: E731
    film = box(b"ftyp", b"isom" + bytes(8)) + box(b"mdat", bytes(200)) + box(b"moov", bytes(16))
    held = io.BytesIO()
    Image.new("RGB", (64, 48), (9, 9, 12)).save(held, "JPEG")
    take.folder.mkdir(parents=True, exist_ok=True)
    whole = take.folder / "whole"
    whole.write_bytes(held.getvalue() + film)
    assert taken_in(take, "IMG_1.jpg", whole) == {"name": "IMG_1.jpg", "duplicate": False}
    found = {f.name: f for f in take.frame_set.all()}
    assert set(found) == {"IMG_1.jpg", "IMG_1.mp4"} and found["IMG_1.mp4"].is_film
    assert found["IMG_1.mp4"].path.read_bytes() == film
    assert found["IMG_1.jpg"].path.read_bytes() == held.getvalue() + film
