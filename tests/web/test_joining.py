"""Stacks joined into one picture through the pages, and finished like any."""

import json
from concurrent.futures import ProcessPoolExecutor
from dataclasses import asdict, replace
from multiprocessing import get_context
from types import SimpleNamespace

import cv2
import numpy as np
import pytest
import tifffile
from fields import LENS, fields_of

from vinter.web.finish.models import Finish
from vinter.web.jobs.models import Job
from vinter.web.stacks.joining import run_join
from vinter.web.stacks.models import Stack


@pytest.fixture
def two(small_take, shot):
    """Two finished stacks of overlapping fields, as their jobs would have left them."""
    site = shot.site.core()
    out = []
    for panel in fields_of(
        ((160, 25, 0), (186, 25, 0.5)), replace(LENS, width=1260, height=944, pitch=3.2), site
    ):
        one = Stack.objects.create(
            owner=shot.owner, take=small_take, frames=[f.pk for f in small_take.frame_set.all()], version="x"
        )
        one.folder.mkdir(parents=True)
        colour = json.dumps({"neutral": [0.46, 1, 0.71], "matrix": np.eye(3).tolist()})
        tifffile.imwrite(one.picture, panel.rgb, photometric="rgb", description=colour)
        cv2.imwrite(str(one.picture.with_suffix(".mask.png")), (panel.sky * 255).astype(np.uint8))
        one.report = {
            "version": 2,
            "reference": "a",
            "frames": [{"file": "a", "used": True, "time": panel.unix - shot.shutter / 2}],
            "frames_used": 5,
            "field": asdict(panel.field),
        }
        one.save()
        out.append(one)
    return out


def test_two_stacks_are_joined_and_finished(desk, two, tools):
    page = desk.get("/stacks/").content.decode()
    assert page.count('name="parts"') == 2 and "Join the chosen stacks" in page
    answer = desk.post("/stacks/join/", {"parts": [s.pk for s in two], "layout": "auto"})
    joined = Stack.objects.latest("pk")
    assert answer.url == f"/stacks/{joined.pk}/" and Job.objects.latest("pk").kind == "join"
    with ProcessPoolExecutor(1, mp_context=get_context("spawn")) as pool:  # as the worker does it
        run_join(joined.pk, replace(tools, pool=pool))
    Job.objects.all().update(state=Job.DONE)
    joined.refresh_from_db()
    field = joined.report["field"]
    assert field["width"] > 1.08 * 1260 and joined.report["joined"]["shared_px"] < 0.5
    page = desk.get(answer.url).content.decode()
    assert "2 stacks" in page and "10 frames in all" in page and "Finish it" in page
    made = desk.post(f"/stacks/{joined.pk}/finish/new")
    assert desk.get(made.url).status_code == 200 and Finish.objects.latest("pk").stack == joined
    for kind in ("tiff", "fits", "png"):
        assert desk.get(f"/stacks/{joined.pk}/{kind}/").status_code == 200
    assert "joined" in desk.get("/stacks/").content.decode()


def test_what_cannot_be_joined_says_why(desk, two, small_stack):
    for parts, words in (([two[0].pk], "2 to 8 stacks"), ([small_stack.pk, two[0].pk], "Stacks")):
        answer = desk.post("/stacks/join/", {"parts": parts})
        assert answer.status_code == 400 and words in answer.content.decode()
    joined = Stack.objects.create(
        owner=two[0].owner, take=two[0].take, frames=[], kind="join", parts=[10**6, two[0].pk], version="x"
    )
    with pytest.raises(Exception, match="is gone"):
        run_join(joined.pk, SimpleNamespace(progress=lambda *a: None, pool=None))
    assert desk.post(f"/stacks/{joined.pk}/otherwise/").status_code == 400
    assert desk.get(f"/stacks/{joined.pk}/paint/").status_code == 400
