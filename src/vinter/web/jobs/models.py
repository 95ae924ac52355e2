"""A job: long work as a row with state, progress, cancel flag, lease and attempt."""

from datetime import datetime, timedelta
from typing import Any

from django.conf import settings
from django.db import models, transaction
from django.db.models import Q
from django.utils import timezone

LEASE = timedelta(seconds=15)
ATTEMPTS = 4


class Job(models.Model):
    """Survives the death of any process: a running job whose lease ran out is taken up again from its
    start."""

    QUEUED, RUNNING, DONE, FAILED, CANCELLED = "queued", "running", "done", "failed", "cancelled"

    owner = models.ForeignKey(settings.AUTH_USER_MODEL, models.CASCADE)
    kind = models.CharField(max_length=20)
    subject = models.BigIntegerField()
    state = models.CharField(max_length=10, default=QUEUED, db_index=True)
    label = models.CharField(max_length=80, default="waiting")
    progress = models.FloatField(default=0)
    cancel = models.BooleanField(default=False)
    attempt = models.IntegerField(default=0)
    lease_until = models.DateTimeField(null=True)
    error = models.TextField(default="")
    created = models.DateTimeField(auto_now_add=True)
    started = models.DateTimeField(null=True)
    ended = models.DateTimeField(null=True)

    class Meta:
        ordering = ["-id"]

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
        """Estimate from the pace so far; None while it is too early to tell."""
        if self.state != self.RUNNING or not self.started or self.progress < 0.04:
            return None
        passed = (timezone.now() - self.started).total_seconds()
        return max(round(passed * (1 - self.progress) / self.progress), 1)


def latest(kind: str, subject: int) -> Job | None:
    """The newest job of a kind about a subject."""
    return Job.objects.filter(kind=kind, subject=subject).first()


def enqueue(owner: Any, kind: str, subject: int) -> Job:
    """Queue a job, or return the one that is already waiting or running for the same subject."""
    with transaction.atomic():
        waiting = Job.objects.filter(kind=kind, subject=subject, state__in=(Job.QUEUED, Job.RUNNING)).first()
        return waiting or Job.objects.create(owner=owner, kind=kind, subject=subject)


def claim() -> Job | None:
    """Take the next job: the oldest queued one, or a running one whose lease ran out."""
    now = timezone.now()
    with transaction.atomic():
        job = (
            Job.objects.filter(Q(state=Job.QUEUED) | Q(state=Job.RUNNING, lease_until__lt=now))
            .order_by("id")
            .first()
        )
        if job is None:
            return None
        if job.attempt >= ATTEMPTS:
            finish(job, Job.FAILED, f"given up after {ATTEMPTS} attempts: its process died each time")
            return None
        job.state, job.attempt, job.lease_until = Job.RUNNING, job.attempt + 1, now + LEASE
        job.started, job.progress, job.label, job.error = now, 0.0, "starting", ""
        job.save()
        return job


def beat(job: Job) -> bool:
    """Renew the lease; False when the job is no longer ours (another attempt took it)."""
    return bool(_mine(job).update(lease_until=timezone.now() + LEASE))


def report(job: Job, label: str, progress: float) -> None:
    """Write progress, for those who watch."""
    _mine(job).update(label=label[:80], progress=progress)


def wants_stop(job: Job) -> bool:
    """Whether the user cancelled, or the job is no longer ours."""
    return not _mine(job).filter(cancel=False).exists()


def finish(job: Job, state: str, error: str = "") -> bool:
    """End a job; False when it was not ours any more."""
    ended: datetime = timezone.now()
    return bool(
        _mine(job).update(
            state=state,
            error=error,
            ended=ended,
            lease_until=None,
            **({"progress": 1.0, "label": "done"} if state == Job.DONE else {}),
        )
    )


def _mine(job: Job) -> "models.QuerySet[Job]":
    return Job.objects.filter(pk=job.pk, attempt=job.attempt, state=Job.RUNNING)
