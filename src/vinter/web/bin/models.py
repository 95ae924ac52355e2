"""The bin: what a person deletes is hidden at once, with all that came of it, and gone for good after a
week."""

from __future__ import annotations

import shutil
from collections.abc import Iterator, Sequence
from datetime import datetime, timedelta
from pathlib import Path
from typing import Self, TypeVar

from django.apps import apps
from django.conf import settings
from django.contrib.auth.models import User
from django.db import models, transaction
from django.urls import reverse
from django.utils import timezone

from vinter.web.jobs.models import Job, cancel

R_co = TypeVar("R_co", bound=models.Model, covariant=True)

KEPT_DAYS = 7


class BinEntry(models.Model):
    """One deletion: what it was called, and when. The rows it hid point to it."""

    owner = models.ForeignKey(settings.AUTH_USER_MODEL, models.CASCADE)
    label = models.CharField(max_length=200)
    back = models.CharField(max_length=200, default="")  # the page to which putting back leads
    created = models.DateTimeField(auto_now_add=True)

    class Meta:
        ordering = ["-id"]

    def __str__(self) -> str:
        return self.label

    @property
    def ends(self) -> datetime:
        """When it is gone for good."""
        return self.created + timedelta(days=KEPT_DAYS)

    def rows(self) -> Iterator[Binnable]:
        """What it hid, what came last first."""
        for model in binnable_models():
            yield from model._base_manager.filter(binned=self)

    def files(self) -> list[Path]:
        """Files and folders that go with it."""
        return [path for row in self.rows() for path in row.files()]


class KeptManager(models.Manager[R_co]):
    """Rows that are not in the bin."""

    def get_queryset(self) -> models.QuerySet[R_co]:
        """Without the bin."""
        return super().get_queryset().filter(binned=None)


class Binnable(models.Model):
    """A row that goes to the bin with all that came of it; ``objects`` does not see it there, ``everything``
    does."""

    JOBS: tuple[str, ...] = ()  # kinds of job that work on it
    LIST = "home"  # the page that lists its kind

    binned = models.ForeignKey(
        BinEntry, models.SET_NULL, null=True, blank=True, editable=False, related_name="+"
    )

    objects = KeptManager()
    everything = models.Manager()

    class Meta:
        abstract = True

    @classmethod
    def of(cls, user: User) -> models.QuerySet[Self]:
        """The rows of a person."""
        return cls.objects.filter(owner=user)

    def page(self) -> str:
        """Where it is seen."""
        return reverse(str(self._meta.model_name), args=[self.pk])

    def list_page(self) -> str:
        """Where to go when it is gone."""
        return reverse(self.LIST)

    def came_of_it(self) -> list[Binnable]:
        """Everything that depends on it and is not in the bin yet."""
        return []

    def came_from(self) -> Binnable | None:
        """What it depends on."""
        return None

    def files(self) -> list[Path]:
        """Its own files and folders."""
        return []


def binnable_models() -> list[type[Binnable]]:
    """All kinds of rows that can go to the bin, what came last first."""
    return [m for m in reversed(list(apps.get_models())) if issubclass(m, Binnable)]


def with_all(rows: Sequence[Binnable]) -> list[Binnable]:
    """Rows and everything that came of them."""
    found: list[Binnable] = []
    for row in rows:
        found += [row, *with_all(row.came_of_it())]
    return found


def put_in(owner: User, label: str, rows: Sequence[Binnable], back: str = "") -> BinEntry:
    """Hide rows and everything that came of them; work on them is cancelled."""
    with transaction.atomic():
        entry = BinEntry.objects.create(owner=owner, label=label[:200], back=back)
        for row in with_all(rows):
            type(row)._base_manager.filter(pk=row.pk).update(binned=entry)
            for job in Job.objects.filter(
                kind__in=row.JOBS, subject=row.pk, state__in=(Job.QUEUED, Job.RUNNING)
            ):
                cancel(job)
    return entry


def put_back(entry: BinEntry) -> None:
    """Show again what an entry hid, and everything that depends on."""
    with transaction.atomic():
        needed = {p.binned_id for row in entry.rows() if (p := row.came_from()) and p.binned_id}
        for model in binnable_models():
            model._base_manager.filter(binned=entry).update(binned=None)
        entry.delete()
        for other in BinEntry.objects.filter(pk__in=needed - {entry.pk}):
            put_back(other)


def destroy(entry: BinEntry) -> None:
    """Delete for good what an entry hid, with what came of it and went to the bin on its own: rows first,
    then files."""
    files = []
    with transaction.atomic():
        for row in list(entry.rows()):
            files += _deleted(row)
        entry.delete()
    for path in files:
        shutil.rmtree(path) if path.is_dir() else path.unlink(missing_ok=True)


def _deleted(row: Binnable) -> list[Path]:
    """Delete a row and whatever still hangs on it; their files are left to the caller."""
    files = row.files()
    for relation in row._meta.related_objects:
        model = relation.related_model
        if getattr(relation, "on_delete", None) is models.SET_NULL:  # it lives on without this row
            continue
        if isinstance(model, type) and issubclass(model, Binnable):
            for other in model._base_manager.filter(**{relation.field.name: row}):
                files += _deleted(other)
    row.delete()
    return files


def purge() -> int:
    """Delete for good what was put into the bin more than a week ago; how many entries that were."""
    old = BinEntry.objects.filter(created__lt=timezone.now() - timedelta(days=KEPT_DAYS))
    count = 0
    for entry in old:
        destroy(entry)
        count += 1
    return count
