"""How a person judges nights: the thresholds that are theirs to move, and how far they drive."""

from django.conf import settings
from django.contrib.auth.models import User
from django.db import models

from vinter.core.sky.thresholds import Thresholds, thresholds_from


class Preferences(models.Model):
    """What one person set; ``thresholds`` holds those of the core by name, and what is not there is as
    usual."""

    owner = models.OneToOneField(settings.AUTH_USER_MODEL, models.CASCADE)
    thresholds = models.JSONField(default=dict)
    drive_limit = models.FloatField(default=90.0)

    def __str__(self) -> str:
        return f"preferences of {self.owner}"

    def limits(self, earliest: float | None = None, latest: float | None = None) -> Thresholds:
        """The thresholds for the core; hours count from local noon."""
        return thresholds_from(self.thresholds, earliest, latest)


def preferences_of(user: User) -> Preferences:
    """A person's preferences, or the usual ones, not yet stored."""
    return Preferences.objects.filter(owner=user.pk).first() or Preferences(owner_id=user.pk)
