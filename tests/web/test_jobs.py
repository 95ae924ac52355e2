"""Jobs: claimed once, taken over when their heart stops, in turns, in two lanes, with a place in the
queue."""

import ast
import os
import subprocess
import sys
from datetime import timedelta
from pathlib import Path

import pytest
from desk import said
from django.db import IntegrityError, connection, transaction
from django.urls import reverse
from django.utils import timezone

from vinter.core.errors import BadInput
from vinter.web.jobs.models import (
    Heartbeats,
    Job,
    beat,
    by_turns,
    cancel,
    claim,
    enqueue,
    finish,
    give_back,
    in_turn,
    report,
    wants_stop,
)
from vinter.web.jobs.registry import LONG, QUICK

PATIENT, AT_ONCE = Heartbeats(1000.0), Heartbeats(0.0)


@pytest.mark.django_db
def test_a_job_is_claimed_once_and_taken_over_when_its_heart_stops(nerea):
    job = enqueue(nerea, "stack", 7)
    assert enqueue(nerea, "stack", 7).pk == job.pk
    first = claim(LONG, PATIENT)
    assert first.pk == job.pk and claim(LONG, PATIENT) is None
    report(first, "half", 0.5)
    second = claim(LONG, AT_ONCE)
    assert second.attempt == 2
    assert not beat(first) and not finish(first, Job.DONE) and wants_stop(first)
    assert beat(second) and finish(second, Job.DONE)


@pytest.mark.django_db
def test_a_heart_that_beats_is_never_taken_for_dead_and_no_clock_that_can_be_set_decides(nerea, monkeypatch):
    now = [100.0]
    monkeypatch.setattr("vinter.web.jobs.models.time.monotonic", lambda: now[0])
    enqueue(nerea, "stack", 7)
    running, watcher = claim(LONG, PATIENT), Heartbeats(15.0)
    for wall in (timedelta(days=-400), timedelta(days=400), timedelta(0)):
        Job.objects.update(beaten=timezone.now() + wall, started=timezone.now() + wall)
        now[0] += 14
        assert claim(LONG, watcher) is None
        beat(running)
    assert claim(LONG, watcher) is None  # the new beat is seen
    now[0] += 14.9
    assert claim(LONG, watcher) is None
    now[0] += 0.2
    assert claim(LONG, watcher).attempt == 2


@pytest.mark.django_db
def test_a_job_whose_process_dies_every_time_is_given_up_and_can_be_asked_again(nerea):
    enqueue(nerea, "stack", 7)
    for _ in range(4):
        give_back(claim(LONG, PATIENT))
    assert claim(LONG, PATIENT) is None
    job = Job.objects.get()
    assert job.state == Job.FAILED and "given up after 4 attempts" in job.error
    assert enqueue(nerea, "stack", 7).pk != job.pk and claim(LONG, PATIENT).attempt == 1


@pytest.mark.django_db
def test_people_take_turns_and_quick_work_has_its_own_lane(nerea, stranger):
    for subject in range(1, 5):
        enqueue(nerea, "stack", subject)
    enqueue(stranger, "stack", 11)
    enqueue(stranger, "film", 12)
    enqueue(nerea, "measure", 1)
    order = [(j.owner_id == nerea.pk, j.subject) for j in in_turn(LONG)]
    assert order == [(True, 1), (False, 11), (True, 2), (False, 12), (True, 3), (True, 4)]
    begun = []
    while job := claim(LONG, PATIENT):
        begun.append((job.owner_id == nerea.pk, job.subject))
        finish(job, Job.DONE)
    assert begun == order
    assert claim(QUICK, PATIENT).kind == "measure"


def test_turns_follow_who_was_served_longest_ago():
    jobs = [Job(pk=i, owner_id=owner) for i, owner in enumerate((1, 1, 2, 3, 2), 1)]
    assert [j.pk for j in by_turns(jobs, {1: 9, 2: 4})] == [4, 3, 1, 5, 2]


@pytest.mark.django_db
def test_the_page_tells_the_place_in_the_queue_and_what_is_before_it(desk, nerea, stranger):
    enqueue(stranger, "stack", 1)
    running = claim(LONG, PATIENT)
    report(running, "combining", 0.4)
    enqueue(nerea, "film", 2)
    mine = enqueue(nerea, "stack", 3)
    page = said(desk.get(reverse("job", args=[mine.pk])))
    assert "3rd in the queue of long work" in page
    assert "a stack of somebody else , running, 40 %" in page and "a time-lapse of yours" in page
    quick = enqueue(nerea, "measure", 3)
    assert "Next in the queue" in said(desk.get(reverse("job", args=[quick.pk])))


