"""The bench of a take: what jobs make of its files, what the user decides, and the film of what is kept."""

import io
import json
from dataclasses import replace

import cv2
import numpy as np
import pytest
from desk import said, upload
from django.db import connection
from django.urls import reverse
from PIL import Image
from starfield import Field, make

from vinter.core.parallel import Cancelled
from vinter.web.jobs.models import Job
from vinter.web.takes.models import Frame, Take
from vinter.web.takes.tasks import film_take, measure_take, shoot_take


@pytest.fixture
def card(desk, nerea, tmp_path):
    """An uploaded take of six frames and four files that are no frames, as the browser sent them."""
    make(tmp_path, Field(count=6, width=640, height=480, stars=250, focal=480.0, streak=None))
    take = Take.objects.create(owner=nerea, kind=Take.UPLOADED, title="Card")
    files = {p.name: p.read_bytes() for p in sorted(tmp_path.glob("*.dng"))}
    files["cut.dng"] = files["IMG_0001.dng"][:4000]
    grey = io.BytesIO()
    Image.fromarray(np.full((480, 640, 3), 90, np.uint8)).save(grey, "JPEG")
    files["grey.jpg"] = grey.getvalue()
    answers = {
        name: desk.post(reverse("upload", args=[take.pk]), {"file": upload(name, data)})
        for name, data in files.items()
    }
    answers["again.dng"] = desk.post(
        reverse("upload", args=[take.pk]), {"file": upload("again.dng", files["IMG_0002.dng"])}
    )
    answers["poem.txt"] = desk.post(reverse("upload", args=[take.pk]), {"file": upload("poem.txt", b"stars")})
    return take, answers


@pytest.mark.django_db
def test_the_good_files_of_a_card_are_measured_and_the_others_named(desk, card, tools):
    take, answers = card
    assert all(answers[f"IMG_{i:04d}.dng"].status_code == 200 for i in range(6))
    assert answers["poem.txt"].status_code == 400 and "poem.txt" in answers["poem.txt"].json()["error"]
    assert take.frame_set.filter(name="again.dng").count() == 0  # the same content under another name
    measure_take(take.pk, tools)
    frames = {f.name: f for f in take.frame_set.all()}
    good = [frames[f"IMG_{i:04d}.dng"] for i in range(6)]
    assert all(
        f.measure["stars"] > 60 and f.measure["raw"] == "sensor" and f.measure["verdict"] == "keep"
        for f in good
    )
    widths = [f.measure["fwhm_px"] for f in good]
    assert widths == pytest.approx([2.3548 * 1.4] * 6, rel=0.12)  # as the generator drew them
    if "cut.dng" in frames:
        assert "cut.dng" in frames["cut.dng"].error and frames["cut.dng"].measure is None
    assert frames["grey.jpg"].measure["verdict"] == "drop" and any(
        "only 0 stars" in r for r in frames["grey.jpg"].measure["reasons"]
    )
    labels, shares = zip(*tools.progress.told, strict=True)
    assert labels[-1].startswith("measuring frame") and list(shares) == sorted(shares) and shares[-1] == 1
    page = said(desk.get(reverse("take", args=[take.pk])))
    assert "IMG_0003.dng" in page and '<output id="stackable">6</output>' in page
    # measured once: a second run finds nothing to do
    before = {f.pk: f.measure for f in take.frame_set.all()}
    tools.progress.told.clear()
    measure_take(take.pk, tools)
    assert {f.pk: f.measure for f in take.frame_set.all()} == before and not tools.progress.told


@pytest.mark.django_db
def test_looks_show_the_frame_small_and_whole(desk, card, tools):
    take, _ = card
    measure_take(take.pk, tools)
    frame = take.frame_set.get(name="IMG_0000.dng")
    small, full = (
        Image.open(
            io.BytesIO(b"".join(desk.get(reverse("preview", args=[frame.pk, size])).streaming_content))
        )
        for size in ("small", "full")
    )
    assert (
        full.size == (640, 480)
        and small.width < full.width
        and small.width / small.height == pytest.approx(4 / 3, rel=0.02)
    )
    light = np.asarray(full).astype(float).mean(axis=2)
    assert light[:350].mean() > 1.5 * light[460:].mean()  # the sky over the dark ground
    waiting = Frame.objects.create(take=take, name="later.dng", stored="later.dng", size=1, digest="x")
    assert desk.get(reverse("preview", args=[waiting.pk, "full"])).status_code == 404


