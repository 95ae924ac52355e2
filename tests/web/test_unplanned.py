"""Pictures that nobody planned: where they were shot, which night they are of, and what their stars tell."""

import json
from datetime import date

import numpy as np
import pytest
from desk import said, upload
from django.urls import reverse
from fields import LENS
from files import jpeg_at

from vinter.core.camera.projection import Pose
from vinter.core.frames.reading import read_frame
from vinter.core.simulate.capture import Burst
from vinter.core.simulate.phone import SimulatedPhone
from vinter.web.finish.models import Finish
from vinter.web.jobs.models import Job
from vinter.web.ledger.records import evenings_of, told
from vinter.web.sites.models import Site
from vinter.web.stacks.models import Stack
from vinter.web.stacks.tasks import run_stack
from vinter.web.takes.intake import import_folder
from vinter.web.takes.models import Take
from vinter.web.takes.tasks import measure_take

pytestmark = pytest.mark.django_db
MIDNIGHT = 1812588300.0  # 9 June 2027, 01:45 at the mill


def test_a_picture_says_where_it_was_taken(tmp_path):
    jpeg_at(tmp_path / "a.jpg", (-32.4231, 20.3317))
    assert read_frame(tmp_path / "a.jpg").meta.place == pytest.approx((-32.4231, 20.3317), abs=1e-4)
    jpeg_at(tmp_path / "b.jpg")
    assert read_frame(tmp_path / "b.jpg").meta.place is None
    jpeg_at(tmp_path / "c.jpg", (0.0, 0.0))  # a writer that knew no place
    assert read_frame(tmp_path / "c.jpg").meta.place is None


def brought(desk, owner, tools, files, **told):
    take = Take.objects.create(owner=owner, kind=Take.UPLOADED, title="Last June", simulation_overrides=told)
    for path in files:
        desk.post(reverse("upload", args=[take.pk]), {"file": upload(path.name, path.read_bytes())})
    measure_take(take.pk, tools)
    return Take.objects.get(pk=take.pk)


def test_frames_near_a_site_are_its_own_and_the_phone_is_known_by_its_name(
    desk, nerea, mill, tools, tmp_path
):
    jpeg_at(tmp_path / "a.jpg", (mill.lat + 0.01, mill.lon))
    take = brought(desk, nerea, tools, [tmp_path / "a.jpg"])
    assert take.own_site == mill and take.own_phone.name == "Marlet 7"
    assert take.evening == date(2027, 6, 9)  # 00:40 belongs to the evening before
    (night,) = [n for n in told(evenings_of(nerea)) if any(w.take == take for w in n.works)]
    assert night.site == mill and night.day == date(2027, 6, 9) and night.strip is not None
    page = said(desk.get(reverse("ledger")))
    assert "Last June" in page and "not planned" in page


def test_a_far_place_becomes_a_site_by_one_choice(desk, nerea, tools, tmp_path):
    jpeg_at(tmp_path / "a.jpg", (-32.4231, 20.9317), model="Other")
    take = brought(desk, nerea, tools, [tmp_path / "a.jpg"])
    assert take.own_site is None and take.own_phone is None
    page = said(desk.get(reverse("take", args=[take.pk])))
    assert "a new site at -32.423, 20.932, as the files say" in page
    desk.post(reverse("take-origin", args=[take.pk]), {"site": "here", "phone": ""})
    take.refresh_from_db()
    assert take.own_site.lat == pytest.approx(-32.4231, abs=1e-4)
    assert take.own_site.tz == "Africa/Johannesburg" and take.own_site.owner == nerea


def test_a_site_of_somebody_else_is_no_choice(desk, nerea, stranger, tools, tmp_path):
    jpeg_at(tmp_path / "a.jpg")
    take = brought(desk, nerea, tools, [tmp_path / "a.jpg"])
    theirs = Site.objects.create(owner=stranger, name="Theirs", lat=1, lon=1, tz="UTC")
    answer = desk.post(reverse("take-origin", args=[take.pk]), {"site": str(theirs.pk), "phone": ""})
    assert answer.status_code == 400
    take.refresh_from_db()
    assert take.own_site is None


def test_frames_of_three_nights_become_three_takes_and_nothing_is_lost(desk, nerea, mill, tools, tmp_path):
    files = []
    for i, (when, n) in enumerate(
        (("2026:05:16 23:10:00", 2), ("2026:05:18 02:00:00", 1), ("2026:07:14 22:30:00", 2))
    ):
        for k in range(n):
            files.append(tmp_path / f"f{i}{k}.jpg")
            jpeg_at(files[-1], (mill.lat, mill.lon), when.replace("10:00", f"1{k}:00"), seed=10 * i + k)
    take = brought(desk, nerea, tools, files)
    page = said(desk.get(reverse("take", args=[take.pk])))
    assert "These frames do not belong together: 16 May 2026 (2); 17 May 2026 (1); 14 Jul 2026 (2)" in page
    originals = {f.name: f.path.read_bytes() for f in take.frame_set.all()}
    desk.post(reverse("take-split", args=[take.pk]))
    takes = Take.objects.filter(owner=nerea, shot=None).order_by("pk")
    assert [(t.evening, t.frame_set.count()) for t in takes] == [
        (date(2026, 5, 16), 2),
        (date(2026, 5, 17), 1),
        (date(2026, 7, 14), 2),
    ]
    assert {f.name: f.path.read_bytes() for t in takes for f in t.frame_set.all()} == originals
    for t in takes:
        assert t.own_site == mill and all(
            (t.previews / f"{f.path.stem}.jpg").is_file() for f in t.frame_set.all()
        )
        assert len(list(t.folder.glob("*.jpg"))) == t.frame_set.count()
    assert {n.day for n in told(evenings_of(nerea, year=2026)) if n.site == mill} >= {
        t.evening for t in takes
    }
    again = desk.post(reverse("take-split", args=[takes[0].pk]))
    assert again.status_code == 400 and "one night" in said(again)


