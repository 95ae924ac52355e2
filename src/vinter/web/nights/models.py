"""How a person judges nights: the thresholds that are theirs to move."""

from django.conf import settings
from django.contrib.auth.models import AbstractBaseUser, AnonymousUser
from django.core.validators import MaxValueValidator, MinValueValidator
from django.db import models

from vinter.core.sky.thresholds import Thresholds


def _bounds(low: float, high: float) -> list[MinValueValidator | MaxValueValidator]:
    return [MinValueValidator(low), MaxValueValidator(high)]


class Habits(models.Model):
    """Thresholds of one person; what is not here is asked for in the address of a page."""

    owner = models.OneToOneField(settings.AUTH_USER_MODEL, models.CASCADE)
    min_altitude = models.FloatField(default=10.0, validators=_bounds(0, 60))
    sun_below = models.FloatField(default=-18.0, validators=_bounds(-18, -6))
    moon_cost = models.FloatField(default=0.5, validators=_bounds(0, 5))
    new_moon_days = models.FloatField(default=3.0, validators=_bounds(0, 14))
    lit_percent = models.FloatField(default=25.0, validators=_bounds(0, 100))
    moon_up_minutes = models.FloatField(default=0.0, validators=_bounds(0, 600))
    darkest_class = models.PositiveSmallIntegerField(default=4, validators=_bounds(1, 9))
    suburb_class = models.PositiveSmallIntegerField(default=6, validators=_bounds(1, 9))
    drive_limit = models.FloatField(default=90.0, validators=_bounds(10, 300))

    def __str__(self) -> str:
        return f"habits of {self.owner}"

    def limits(self, earliest: float | None = None, latest: float | None = None) -> Thresholds:
        """The thresholds for the core; hours count from local noon."""
        return Thresholds(
            min_altitude=self.min_altitude,
            sun_below=self.sun_below,
            moon_cost=self.moon_cost,
            new_moon_days=self.new_moon_days,
            lit_percent=self.lit_percent,
            moon_up_minutes=self.moon_up_minutes,
            darkest_class=self.darkest_class,
            suburb_class=self.suburb_class,
            earliest=earliest,
            latest=latest,
        )


def habits_of(user: AbstractBaseUser | AnonymousUser) -> Habits:
    """A person's habits, or the usual ones, not yet stored."""
    return Habits.objects.filter(owner=user.pk).first() or Habits(owner_id=user.pk)