@pytest.mark.django_db
def test_the_users_word_stands_over_the_suggestion_and_can_be_taken_back(desk, small_take):
    frame = small_take.frame_set.get(name="IMG_0001.dng")
    kept = len(small_take.stackable())
    part = said(
        desk.post(reverse("decide", args=[frame.pk]), {"decision": "drop"}, headers={"HX-Request": "true"})
    )
    assert f">{kept - 1}</output>" in part and len(small_take.stackable()) == kept - 1
    assert frame.pk not in [f.pk for f in small_take.stackable()]
    answer = desk.post(reverse("decide", args=[frame.pk]), {"decision": ""})
    assert answer.status_code == 302 and len(small_take.stackable()) == kept
    frame.measure = {**frame.measure, "verdict": "drop", "reasons": ["shaken"]}
    frame.save()
    assert len(small_take.stackable()) == kept - 1
    desk.post(reverse("decide", args=[frame.pk]), {"decision": "keep"})
    assert len(small_take.stackable()) == kept
    answer = desk.post(reverse("decide", args=[frame.pk]), {"decision": "maybe"})
    assert answer.status_code == 400 and "maybe" in said(answer) and len(small_take.stackable()) == kept


@pytest.mark.django_db
def test_a_frame_type_set_by_hand_stays_what_it_was_called(desk, small_take, tools):
    from vinter.web.takes.tasks import _compare

    frame = small_take.frame_set.get(name="IMG_0001.dng")
    part = said(desk.post(reverse("frame-type", args=[frame.pk]), {"frame_type": "ground"}))
    assert "<option selected>ground</option>" in part
    _compare(small_take)
    assert small_take.frame_set.get(pk=frame.pk).frame_type == "ground"
    assert [f.name for f in small_take.serving_as("ground")] == ["IMG_0001.dng"] and frame.name not in [
        f.name for f in small_take.stackable()
    ]
    answer = desk.post(reverse("frame-type", args=[frame.pk]), {"frame_type": "poem"})
    assert answer.status_code == 400 and "poem" in said(answer)


@pytest.mark.django_db
@pytest.mark.parametrize(
    ("key", "figure", "falling"),
    [
        ("stars", "stars", False),
        ("width", "fwhm_px", True),
        ("shape", "elongation", True),
        ("background", "background", True),
    ],
)
def test_the_sheet_is_sorted_by_what_is_asked(desk, small_take, key, figure, falling):
    frames = list(small_take.frame_set.all())
    for f, value in zip(frames, (30.0, 10.0, 50.0, 20.0, 40.0), strict=True):
        f.measure = {**f.measure, figure: value}
        f.save()
    page = said(desk.get(reverse("take", args=[small_take.pk]), {"order": key}))
    wanted = sorted(frames, key=lambda f: f.measure[figure], reverse=falling)
    places = [page.index(f"/frames/{f.pk}/small") for f in wanted]
    assert places == sorted(places)


@pytest.mark.django_db
def test_the_simulated_phone_shoots_what_was_planned_and_again_when_asked(
    desk, shot, small_sensor, tools, monkeypatch
):
    desk.post(reverse("shoot", args=[shot.pk]))
    take = Take.objects.get()
    assert Job.objects.get().kind == "shoot" and take.title == shot.title
    plan = type(shot).burst
    monkeypatch.setattr(type(shot), "burst", lambda self, seed: replace(plan(self, seed), count=2))
    for _ in (1, 2):
        shoot_take(take.pk, tools)
        frames = list(take.frame_set.all())
        assert len(frames) == 2 and all(f.measure["stars"] > 100 and not f.error for f in frames)
        assert sorted(p.name for p in take.folder.glob("*.dng")) == sorted(f.stored for f in frames)
    labels = [label for label, _ in tools.progress.told]
    assert labels.index("shooting frame 2 of 2") < labels.index("measuring frame 1 of 2")
    gap = frames[1].measure["time"] - frames[0].measure["time"]
    assert shot.moment - 1 <= frames[0].measure["time"] and gap > (frames[0].measure["exposure_s"] or 0)


