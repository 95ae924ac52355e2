"""When, where and through what frames were taken: said with the source, and corrected at one place."""

from datetime import UTC, datetime

import pytest
from desk import said, upload
from django.urls import reverse
from fields import LENS
from files import jpeg_at

from vinter.core.camera.projection import Pose
from vinter.core.simulate.capture import Burst
from vinter.core.simulate.phone import SimulatedPhone
from vinter.web.stacks.models import Stack
from vinter.web.stacks.tasks import run_stack
from vinter.web.takes.models import Take
from vinter.web.takes.tasks import measure_take

pytestmark = pytest.mark.django_db


def unix(text):
    return datetime.fromisoformat(text).replace(tzinfo=UTC).timestamp()


def brought(desk, owner, tools, *files, **more):
    take = Take.objects.create(owner=owner, kind=Take.UPLOADED, title="Brought", **more)
    for path in files:
        desk.post(reverse("upload", args=[take.pk]), {"file": upload(path.name, path.read_bytes())})
    measure_take(take.pk, tools)
    return Take.objects.get(pk=take.pk)


def times(take):
    return [f.measure["time"] for f in Take.objects.get(pk=take.pk).frame_set.all()]


def test_a_clock_without_a_zone_is_read_where_the_picture_was_taken(desk, nerea, mill, tools, tmp_path):
    jpeg_at(tmp_path / "a.jpg", (mill.lat, mill.lon), "2027:06:10 00:40:00", zone="")
    take = brought(desk, nerea, tools, tmp_path / "a.jpg")
    assert times(take) == [unix("2027-06-09 23:40:00")]  # summer time in Portugal
    page = said(desk.get(reverse("take", args=[take.pk])))
    assert "Shot 10 Jun 2027, 00:40 (Europe/Lisbon), from the local time at the picture" in page
    assert "lens not known: give its equivalent focal length" in page and "Marlet 7" in page


def test_zone_clock_and_lens_are_corrected_for_all_frames_and_the_files_stay(desk, nerea, tools, tmp_path):
    for i in range(2):
        jpeg_at(tmp_path / f"{i}.jpg", None, f"2027:06:10 00:4{i}:00", zone="", seed=i)
    take = brought(desk, nerea, tools, tmp_path / "0.jpg", tmp_path / "1.jpg")
    assert "by the camera&#x27;s clock, zone not known" in said(desk.get(reverse("take", args=[take.pk])))
    before = [f.path.read_bytes() for f in take.frame_set.all()]
    given = {"site": "", "phone": "", "zone": "Asia/Tokyo", "fast_s": "90", "f35": "26"}
    desk.post(reverse("take-origin", args=[take.pk]), given)
    assert times(take) == [unix("2027-06-09 15:38:30"), unix("2027-06-09 15:39:30")]
    page = said(desk.get(reverse("take", args=[take.pk])))
    assert "from the local time in the zone given" in page and "lens 26 mm, as you say" in page
    desk.post(reverse("take-origin", args=[take.pk]), {**given, "zone": "Europe/Lisbon", "fast_s": ""})
    assert times(take)[0] == unix(
        "2027-06-09 23:40:00"
    )  # from what the file said, not from the last correction
    assert [f.path.read_bytes() for f in take.frame_set.all()] == before
    wrong = desk.post(reverse("take-origin", args=[take.pk]), {**given, "zone": "Mars/Olympus"})
    assert wrong.status_code == 400 and "Mars/Olympus" in said(wrong)


def test_a_zone_in_the_file_is_believed_unless_somebody_knows_better(desk, nerea, mill, tools, tmp_path):
    jpeg_at(tmp_path / "a.jpg", (mill.lat, mill.lon), "2027:06:10 00:40:00", zone="+02:00")
    take = brought(desk, nerea, tools, tmp_path / "a.jpg")
    assert times(take) == [unix("2027-06-09 22:40:00")]
    assert "from the zone written in the file" in said(desk.get(reverse("take", args=[take.pk])))


@pytest.mark.long("the whole sky is searched")
def test_a_picture_without_a_place_is_solved_and_its_page_asks_for_what_lacks(
    desk, nerea, mill, tools, tmp_path
):
    burst = Burst(
        site=mill.core(), lens=LENS, start=1812588300.0, pose=Pose(200, 30), iso=1600, shutter=10.0, count=1,
        traffic=False,
    )  # fmt: skip
    take = brought(desk, nerea, tools, SimulatedPhone(burst).write(0, tmp_path))
    stack = Stack.objects.create(owner=nerea, take=take, frames=[f.pk for f in take.frame_set.all()])
    run_stack(stack.pk, tools)
    stack.refresh_from_db()
    assert stack.report["field"]["focal_px"] == pytest.approx(1400, rel=2e-3)
    page = said(desk.get(reverse("stack", args=[stack.pk])))
    assert "no pose: place not known" in page and "Say what you know" in page
    desk.post(reverse("take-origin", args=[take.pk]), {"site": mill.pk, "phone": ""})
    run_stack(stack.pk, tools)
    stack.refresh_from_db()
    assert stack.report["pose"]["azimuth"] == pytest.approx(200, abs=0.2)
    page = said(desk.get(reverse("stack", args=[stack.pk])))
    assert "<span>The lens pointed to</span> <span> azimuth 200.0°, 30.0° up, level to" in page
