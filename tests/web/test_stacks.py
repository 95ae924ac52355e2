"""Stacking another way, the ground of one frame, comparing, and what is kept."""

import json
import re

import numpy as np
import pytest
import tifffile
from desk import said
from django.urls import reverse

from vinter.core.stage_cache import StageCache, key_of, prune
from vinter.web.jobs.models import Job
from vinter.web.stacks.models import Stack


def stacked(desk, take, worked, **wishes):
    desk.post(reverse("stack-new", args=[take.pk]), wishes)
    worked()
    return Stack.objects.latest("id")


@pytest.mark.django_db
def test_another_way_keeps_frames_mask_and_registration(desk, small_take, worked):
    first = stacked(desk, small_take, worked)
    assert first.report["reused"]["registration"] is False
    strokes = json.dumps([{"points": [[200, 200], [600, 200]], "radius": 110, "sky": False}])
    desk.post(reverse("paint", args=[first.pk]), {"strokes": strokes})
    painted = Stack.objects.latest("id")
    worked()
    desk.post(reverse("stack-otherwise", args=[painted.pk]), {"method": "weighted", "kappa": "4"})
    third = Stack.objects.latest("id")
    assert (
        third.frames == first.frames
        and third.painted
        and third.own_mask.read_bytes() == painted.own_mask.read_bytes()
    )
    worked()
    report = Stack.objects.get(pk=third.pk).report
    assert (
        report["method"] == "weighted"
        and report["reused"]["registration"]
        and report["reused"]["frames"] == 5
    )
    page = said(desk.get(reverse("stack", args=[third.pk])))
    assert "5 frames, registration, mask" in page and re.search(r'value="weighted"[^>]* selected', page)
    # the first one stands as it was
    assert Stack.objects.get(pk=first.pk).report["method"] == "clip" and first.picture.is_file()


@pytest.mark.django_db
def test_one_frame_gives_the_ground(desk, small_take, worked):
    frame = small_take.frame_set.get(name="IMG_0003.dng")
    one = stacked(desk, small_take, worked, ground=f"frame:{frame.pk}")
    assert one.report["ground"] == {"way": "one frame", "frames": 1, "name": "IMG_0003.dng"}
    other = stacked(desk, small_take, worked)
    low = np.s_[560:590, 100:700, 1]
    steps = [np.abs(np.diff(tifffile.imread(s.picture)[low], axis=1)).mean() for s in (one, other)]
    assert steps[0] > steps[1]  # one frame is noisier than the mean of five


@pytest.mark.django_db
def test_a_join_painted_by_hand_is_kept_for_the_next_way_too(desk, small_take, worked):
    for name in ("IMG_0000.dng", "IMG_0004.dng"):
        small_take.frame_set.filter(name=name).update(frame_type="ground", type_set_by_hand=True)
    plain = stacked(desk, small_take, worked)
    assert "ground from IMG" not in said(desk.get(reverse("paint", args=[plain.pk])))
    first = stacked(desk, small_take, worked, ground="focus")
    assert first.report["ground"]["way"] == "focus"
    page = said(desk.get(reverse("paint", args=[first.pk])))
    assert "ground from IMG_0000.dng" in page and "ground from IMG_0004.dng" in page
    stroke = {"points": [[100, 1150], [1500, 1150]], "radius": 60, "sky": False}
    strokes = json.dumps([{**stroke, "frame": 2}])
    tried = desk.post(reverse("paint-try", args=[first.pk]), {"strokes": strokes})
    untouched = desk.post(reverse("paint-try", args=[first.pk]), {"strokes": "[]"})
    assert tried.content == untouched.content  # the sky mask does not change
    desk.post(reverse("paint", args=[first.pk]), {"strokes": strokes})
    worked()
    second = Stack.objects.latest("id")
    assert not second.painted and not second.own_mask.is_file()
    shares = [s.report["ground"]["focus_shares"] for s in (first, second)]
    assert shares[1][1] > shares[0][1] + 0.1  # more of the second frame
    desk.post(reverse("stack-otherwise", args=[second.pk]), {"method": "mean", "ground": "focus"})
    third = Stack.objects.latest("id")
    assert third.own_join.read_bytes() == second.own_join.read_bytes()
    for wrong in ({**stroke, "frame": 3}, {**stroke, "frame": 999}, {**stroke, "frame": "x"}):
        answer = desk.post(reverse("paint", args=[first.pk]), {"strokes": json.dumps([wrong])})
        assert answer.status_code == 400, wrong
    before = third.own_join
    desk.post(reverse("bin-put", args=["stack", third.pk]))
    assert before.is_file()  # until the bin is emptied


