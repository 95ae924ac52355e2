"""Orbital elements that people imported."""

from django.conf import settings
from django.db import models


class Elements(models.Model):
    """Orbital elements a user imported, as the file gave them."""

    owner = models.ForeignKey(settings.AUTH_USER_MODEL, models.CASCADE)
    name = models.CharField(max_length=120)
    text = models.TextField()
    added = models.DateTimeField(auto_now_add=True)

    class Meta:
        ordering = ["-id"]
        db_table = "shots_elements"

    def __str__(self) -> str:
        return self.name
