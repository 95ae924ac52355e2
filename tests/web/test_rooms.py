"""Borders between rooms as they run: jobs know no app, each app has its addresses, the head of a page
links."""

import re
from pathlib import Path

import pytest
from desk import said
from django.conf import settings
from django.urls import NoReverseMatch, get_resolver, reverse
from django.utils.module_loading import import_string

from vinter.web.finish.models import Export, Finish
from vinter.web.jobs import registry
from vinter.web.jobs.models import Job, enqueue
from vinter.web.takes.models import Take
from vinter.web.urls import ROOMS
from vinter.web.workflow import head

WEB = Path(settings.BASE)


def test_jobs_import_no_app_and_every_kind_has_its_function():
    for path in (WEB / "jobs").glob("*.py"):
        rooms = re.findall(r"vinter\.web\.(\w+)", path.read_text())
        assert set(rooms) <= {"jobs", "owned", "workflow", "settings"}, path.name
    queued = set()
    for path in WEB.rglob("*.py"):
        queued |= set(re.findall(r'enqueue\([\w.()]+, "(\w+)"', path.read_text()))
    assert queued == {"shoot", "measure", "film", "stack", "join", "export"}
    for kind in queued:
        assert callable(registry.handler_of(kind)) and registry.kind_of(kind).lane in registry.LANES


def test_a_kind_that_nobody_registered_is_a_clear_error(monkeypatch):
    with pytest.raises(KeyError, match="dance"):
        registry.handler_of("dance")
    registry.register("dance", registry.JobKind("vinter.web.jobs.registry.handler_of"))
    try:
        assert registry.handler_of("dance") is import_string("vinter.web.jobs.registry.handler_of")
    finally:
        registry._KINDS.pop("dance")


@pytest.mark.django_db
def test_the_same_work_is_queued_once(nerea):
    first, second = (enqueue(nerea, "measure", 7) for _ in range(2))
    assert first.pk == second.pk and Job.objects.count() == 1
    Job.objects.update(state=Job.DONE)
    assert enqueue(nerea, "measure", 7).pk != first.pk


def test_every_app_has_its_own_addresses_and_no_name_stands_twice():
    folders = {p.parent.name for p in WEB.glob("*/urls.py")}
    assert folders == set(ROOMS)
    names = [p.name for room in get_resolver().url_patterns for p in room.url_patterns]
    assert len(names) == len(set(names)) > 90
    assert len((WEB / "urls.py").read_text().splitlines()) < 40


def test_templates_name_only_addresses_that_are_there():
    names = set()
    for path in (WEB / "templates").rglob("*.html"):
        names |= set(re.findall(r"\{% url '([\w-]+)'", path.read_text()))
    known = {p.name for room in get_resolver().url_patterns for p in room.url_patterns}
    assert names <= known


def test_apps_are_named_in_the_order_of_the_work():
    apps = [a.removeprefix("vinter.web.") for a in settings.INSTALLED_APPS if a.startswith("vinter.web.")]
    order = ["sites", "nights", "skyline", "shots", "takes", "stacks", "finish", "ledger"]
    assert [a for a in apps if a in order] == order


@pytest.mark.django_db
def test_the_head_leads_along_a_shot_and_no_farther(shot):
    steps = {s.name: s for s in head("Shot", shot=shot)["steps"]}
    assert list(steps) == [
        "Sites", "Season", "Night", "Skyline", "Shot", "Field", "Takes", "Stack", "Finish", "Ledger"
    ]  # fmt: skip
    assert {n for n, s in steps.items() if s.reached} == {"Sites", "Night", "Skyline", "Shot", "Field"}
    assert [n for n, s in steps.items() if s.here] == ["Shot"]
    assert steps["Night"].url == reverse("night", args=[shot.site_id, "2027-06-09"])
    assert steps["Takes"].url == reverse("takes")
    assert f"t={round(shot.moment)}" in steps["Skyline"].url and "lens=" in steps["Skyline"].url


@pytest.mark.django_db
def test_the_head_of_a_finish_holds_everything_before_it(begun_finish):
    steps = {s.name: s for s in head("Finish", finish=begun_finish)["steps"]}
    assert {n for n, s in steps.items() if s.reached} == set(steps) - {"Season", "Ledger"}
    assert steps["Stack"].url == reverse("stack", args=[begun_finish.stack_id])
    assert steps["Takes"].url == reverse("take", args=[begun_finish.stack.take_id])


@pytest.fixture
def begun_finish(small_stack):
    return Finish.objects.create(owner=small_stack.owner, stack=small_stack, recipe={}, version="1")


@pytest.mark.django_db
def test_a_recipe_saved_long_ago_opens_in_todays_form(begun_finish, desk):
    Finish.objects.filter(pk=begun_finish.pk).update(
        recipe={"floor": 0.7, "sky": {"contrast": 1.4}, "crop": {"ratio": "1:1"}, "level": 2.0}
    )
    one = Finish.objects.get()
    assert one.recipe["black_point"]["magnitudes"] == 0.7 and one.recipe["geometry"]["ratio"] == "1:1"
    page = said(desk.get(reverse("finish", args=[one.pk])))
    assert re.search(r'data-path="black_point.magnitudes"[^>]*value="0.7"', page)
    assert re.search(r'data-path="curve.sky.contrast"[^>]*value="1.4"', page)
    made = Export.objects.create(owner=one.owner, finish=one, kind="jpg", recipe={"floor": 0.7})
    made.refresh_from_db()
    assert made.recipe["version"] == 2 and made.label == "JPEG"


@pytest.mark.django_db
@pytest.mark.parametrize("kind", ["site", "shot", "take", "stack", "finish"])
def test_what_a_row_is_called_is_readable(kind, mill, shot, small_stack, begun_finish):
    row = {
        "site": mill,
        "shot": shot,
        "take": small_stack.take,
        "stack": small_stack,
        "finish": begun_finish,
    }[kind]
    assert str(row) and "object" not in str(row)


@pytest.mark.django_db
def test_a_take_knows_its_frames_by_what_they_are_for(small_take):
    frames = list(small_take.frame_set.all())
    for frame, frame_type in zip(frames, ("sky", "ground", "dark", "flat", "sky"), strict=True):
        frame.frame_type = frame_type
        frame.save()
    frames[4].decision = "drop"
    frames[4].save()
    one = Take.objects.get(pk=small_take.pk)
    assert [f.pk for f in one.stackable()] == [frames[0].pk]
    assert [f.pk for f in one.serving_as("ground")] == [frames[1].pk]
    assert [f.pk for f in one.serving_as("dark")] == [frames[2].pk] and one.serving_as("bias") == []
    frames[1].decision = "keep"
    frames[1].save()
    assert {f.pk for f in Take.objects.get(pk=one.pk).stackable()} == {frames[0].pk, frames[1].pk}


def test_no_address_of_old_is_left_in_a_page():
    for name in ("sites-bring", "phone-carry", "habits", "look", "site-drop"):
        with pytest.raises(NoReverseMatch):
            reverse(name)