@pytest.mark.django_db
def test_wrong_wishes_name_the_field_and_start_nothing(desk, small_take, stranger, client):
    for wishes, word in (
        ({"kappa": "seven"}, "Leave out beyond"),
        ({"kappa": "99"}, "Leave out beyond"),
        ({"method": "magic"}, "Combine"),
        ({"ground": "own"}, "Ground"),
        ({"ground": "frame:999999"}, "Ground"),
        ({"tail": "2"}, "Tails"),
    ):
        answer = desk.post(reverse("stack-new", args=[small_take.pk]), wishes)
        assert answer.status_code == 400 and word in said(answer)
    assert not Stack.objects.exists() and not Job.objects.exists()
    client.force_login(stranger)
    assert client.post(reverse("stack-new", args=[small_take.pk])).status_code == 404


@pytest.mark.django_db
def test_side_by_side_shows_ones_own_only(desk, small_take, stranger):
    a, b = small_take.frame_set.all()[:2]
    page = said(desk.get(reverse("compare"), {"a": f"frame:{a.pk}", "b": f"frame:{b.pk}"}))
    assert page.count('data-picture="/frames/') == 2 and "alike within the errors" in page
    scales = re.findall(r'data-scale="([\d.]+)"', page)
    focal = small_take.shot.core_lens.f35 / 43.27 * np.hypot(800, 600)
    assert [float(s) for s in scales] == pytest.approx([206265 / focal] * 2, rel=1e-3)
    desk.force_login(stranger)
    page = said(desk.get(reverse("compare"), {"a": f"frame:{a.pk}", "b": f"frame:{b.pk}"}))
    assert "data-picture" not in page and "nothing to compare yet" in page
    for odd in ("", "frame:", "stack:7", "frame:x", "site:1"):
        assert desk.get(reverse("compare"), {"a": odd, "b": odd}).status_code == 200


def test_up_to_four_stand_side_by_side_with_what_differs(desk, small_take, small_stack):
    a, b, c = small_take.frame_set.all()[:3]
    keys = {"a": f"stack:{small_stack.pk}", "b": f"frame:{a.pk}", "c": f"frame:{b.pk}", "d": f"frame:{c.pk}"}
    page = said(desk.get(reverse("compare"), keys))
    assert page.count("data-picture=") == 4 and page.count(", against stack of") == 3
    assert page.count("times grainier") == 3 and "the finest" in page.lower()
    three = said(desk.get(reverse("compare"), {k: v for k, v in keys.items() if k != "b"}))
    assert three.count("data-picture=") == 3 and 'name="d"' in three


def test_what_is_kept_is_whole_and_the_oldest_goes_first(tmp_path):
    import os

    kept = StageCache(tmp_path / "a")
    assert kept.made(key_of("x", 1), lambda: {"value": 3}) == ({"value": 3}, False)
    assert kept.made(key_of("x", 1), lambda: 1 / 0) == ({"value": 3}, True)
    assert key_of("x", 1) != key_of("x", 2)
    kept.path(key_of("x", 1), ".pickle").write_bytes(b"cut off")
    assert kept.found(key_of("x", 1)) is None
    assert not list(kept.folder.glob("*.part"))
    for i in range(5):
        path = kept.path(f"frame{i}", ".npy")
        path.write_bytes(bytes(1000))
        os.utime(path, (1000 + i, 1000 + i))
    kept.path(key_of("x", 1), ".pickle").unlink()
    assert prune([kept.folder, tmp_path / "gone"], 2500) == 3000
    assert sorted(p.name for p in kept.folder.iterdir()) == ["frame3.npy", "frame4.npy"]


@pytest.mark.django_db
def test_frames_the_target_had_left_are_doubted_and_judging_twice_says_nothing_twice(small_take):
    from vinter.web.takes.tasks import _compare

    frames = list(small_take.frame_set.all())
    for i, f in enumerate(frames):
        f.measure = {**f.measure, "time": small_take.shot.moment + (6 * 3600 if i == 4 else 20 * i)}
        f.save()
    for _ in (1, 2):
        _compare(small_take)
    judged = [f.measure for f in small_take.frame_set.all()]
    assert [m["verdict"] for m in judged] == ["keep"] * 4 + ["doubt"]
    assert judged[4]["reasons"][0] == "Core of the galaxy had left the frame, if the phone pointed as planned"
    assert all(len(set(m["reasons"])) == len(m["reasons"]) for m in judged)


@pytest.mark.django_db
def test_anothers_stack_cannot_be_looked_at_beside_a_frame(desk, small_stack, stranger):
    keys = {"a": f"stack:{small_stack.pk}", "b": f"stack:{small_stack.pk}"}
    assert said(desk.get(reverse("compare"), keys)).count("data-picture") == 2
    desk.force_login(stranger)
    assert "data-picture" not in said(desk.get(reverse("compare"), keys))
