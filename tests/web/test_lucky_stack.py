"""The sharpest share of a take's frames, from its page to a finish."""

import re

import cv2
import numpy as np
import pytest
from desk import said
from django.urls import reverse

from vinter.web.finish.models import Finish
from vinter.web.jobs.models import Job
from vinter.web.stacks.lucky import run_lucky
from vinter.web.stacks.models import Stack
from vinter.web.takes.models import Frame, Take
from vinter.web.takes.tasks import measure_take

pytestmark = pytest.mark.django_db


@pytest.fixture
def moon_take(nerea, tools):
    """Pictures of a cratered disc, each blurred otherwise."""
    rng = np.random.default_rng(3)
    y, x = np.mgrid[:240, :320].astype(float)
    disc = np.clip(70 - np.hypot(x - 160, y - 120), 0, 1) * 0.5
    for _ in range(80):
        cx, cy = rng.normal(160, 30), rng.normal(120, 30)
        disc *= 1 - 0.4 * np.exp(-((x - cx) ** 2 + (y - cy) ** 2) / rng.uniform(3, 30))
    take = Take.objects.create(owner=nerea, kind=Take.UPLOADED, title="Moon")
    take.previews.mkdir(parents=True, exist_ok=True)
    for i in range(12):
        blur = (0.6, 1.6, 3.0)[i % 3]
        seen = cv2.GaussianBlur(np.roll(disc, (i % 5, -i % 4), (0, 1)), (0, 0), blur)
        seen = np.clip(seen + rng.normal(0, 0.004, seen.shape), 0, 1) ** (1 / 2.2) * 255
        cv2.imwrite(str(take.folder / f"m{i:02d}.png"), np.asarray(seen, np.uint8))
        Frame.objects.create(take=take, name=f"m{i:02d}.png", stored=f"m{i:02d}.png", digest=str(i), size=1)
    measure_take(take.pk, tools)
    return take


def test_the_sharpest_of_a_take_become_one_picture_that_can_be_finished(desk, moon_take, tools):
    page = said(desk.get(reverse("take", args=[moon_take.pk])))
    assert "the sharpest share: Moon, planet" in page
    desk.post(reverse("stack-new", args=[moon_take.pk]), {"method": "lucky", "share": "0.3"})
    one = Stack.objects.get()
    assert Job.objects.latest("id").kind == "lucky" and len(one.frames) == 12
    run_lucky(one.pk, tools)
    one.refresh_from_db()
    found = one.report["lucky"]
    assert found["seen"] == 12 and found["kept"] == 4 and found["gain"] > 1.1
    kept = [row["file"] for row in one.report["frames"] if row["used"]]
    assert kept == ["m00.png", "m03.png", "m06.png", "m09.png"]  # the least blurred
    Job.objects.filter(kind="lucky").update(state=Job.DONE)
    page = said(desk.get(reverse("stack", args=[one.pk])))
    assert "sharper than the median frame" in page and "12, 4" in page
    desk.post(reverse("finish-new", args=[one.pk]))
    finish = said(desk.get(reverse("finish", args=[Finish.objects.get().pk])))
    assert "Fine scales" in finish
    # what cannot be done with it says so
    assert desk.post(reverse("stack-otherwise", args=[one.pk])).status_code == 400
    assert desk.get(reverse("paint", args=[one.pk])).status_code == 400
    assert desk.get(reverse("ledger")).status_code == 200


def test_a_film_is_brought_like_a_frame_and_stacked_by_its_sharpest_pictures(desk, moon_take, nerea, tools):
    pictures = [cv2.imread(str(f.path)) for f in moon_take.frame_set.all()]
    path = moon_take.folder / "seen.mp4"
    film = cv2.VideoWriter(str(path), cv2.VideoWriter_fourcc(*"vp09"), 24, (320, 240))
    for picture in pictures:
        film.write(picture)
    film.release()
    take = Take.objects.create(owner=nerea, kind=Take.UPLOADED, title="Film of the Moon")
    data, address = path.read_bytes(), reverse("upload", args=[take.pk])
    answer = desk.post(
        f"{address}?id=0000abcd&name=moon.mp4&size={len(data)}&offset=0", data, "application/octet-stream"
    )
    assert answer.json() == {"name": "moon.mp4", "duplicate": False}
    renamed = desk.post(
        f"{address}?id=0000abce&name=a.dng&size={len(data)}&offset=0", data, "application/octet-stream"
    )
    assert renamed.status_code == 400 and "its content is a film" in renamed.content.decode()
    measure_take(take.pk, tools)
    frame = take.frame_set.get()
    assert (frame.frame_type, frame.error, frame.measure["pictures"]) == ("film", "", 12)
    page = said(desk.get(reverse("take", args=[take.pk])))
    assert "12 pictures" in page and "320 × 240 px" in page and "0 of 1 frames go into the stack" not in page
    assert re.search(r'<option value="lucky"[^>]*selected', page)
    assert "Finish this one" not in page and not re.search(r"\d stars", page)
    frame.decision = "keep"
    frame.save()
    assert take.stackable() == [] and take.readable() == [frame]
    desk.post(reverse("stack-new", args=[take.pk]), {"method": "lucky", "share": "0.3"})
    one = Stack.objects.get(take=take)
    run_lucky(one.pk, tools)
    one.refresh_from_db()
    assert (one.report["lucky"]["seen"], one.report["lucky"]["kept"]) == (12, 4)
    Job.objects.all().update(state=Job.DONE)
    assert "12, 4" in said(desk.get(reverse("stack", args=[one.pk])))
    # what it is not for says so
    assert desk.post(reverse("frame-finish", args=[frame.pk])).status_code == 400


def test_a_take_without_a_disc_says_so(small_take, tools, nerea):
    from vinter.core.errors import BadInput

    one = Stack.objects.create(
        owner=nerea,
        take=small_take,
        kind="lucky",
        frames=[f.pk for f in small_take.frame_set.all()],
        version="x",
    )
    with pytest.raises(BadInput, match="frames show a bright disc"):
        run_lucky(one.pk, tools)