@pytest.mark.django_db
def test_the_film_shows_the_kept_frames_in_order_and_few_are_not_filmed(desk, small_take, tools):
    assert desk.get(reverse("film", args=[small_take.pk])).status_code == 404
    dropped = small_take.frame_set.get(name="IMG_0002.dng")
    desk.post(reverse("decide", args=[dropped.pk]), {"decision": "drop"})
    assert (
        desk.post(reverse("film", args=[small_take.pk])).status_code == 302
        and Job.objects.get().kind == "film"
    )
    film_take(small_take.pk, tools)
    answer = desk.get(reverse("film", args=[small_take.pk]))
    assert answer["Content-Type"] == "video/webm"
    path = small_take.folder / "check.webm"
    path.write_bytes(b"".join(answer.streaming_content))
    reader, pictures = cv2.VideoCapture(str(path)), []
    while (read := reader.read())[0]:
        pictures.append(read[1])
    assert len(pictures) == 4 and len(small_take.stackable()) == 4
    assert pictures[0].shape == (600, 800, 3) and reader.get(cv2.CAP_PROP_FPS) == 24
    looks = [cv2.imread(str(small_take.previews / f"{f.stored[:-4]}.jpg")) for f in small_take.stackable()]
    for picture, look in zip(pictures, looks, strict=True):
        size = (picture.shape[1] // 8, picture.shape[0] // 8)
        a, b = (cv2.resize(p, size, interpolation=cv2.INTER_AREA).astype(float) for p in (picture, look))
        assert np.abs(a - b).mean() < 6
    for f in small_take.stackable()[1:]:
        desk.post(reverse("decide", args=[f.pk]), {"decision": "drop"})
    answer = desk.post(reverse("film", args=[small_take.pk]))
    assert answer.status_code == 400 and "needs" in said(answer) and Job.objects.count() == 1


@pytest.mark.django_db
def test_a_job_that_is_told_to_stop_stops_and_keeps_what_was_there(card, tools):
    take, _ = card
    with pytest.raises(Cancelled):
        measure_take(take.pk, replace(tools, stop=lambda: True))
    assert all(f.measure is None and not f.error for f in take.frame_set.all() if f.name.startswith("IMG"))
    assert len(list(take.folder.glob("*.dng"))) >= 6
    measure_take(take.pk, tools)
    assert all(f.measure for f in take.frame_set.filter(name__startswith="IMG"))


@pytest.mark.django_db
def test_own_frames_may_belong_to_a_shot_or_to_none_and_not_to_anothers(desk, shot, stranger, client):
    desk.post(reverse("take-upload"), {"shot": shot.pk})
    desk.post(reverse("take-upload"))
    first, second = Take.objects.order_by("id")
    assert (
        first.shot == shot
        and first.title == shot.title
        and second.shot is None
        and second.title == "Own frames"
    )
    page = said(desk.get(reverse("takes")))
    assert shot.title in page and "Own frames" in page
    client.force_login(stranger)
    assert client.post(reverse("take-upload"), {"shot": shot.pk}).status_code == 404
    assert client.get(reverse("take", args=[first.pk])).status_code == 404


def test_a_file_is_explained_and_forgotten(desk):
    grey = io.BytesIO()
    Image.fromarray(np.full((480, 640, 3), 90, np.uint8)).save(grey, "JPEG")
    files = [upload("a.jpg", grey.getvalue()), upload("notes.txt", b"not a picture")]
    page = said(desk.post(reverse("doctor"), {"files": files}))
    assert "a finished picture" in page and "notes.txt" in page
    assert "Files that end in .txt are not read" in page
    assert desk.post(reverse("doctor"), {}).status_code == 400


def test_measures_and_lenses_are_stored_with_the_version_they_are_of(small_take):
    from vinter.web.gear.models import Phone

    frame = small_take.frame_set.exclude(measure=None).first()
    phone = Phone.objects.filter(owner=small_take.owner).first()
    for row, name in ((frame, "measure"), (phone, "lenses")):
        row.save()
        with connection.cursor() as asked:
            asked.execute(f"select {name} from {row._meta.db_table} where id = %s", [row.pk])
            stored = json.loads(asked.fetchone()[0])
        kept = [stored] if name == "measure" else stored.values()
        assert kept and all(one["version"] == 1 for one in kept)
