"""A job: long work as a row with state, progress, cancel flag, heartbeat and attempt."""

import time
from collections.abc import Iterable

from django.conf import settings
from django.contrib.auth.models import User
from django.db import IntegrityError, connection, models, transaction
from django.db.models import Max
from django.utils import timezone

from vinter.core.errors import BadInput
from vinter.web.jobs.registry import kind_of

ATTEMPTS = 4


class Job(models.Model):
    """Survives the death of any process: a running job whose heart stopped is taken up again from its
    start."""

    QUEUED, RUNNING, DONE, FAILED, CANCELLED = "queued", "running", "done", "failed", "cancelled"

    owner = models.ForeignKey(settings.AUTH_USER_MODEL, models.CASCADE)
    kind = models.CharField(max_length=20)
    lane = models.CharField(max_length=10, default="long")
    subject = models.BigIntegerField()
    state = models.CharField(max_length=10, default=QUEUED, db_index=True)
    label = models.CharField(max_length=80, default="waiting")
    progress = models.FloatField(default=0)
    cancel = models.BooleanField(default=False)
    again = models.BooleanField(default=False)  # asked for once more while it ran
    attempt = models.IntegerField(default=0)
    turn = models.BigIntegerField(default=0)  # counts the jobs of a lane as they are begun
    beats = models.BigIntegerField(default=0)
    beaten = models.DateTimeField(null=True)
    error = models.TextField(default="")
    created = models.DateTimeField(auto_now_add=True)
    started = models.DateTimeField(null=True)
    ended = models.DateTimeField(null=True)

    class Meta:
        ordering = ["-id"]
        constraints = [
            models.UniqueConstraint(
                fields=["kind", "subject"],
                condition=models.Q(state__in=["queued", "running"]),
                name="one_active_job_per_subject",
            )
        ]

    def __str__(self) -> str:
        return f"{self.kind} {self.subject}: {self.state}"

    @property
    def active(self) -> bool:
        """Whether it is waiting or running."""
        return self.state in (self.QUEUED, self.RUNNING)

    @property
    def percent(self) -> int:
        """Progress in per cent."""
        return round(100 * self.progress)

    @property
    def seconds_left(self) -> int | None:
        """Estimate from the pace so far; None while it is too early to tell, or a clock was set."""
        if self.state != self.RUNNING or not self.started or self.progress < 0.04:
            return None
        passed = (timezone.now() - self.started).total_seconds()
        return max(round(passed * (1 - self.progress) / self.progress), 1) if passed > 0 else None

    @property
    def silent(self) -> bool:
        """Whether it runs and nothing was heard of it for more than two leases, as far as clocks can be
        trusted."""
        if self.state != self.RUNNING or self.beaten is None:
            return False
        return abs((timezone.now() - self.beaten).total_seconds()) > 2 * settings.LEASE_SECONDS

    @property
    def ahead(self) -> "list[Job]":
        """Jobs of its lane that come before it: the running ones, then those that wait, by turns."""
        if self.state != self.QUEUED:
            return []
        running = list(Job.objects.filter(lane=self.lane, state=self.RUNNING).order_by("id"))
        waiting = in_turn(self.lane)
        return running + waiting[: next((i for i, j in enumerate(waiting) if j.pk == self.pk), 0)]

    @property
    def noun(self) -> str:
        """What kind of work it is, for people."""
        return kind_of(self.kind).noun


class Heartbeats:
    """Which running jobs still beat, by the steady clock of whoever watches: no clock that can be set
    decides."""

    def __init__(self, patience: float) -> None:
        self.patience = patience
        self._seen: dict[int, tuple[tuple[int, int], float]] = {}

    def stopped(self, job: Job) -> bool:
        """Whether a running job has not beaten for as long as the patience lasts."""
        mark, now = (job.attempt, job.beats), time.monotonic()
        seen, since = self._seen.get(job.pk, (None, now))
        if seen != mark:
            self._seen[job.pk] = (mark, now)
            return self.patience <= 0
        return now - since >= self.patience


def latest(kind: str, subject: int) -> Job | None:
    """The newest job of a kind about a subject."""
    return Job.objects.filter(kind=kind, subject=subject).first()


def enqueue(owner: User, kind: str, subject: int) -> Job:
    """Queue a job, or return the one that is already waiting or running for the same subject.

    Kinds that take in what arrives (measuring) run once more when asked while they run. BadInput when as many
    jobs of the owner wait as may.
    """
    try:
        with transaction.atomic():
            active = _locked(Job.objects.filter(kind=kind, subject=subject, state__in=_ACTIVE)).first()
            if active:
                if active.state == Job.RUNNING and kind_of(kind).takes_in:
                    Job.objects.filter(pk=active.pk).update(again=True)
                return active
            if Job.objects.filter(owner=owner, state=Job.QUEUED).count() >= settings.JOBS_PER_PERSON:
                raise BadInput(
                    f"{settings.JOBS_PER_PERSON} jobs of yours are waiting, as many as one person may have; "
                    "ask again when one is done, nothing is lost"
                )
            return Job.objects.create(owner=owner, kind=kind, subject=subject, lane=kind_of(kind).lane)
    except IntegrityError:  # somebody else queued it in this moment
        return Job.objects.get(kind=kind, subject=subject, state__in=_ACTIVE)


