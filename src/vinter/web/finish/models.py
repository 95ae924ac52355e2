"""Finishes of stacks and their exports."""

from pathlib import Path

from django.conf import settings
from django.db import models

from vinter.core.finish.recipe import Recipe
from vinter.web.stacks.models import Stack


class Finish(models.Model):
    """A recipe for a stack."""

    owner = models.ForeignKey(settings.AUTH_USER_MODEL, models.CASCADE)
    stack = models.ForeignKey(Stack, models.PROTECT)
    recipe = models.JSONField()
    version = models.CharField(max_length=20)
    created = models.DateTimeField(auto_now_add=True)
    changed = models.DateTimeField(auto_now=True)

    class Meta:
        ordering = ["-id"]

    def __str__(self) -> str:
        return f"Finish {self.pk} of {self.stack}"

    def core(self) -> Recipe:
        """The recipe for the core."""
        return Recipe.model_validate(self.recipe)


class Export(models.Model):
    """A finished picture as a file, with the recipe it was made by."""

    KINDS = (("jpg", "JPEG"), ("tif", "16-bit TIFF"), ("png", "16-bit PNG"))

    owner = models.ForeignKey(settings.AUTH_USER_MODEL, models.CASCADE)
    finish = models.ForeignKey(Finish, models.CASCADE)
    kind = models.CharField(max_length=4, choices=KINDS)
    width = models.IntegerField(null=True)
    recipe = models.JSONField()
    made_width = models.IntegerField(null=True)
    made_height = models.IntegerField(null=True)
    created = models.DateTimeField(auto_now_add=True)

    class Meta:
        ordering = ["-id"]

    def __str__(self) -> str:
        return f"{self.get_kind_display()} of {self.finish}"

    @property
    def path(self) -> Path:
        """The file."""
        return Path(settings.MEDIA_ROOT) / str(self.owner_id) / "exports" / f"{self.pk}.{self.kind}"

    @property
    def small(self) -> Path:
        """A small JPEG of it for the ledger."""
        return self.path.with_suffix(".small.jpg")

    @property
    def ready(self) -> bool:
        """Whether the file is there."""
        return self.made_width is not None and self.path.is_file()
