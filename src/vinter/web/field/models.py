"""What a person did with the pack list of a shot, one row an item."""

import secrets
from datetime import timedelta

from django.db import models
from django.utils import timezone

from vinter.core.field.packing import Mark
from vinter.web.shots.models import Shot

OPEN_DAYS = 30


def _code() -> str:
    return secrets.token_urlsafe(16)


class CardTicket(models.Model):
    """A link that opens a shot's card without signing in, for thirty days or until it is revoked."""

    shot = models.ForeignKey(Shot, models.CASCADE)
    code = models.CharField(max_length=40, unique=True, default=_code)
    created = models.DateTimeField(auto_now_add=True)
    revoked = models.BooleanField(default=False)

    class Meta:
        ordering = ["-id"]

    def __str__(self) -> str:
        return f"ticket to {self.shot}"

    @property
    def good(self) -> bool:
        """Whether it still opens the card."""
        return not self.revoked and timezone.now() - self.created < timedelta(days=OPEN_DAYS)


def ticket_of(shot: Shot) -> CardTicket:
    """The newest good ticket of a shot, made when there is none."""
    newest = shot.cardticket_set.first()
    return newest if newest and newest.good else CardTicket.objects.create(shot=shot)


class FieldNote(models.Model):
    """Something written in the field, sent home later: the phone's key, its kind, when (Unix s), and what."""

    shot = models.ForeignKey(Shot, models.CASCADE)
    key = models.CharField(max_length=36)
    kind = models.CharField(max_length=10)
    at = models.FloatField()
    data = models.JSONField(default=dict)

    class Meta:
        ordering = ["at", "id"]
        constraints = [models.UniqueConstraint(fields=["shot", "key"], name="one_note_per_key")]

    def __str__(self) -> str:
        return self.words

    @property
    def words(self) -> str:
        """What it says, in the ledger."""
        if self.kind == "aim":
            return f"compass {abs(self.data['azimuth']):.1f}° off, by {self.data['name']}"
        if self.kind == "tick":
            return f"{'done' if self.data['on'] else 'not done'}: {self.data['words']}"
        if self.kind == "timed":
            return f"timer: {self.data['frames']} frames"
        return str(self.data.get("words", ""))


class PackMark(models.Model):
    """An item of a shot's pack list that was packed or left out, or one of the person's own (then it has
    text)."""

    shot = models.ForeignKey(Shot, models.CASCADE)
    key = models.CharField(max_length=140)
    text = models.CharField(max_length=120, blank=True, default="")
    packed = models.BooleanField(default=False)
    left_out = models.BooleanField(default=False)

    class Meta:
        ordering = ["id"]
        constraints = [models.UniqueConstraint(fields=["shot", "key"], name="one_mark_per_item")]

    def __str__(self) -> str:
        return self.text or self.key

    def core(self) -> Mark:
        """The mark for the core."""
        return Mark(self.key, self.packed, self.left_out, self.text)
