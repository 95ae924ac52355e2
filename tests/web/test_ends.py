"""What is over goes: sessions, jobs, tickets, invitations; and every log line is one event."""

import logging
from datetime import timedelta

import pytest
from django.contrib.sessions.models import Session
from django.urls import reverse
from django.utils import timezone

from vinter.core.stage_cache import StageCache
from vinter.web.accounts.models import INVITATION_DAYS, Invitation
from vinter.web.field.models import OPEN_DAYS, CardTicket, ticket_of
from vinter.web.jobs.models import Job
from vinter.web.logs import REQUEST, OneLine
from vinter.web.space.ends import JOB_DAYS, forget_old

pytestmark = pytest.mark.django_db


def test_what_is_over_is_forgotten_and_what_still_counts_stays(nerea, shot, desk):
    long_ago = timezone.now() - timedelta(days=JOB_DAYS + 1)
    old = Job.objects.create(owner=nerea, kind="stack", subject=1, state=Job.DONE, ended=long_ago)
    recent = Job.objects.create(owner=nerea, kind="stack", subject=2, state=Job.DONE, ended=timezone.now())
    waiting = Job.objects.create(owner=nerea, kind="stack", subject=3)
    Job.objects.filter(pk=waiting.pk).update(created=long_ago)
    ticket, revoked = ticket_of(shot), CardTicket.objects.create(shot=shot, revoked=True)
    lost = CardTicket.objects.create(shot=shot)
    CardTicket.objects.filter(pk=lost.pk).update(created=timezone.now() - timedelta(days=OPEN_DAYS + 1))
    good, over = (Invitation.objects.create(owner=nerea) for _ in range(2))
    Invitation.objects.filter(pk=over.pk).update(created=timezone.now() - timedelta(days=INVITATION_DAYS + 1))
    Session.objects.create(session_key="a", session_data="", expire_date=timezone.now() - timedelta(days=1))
    here = Session.objects.filter(expire_date__gt=timezone.now()).count()
    assert forget_old() == 5 and forget_old() == 0
    assert set(Job.objects.values_list("pk", flat=True)) == {recent.pk, waiting.pk} and old.pk
    assert list(CardTicket.objects.all()) == [ticket] and revoked.pk
    assert list(Invitation.objects.all()) == [good]
    assert Session.objects.count() == here > 0  # she is still signed in


def test_a_log_line_is_one_event_with_the_number_of_its_request(desk):
    assert len(desk.get(reverse("home"))["X-Request-ID"]) == 8
    token = REQUEST.set("deadbeef")
    try:
        1 / 0  # noqa: B018
    except ZeroDivisionError:
        record = logging.getLogger("vinter").makeRecord(
            "vinter", logging.ERROR, "f", 1, "the chore %s failed", ("sweep",), __import__("sys").exc_info()
        )
        line = OneLine().format(record)
    finally:
        REQUEST.reset(token)
    assert "\n" not in line and "deadbeef" in line and "the chore sweep failed | Traceback" in line


def test_a_kept_result_that_was_touched_is_worked_out_again(tmp_path):
    cache = StageCache(tmp_path)
    cache.keep("a", {"stars": [1, 2]})
    assert cache.found("a") == {"stars": [1, 2]}
    path = cache.path("a", ".pickle")
    data = bytearray(path.read_bytes())
    data[-3] ^= 1
    path.write_bytes(bytes(data))
    assert cache.found("a") is None
    # code in place of a result is never run
    import pickle

    class Evil:
        def __reduce__(self):
            return (open, (str(tmp_path / "ran"), "w"))

    path.write_bytes(pickle.dumps(Evil()))
    assert cache.found("a") is None and not (tmp_path / "ran").exists()