_ACTIVE = (Job.QUEUED, Job.RUNNING)


def in_turn(lane: str) -> list[Job]:
    """The waiting jobs of a lane in the order they will be begun: people take turns, each with their
    oldest first."""
    turns: dict[int, int] = {
        row["owner"]: row["last"]
        for row in Job.objects.filter(lane=lane).order_by().values("owner").annotate(last=Max("turn"))
    }
    return by_turns(Job.objects.filter(lane=lane, state=Job.QUEUED).order_by("id"), turns)


def by_turns(waiting: Iterable[Job], turns: dict[int, int]) -> list[Job]:
    """Jobs ordered so that who was served longest ago comes next; ``turns`` has each owner's last turn."""
    left, order, last = list(waiting), [], dict(turns)
    turn = max(last.values(), default=0)
    while left:
        job = min(left, key=lambda j: (last.get(j.owner_id, 0), j.pk))
        left.remove(job)
        turn += 1
        last[job.owner_id] = turn
        order.append(job)
    return order


def _locked(rows: "models.QuerySet[Job]") -> "models.QuerySet[Job]":
    """Rows held until the transaction ends, where the database can; SQLite has one writer anyway."""
    return rows.select_for_update(skip_locked=connection.features.has_select_for_update_skip_locked)


def claim(lane: str, beats: Heartbeats) -> Job | None:
    """Take the next job of a lane: a running one whose heart stopped, or the one whose turn it is."""
    with transaction.atomic():
        running = _locked(Job.objects.filter(lane=lane, state=Job.RUNNING).order_by("id"))
        wanted = [j for j in running if beats.stopped(j)] or in_turn(lane)
        job = next(
            (j for w in wanted if (j := _locked(Job.objects.filter(pk=w.pk, state=w.state)).first())), None
        )
        if job is None:
            return None
        if job.cancel:
            _end(job, Job.CANCELLED, "cancelled; what was there before is kept")
            return None
        if job.attempt >= ATTEMPTS:
            _end(job, Job.FAILED, f"given up after {ATTEMPTS} attempts: its process died each time")
            return None
        job.state, job.attempt, job.beats = Job.RUNNING, job.attempt + 1, job.beats + 1
        job.turn = (Job.objects.filter(lane=lane).aggregate(last=Max("turn"))["last"] or 0) + 1
        job.started = job.beaten = timezone.now()
        job.progress, job.label, job.error, job.again = 0.0, "starting", "", False
        job.save()
        return job


def beat(job: Job) -> bool:
    """Say that it lives; False when the job is no longer ours (another attempt took it)."""
    return bool(_mine(job).update(beats=models.F("beats") + 1, beaten=timezone.now()))


def report(job: Job, label: str, progress: float) -> None:
    """Write progress, for those who watch."""
    _mine(job).update(label=label[:80], progress=progress)


def wants_stop(job: Job) -> bool:
    """Whether the user cancelled, or the job is no longer ours."""
    return not _mine(job).filter(cancel=False).exists()


def give_back(job: Job) -> None:
    """Put a job whose process died back in the queue; the attempt counts."""
    _mine(job).update(state=Job.QUEUED, label="waiting")


def finish(job: Job, state: str, error: str = "") -> bool:
    """End a job; False when it was not ours any more. One that was asked for again while it ran is queued
    anew."""
    with transaction.atomic():
        mine = _locked(_mine(job)).first()
        if mine is None:
            return False
        if state == Job.DONE and mine.again and not mine.cancel:
            _mine(job).update(state=Job.QUEUED, label="waiting", again=False, attempt=0, progress=0.0)
            return True
        _end(mine, state, error)
        return True


def cancel(job: Job) -> None:
    """Ask a job to stop; one that waits, or whose process is gone, ends at once."""
    rows = Job.objects.filter(pk=job.pk)
    rows.filter(state=Job.QUEUED).update(
        state=Job.CANCELLED, ended=timezone.now(), error="cancelled before it began"
    )
    job.refresh_from_db()
    if job.silent:
        rows.filter(state=Job.RUNNING, attempt=job.attempt).update(
            state=Job.CANCELLED,
            ended=timezone.now(),
            error="cancelled; its process was gone, what was there before is kept",
        )
    else:
        rows.filter(state=Job.RUNNING).update(cancel=True, label="stopping")
    job.refresh_from_db()


def _end(job: Job, state: str, error: str) -> None:
    done = {"progress": 1.0, "label": "done"} if state == Job.DONE else {}
    Job.objects.filter(pk=job.pk, attempt=job.attempt, state__in=_ACTIVE).update(
        state=state, error=error, ended=timezone.now(), **done
    )


def _mine(job: Job) -> "models.QuerySet[Job]":
    return Job.objects.filter(pk=job.pk, attempt=job.attempt, state=Job.RUNNING)
