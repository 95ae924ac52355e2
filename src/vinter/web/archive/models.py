"""Archives that were asked for, and those that wait to be brought in."""

from pathlib import Path

from django.conf import settings
from django.db import models


class Archive(models.Model):
    """One archive file of a person: made here (``incoming`` False) or to be read."""

    owner = models.ForeignKey(settings.AUTH_USER_MODEL, models.CASCADE)
    incoming = models.BooleanField(default=False)
    originals = models.BooleanField(default=True)
    result = models.JSONField(default=dict)
    created = models.DateTimeField(auto_now_add=True)

    class Meta:
        ordering = ["-id"]

    def __str__(self) -> str:
        return f"archive {self.pk} of {self.owner}"

    @property
    def path(self) -> Path:
        """The file."""
        return Path(settings.MEDIA_ROOT) / str(self.owner_id) / "archives" / f"{self.pk}.zip"

    @property
    def kind(self) -> str:
        """Which job makes or reads it."""
        return "import-archive" if self.incoming else "archive"