def test_a_folder_of_last_year_becomes_nights_in_one_import(nerea, mill, tools, tmp_path):
    for i, day in enumerate(("16", "17", "18")):
        jpeg_at(tmp_path / f"{i}.jpg", (mill.lat, mill.lon), f"2026:05:{day} 23:10:00", seed=i)
    take, _ = import_folder(tmp_path, nerea.username, "May", by_night=True)
    measure_take(take.pk, tools)
    assert sorted(t.evening.day for t in Take.objects.filter(owner=nerea, shot=None)) == [16, 17, 18]


@pytest.mark.long("the whole sky is searched")
def test_one_frame_of_an_unplanned_night_is_developed_and_its_stars_named(desk, nerea, mill, tools, tmp_path):
    """A RAW of our phone turned somewhere nobody planned: dropped on the page, it is developed, its field
    found with the lens it names, its sky measured, its night in the ledger."""
    burst = Burst(
        site=mill.core(), lens=LENS, start=MIDNIGHT, pose=Pose(250, 35), iso=1600, shutter=10.0, count=1,
        traffic=False,
    )  # fmt: skip
    file = SimulatedPhone(burst).write(0, tmp_path)
    answer = desk.post(reverse("picture-new"), {"file": upload(file.name, file.read_bytes())})
    stack = Stack.objects.latest("id")
    assert answer.url == reverse("stack", args=[stack.pk]) + "?finish" and stack.take.title == file.stem
    assert set(Job.objects.values_list("kind", flat=True)) >= {"measure", "stack"}
    measure_take(stack.take.pk, tools)
    run_stack(stack.pk, tools)
    stack.refresh_from_db()
    assert stack.report["field"] and stack.report["pose"] is None  # nobody said where it was
    desk.post(reverse("take-origin", args=[stack.take.pk]), {"site": mill.pk, "phone": ""})
    run_stack(stack.pk, tools)
    stack.refresh_from_db()
    field = stack.report["field"]
    assert field["matched"] > 100 and field["rms_px"] < 0.6
    # where the lens looked, from the field alone
    zenith = np.array(field["rotation"]) @ np.array(field["zenith"])
    assert np.degrees(np.arcsin(zenith[2])) == pytest.approx(35, abs=0.3)
    assert abs(stack.report["sky"]["zenith"] - mill.core().zenith) < 0.35
    desk.post(reverse("finish-new", args=[stack.pk]))
    finish = Finish.objects.latest("id")
    page = said(desk.get(reverse("finish", args=[finish.pk])))
    assert "Walls upright by the stars: 35." in page
    assert json.loads(desk.get(reverse("finish-names", args=[finish.pk])).content)["names"]


def test_a_file_that_is_no_picture_is_named_and_leaves_no_take(desk, nerea):
    answer = desk.post(reverse("picture-new"), {"file": upload("notes.txt", b"not a picture at all")})
    assert answer.status_code == 400 and "notes.txt" in said(answer)
    assert not Take.objects.filter(owner=nerea, shot=None).exists()
    assert desk.post(reverse("picture-new")).status_code == 400


def test_frames_of_two_cameras_are_compared_apart_and_offered_a_take_each(desk, nerea, tools, tmp_path):
    take = Take.objects.create(owner=nerea, kind=Take.UPLOADED, title="A folder")
    for k in range(6):
        model = "Marlet 7" if k < 3 else "Marlet 4"
        path = tmp_path / f"{k}.jpg"
        jpeg_at(path, (37.7, -8.78), f"2027:06:10 00:4{k}:00", model=model, seed=k)
        desk.post(reverse("upload", args=[take.pk]), {"file": upload(path.name, path.read_bytes())})
    measure_take(take.pk, tools)
    take = Take.objects.get(pk=take.pk)
    assert {label: len(frames) for label, frames in take.groups().items()} == {"Marlet 4": 3, "Marlet 7": 3}
    reasons = " ".join(" ".join(f.measure["reasons"]) for f in take.frame_set.all())
    assert "against" not in reasons  # nobody is held against another camera's frames
    page = said(desk.get(reverse("take", args=[take.pk])))
    assert "These frames do not belong together: Marlet 4 (3); Marlet 7 (3)" in page
    desk.post(reverse("take-split", args=[take.pk]))
    titles = sorted(Take.objects.filter(title__startswith="A folder").values_list("title", flat=True))
    assert titles == ["A folder, Marlet 4", "A folder, Marlet 7"]
    assert all(t.frame_set.count() == 3 for t in Take.objects.filter(title__startswith="A folder"))
