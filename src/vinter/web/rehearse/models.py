"""Rehearsals: what was tried, what the coach said, whether it was passed."""

from pathlib import Path

from django.conf import settings
from django.db import models

from vinter.core.rehearse.exercises import Exercise, exercise
from vinter.core.rehearse.outcome import Outcome
from vinter.core.simulate.capture import Burst
from vinter.core.simulate.modes import PhoneSettings
from vinter.core.versions import Data
from vinter.web.shots.models import Shot


class Rehearsal(models.Model):
    """One go at an exercise, or at a shot of one's own. ``presses`` holds settings and judgement of each test
    shot."""

    owner = models.ForeignKey(settings.AUTH_USER_MODEL, models.CASCADE)
    exercise = models.CharField(max_length=30, blank=True, default="")
    shot = models.ForeignKey(Shot, models.CASCADE, null=True)
    presses = models.JSONField(default=list)
    passed = models.BooleanField(default=False)
    ended = models.BooleanField(default=False)
    verdict = models.TextField(blank=True, default="")
    started = models.DateTimeField(auto_now_add=True)

    class Meta:
        ordering = ["-id"]

    def __str__(self) -> str:
        return self.title

    @property
    def ladder(self) -> Exercise | None:
        """The exercise it is a go at; None for a shot of one's own."""
        return exercise(self.exercise) if self.exercise else None

    @property
    def title(self) -> str:
        """What is practised."""
        return self.ladder.title if self.ladder else self.shot.title if self.shot else ""

    @property
    def left(self) -> int:
        """Test shots left; an own shot has no limit."""
        return self.ladder.shots - len(self.presses) if self.ladder else 99

    @property
    def folder(self) -> Path:
        """Where its last picture lies."""
        return Path(settings.MEDIA_ROOT) / str(self.owner_id) / "rehearse" / str(self.pk)

    def end(self, outcome: Outcome) -> None:
        """Store what came of it; an outcome that does not end it changes nothing but the test shots."""
        self.ended, self.passed = outcome.ended, outcome.passed
        self.verdict = outcome.words
        self.save()

    def burst(self) -> Burst:
        """What the simulated phone stands in front of."""
        if self.ladder:
            return self.ladder.burst()
        assert self.shot is not None
        return self.shot.burst(1)

    def start(self) -> PhoneSettings:
        """The settings it begins with, or those of the last press."""
        if self.presses:
            return PhoneSettings(**self.presses[-1]["settings"])
        if self.ladder:
            return self.ladder.start
        assert self.shot is not None
        return PhoneSettings(
            iso=self.shot.iso, shutter=self.shot.shutter, ticks=self.shot.core_lens.infinity_ticks
        )

    @property
    def last(self) -> Data | None:
        """What came of the last press."""
        return self.presses[-1] if self.presses else None
