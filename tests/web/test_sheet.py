"""The finished picture on paper, and beside one frame: what they show and what they keep to themselves."""

import base64
import io
import json
import re
from datetime import datetime
from zoneinfo import ZoneInfo

import numpy as np
import pytest
from desk import said
from django.urls import reverse
from PIL import Image

from vinter.core.finish.before_after import before_after
from vinter.web.finish.caption import caption, frames_by_shutter
from vinter.web.finish.models import Finish
from vinter.web.stacks.models import Stack


@pytest.fixture
def begun(desk, small_stack):
    desk.post(reverse("finish-new", args=[small_stack.pk]))
    return Finish.objects.get()


def facts(answer):
    rows = re.findall(r"<dt>(.*?)</dt>\s*<dd>\s*(.*?)\s*</dd>", answer.content.decode(), re.S)
    return {label: re.sub(r"\s+", " ", value) for label, value in rows}


def test_the_sheet_shows_picture_and_night_and_needs_nothing_else(desk, begun):
    answer = desk.get(reverse("finish-sheet", args=[begun.pk]))
    page = answer.content.decode()
    shown = Image.open(io.BytesIO(base64.b64decode(re.search(r"base64,([^\"]+)\" alt", page)[1])))
    assert shown.size == (800, 600) and 'class="upright"' not in page
    assert not re.search(r'(?:src|href)="(?!data:|\?place|/finish/)', page)  # complete in itself
    found = facts(answer)
    assert found["Place"] == begun.stack.take.shot.site.name and found["Exposure"] == "5 frames"
    assert begun.stack.take.title in page and begun.title in page


@pytest.mark.parametrize(
    ("many", "seconds", "words"),
    [(5, 1 / 30, "5 × 1/30 s"), (1, 0.0005, "1/2000 s"), (40, 0.99994, "40 × 1 s"), (5, None, "5 frames")],
)
def test_a_shutter_is_written_as_cameras_show_it(many, seconds, words):
    assert frames_by_shutter(many, seconds) == words


def test_a_caption_tells_a_short_shutter_as_the_sheet_does(begun):
    for frame in begun.stack.take.frame_set.all():
        frame.measure = {"exposure_s": 1 / 30, "iso": 100}
        frame.save()
    assert "5 × 1/30 s · ISO 100" in caption(begun)


def test_exposure_camera_and_times_are_those_of_the_files(desk, begun):
    start = begun.stack.take.shot.moment
    for n, frame in enumerate(begun.stack.take.frame_set.order_by("name")):
        frame.measure |= {
            "exposure_s": 15.0,
            "iso": 1600,
            "time": start + 16 * n,
            "camera": "Marlet 7",
            "f35": 24.0,
        }
        frame.measure |= {"aperture": 1.8, "time_source": "the GPS stamp"}
        frame.save()
    found = facts(desk.get(reverse("finish-sheet", args=[begun.pk])))
    assert found["Exposure"] == "5 × 15 s, ISO 1600, 1 min of light"
    assert found["Camera"] == "Marlet 7, 24 mm equivalent, f/1.8"
    begins, ends = (datetime.fromtimestamp(start + s, ZoneInfo("Europe/Lisbon")) for s in (0, 79))
    assert f"{begins:%H:%M}–{ends:%H:%M} (Europe/Lisbon)" in found["Night"]
    assert f"{begins.day} {begins:%B %Y}" in found["Night"]


def test_the_place_is_as_coarse_as_one_likes(desk, begun):
    site = begun.stack.take.shot.site

    def at(place):
        answer = desk.get(reverse("finish-sheet", args=[begun.pk]), {"place": place})
        return facts(answer), answer.content.decode()

    nothing, page = at("none")
    assert "Place" not in nothing and site.name not in page.split("<main")[1]
    exact, _ = at("exact")
    lat, lon = (float(v) for v in re.findall(r"([\d.]+)° [NSEW]", exact["Place"]))
    assert abs(lat - abs(site.lat)) < 6e-4 and abs(lon - abs(site.lon)) < 6e-4
    region, _ = at("region")
    lat, lon = (float(v) for v in re.findall(r"([\d.]+)° [NSEW]", region["Place"]))
    assert region["Place"].startswith("about") and lat % 0.5 == 0 and lon % 0.5 == 0
    assert abs(lat - abs(site.lat)) <= 0.25 and abs(lon - abs(site.lon)) <= 0.25
    refused = desk.get(reverse("finish-sheet", args=[begun.pk]), {"place": "street"})
    assert refused.status_code == 400 and "place" in said(refused)


def test_what_is_not_known_is_not_said(desk, begun):
    Stack.objects.filter(pk=begun.stack_id).update(
        report=begun.stack.report | {"sky": None, "field": None, "pose": None}
    )
    found = facts(desk.get(reverse("finish-sheet", args=[begun.pk])))
    assert {"Sky", "Direction", "In the frame"}.isdisjoint(found) and "None" not in str(found)


def test_one_frame_beside_the_finished_picture(desk, begun):
    answer = desk.get(reverse("finish-before-after", args=[begun.pk]))
    assert answer["Content-Type"] == "image/jpeg" and "attachment" in answer["Content-Disposition"]
    both = np.asarray(Image.open(io.BytesIO(answer.content))).astype(float)
    assert both.shape[1] == 800 and 600 < both.shape[0] < 660
    frame = np.asarray(Image.open(begun.stack.folder / "before.jpg").resize((800, 600))).astype(float)
    whole = reverse("draw", args=[begun.pk])
    finished = desk.post(whole, json.dumps(begun.recipe), content_type="application/json").content
    picture = np.asarray(Image.open(io.BytesIO(finished)).resize((800, 600))).astype(float)
    halves = np.s_[:600, 20:380], np.s_[:600, 420:780]
    for half, own, other in ((halves[0], frame, picture), (halves[1], picture, frame)):
        here, there = (np.abs(both[half] - one[half]).mean() for one in (own, other))
        assert here < 5 and there > 1.5 * here
    page = desk.get(reverse("finish", args=[begun.pk])).content.decode()
    assert reverse("finish-before-after", args=[begun.pk]) in page
    assert reverse("finish-sheet", args=[begun.pk]) in page


def test_other_peoples_pictures_are_not_printed(client, begun, stranger):
    client.force_login(stranger)
    for name in ("finish-sheet", "finish-before-after"):
        assert client.get(reverse(name, args=[begun.pk])).status_code == 404


@pytest.mark.parametrize(("height", "width"), [(200, 300), (300, 200)])
def test_halves_are_those_of_each_and_the_words_stand_on_paper(height, width):
    before, after = np.full((height, width, 3), 40, np.uint8), np.full((height, width, 3), 200, np.uint8)
    both = before_after(before[::2, ::2], after, ("one frame", "20 frames"))
    first, second = both[5, 5, 0], both[height - 5, width - 5, 0]
    assert (first, second) == (40, 200) and both.shape[1] == width and both.shape[0] > height
    strip = both[height:]
    assert (strip == 243).all(axis=2).sum() == 0 and strip.reshape(-1, 3).max(axis=0).tolist() == [
        241,
        243,
        242,
    ]
    assert (strip.max(axis=2) < 120).any()  # ink