@pytest.mark.django_db
def test_one_person_cannot_fill_the_queue(nerea, stranger, settings):
    settings.JOBS_PER_PERSON = 3
    for subject in range(3):
        enqueue(nerea, "stack", subject)
    with pytest.raises(BadInput, match="3 jobs of yours are waiting"):
        enqueue(nerea, "stack", 9)
    assert enqueue(nerea, "stack", 1).subject == 1 and enqueue(stranger, "stack", 9)


@pytest.mark.django_db
def test_what_arrives_while_it_is_measured_is_measured_after(nerea):
    enqueue(nerea, "measure", 5)
    running = claim(QUICK, PATIENT)
    assert enqueue(nerea, "measure", 5).pk == running.pk
    assert finish(running, Job.DONE)
    once_more = claim(QUICK, PATIENT)
    assert once_more.pk == running.pk and finish(once_more, Job.DONE)
    assert claim(QUICK, PATIENT) is None and Job.objects.get().state == Job.DONE


@pytest.mark.django_db
def test_a_dead_job_is_cancelled_at_once_and_asked_again(desk, nerea):
    enqueue(nerea, "stack", 7)
    dead = claim(LONG, PATIENT)
    assert not dead.silent
    Job.objects.update(beaten=timezone.now() - timedelta(minutes=5))
    page = said(desk.get(reverse("job", args=[dead.pk])))
    assert "The worker stopped responding" in page
    desk.post(reverse("job-cancel", args=[dead.pk]))
    dead.refresh_from_db()
    assert dead.state == Job.CANCELLED and "its process was gone" in dead.error
    assert enqueue(nerea, "stack", 7).pk != dead.pk


@pytest.mark.django_db
def test_a_cancelled_job_whose_process_dies_is_not_begun_again(nerea):
    enqueue(nerea, "stack", 7)
    running = claim(LONG, PATIENT)
    cancel(running)
    assert wants_stop(running)
    assert claim(LONG, AT_ONCE) is None and Job.objects.get().state == Job.CANCELLED


@pytest.mark.django_db
def test_the_database_itself_refuses_a_second_active_job_of_a_subject(nerea, monkeypatch):
    Job.objects.create(owner=nerea, kind="stack", subject=1)
    with pytest.raises(IntegrityError), transaction.atomic():
        Job.objects.create(owner=nerea, kind="stack", subject=1, state=Job.RUNNING)
    Job.objects.create(owner=nerea, kind="stack", subject=1, state=Job.DONE)


@pytest.mark.django_db
def test_a_claim_holds_its_rows_where_the_database_can(nerea, monkeypatch):
    """On a database with row locks the claim asks for them and passes over rows that others hold."""
    from vinter.web.jobs import models

    assert not models._locked(Job.objects.all()).query.select_for_update_skip_locked
    monkeypatch.setattr(connection.features, "has_select_for_update_skip_locked", True)
    query = models._locked(Job.objects.all()).query
    assert query.select_for_update and query.select_for_update_skip_locked


def test_what_a_pool_process_does_can_be_loaded_there():
    """Its processes know no database: every function that a job hands them is imported in a fresh one."""
    root, names = Path(__file__).parents[2] / "src", set()
    for path in (root / "vinter/web").rglob("*.py"):
        tree = ast.parse(path.read_text())
        home = {
            alias.asname or alias.name: (node.module, alias.name)
            for node in ast.walk(tree)
            if isinstance(node, ast.ImportFrom) and node.module
            for alias in node.names
        }
        module = ".".join(path.relative_to(root).with_suffix("").parts)
        for node in ast.walk(tree):
            if isinstance(node, ast.Call) and ast.unparse(node.func) == "context.pool.submit":
                name = ast.unparse(node.args[0])
                names.add(home.get(name, (module, name)))
    assert {n for _, n in names} >= {"shoot_frame", "measure_file", "join_files", "stack_files"}
    code = "".join(f"from {module} import {name}\n" for module, name in sorted(names))
    clean = {k: v for k, v in os.environ.items() if k != "DJANGO_SETTINGS_MODULE"}
    done = subprocess.run(
        [sys.executable, "-c", code], env={**clean, "PYTHONPATH": str(root)}, capture_output=True, text=True
    )
    assert done.returncode == 0, done.stderr[-2000:]
