"""Finishes of stacks and their exports."""

from dataclasses import fields
from pathlib import Path

from django.conf import settings
from django.db import models

from vinter.core.finish.export import EXPORT_KINDS, Output
from vinter.core.finish.recipe import RECIPE, RecipeParts, recipe_from
from vinter.core.formats.icc import COLOUR_SPACES, SRGB
from vinter.web.bin.models import Binnable
from vinter.web.fields import VersionedJSONField
from vinter.web.stacks.models import Stack


class Finish(Binnable):
    """A recipe for a stack."""

    LIST = "finishes"

    owner = models.ForeignKey(settings.AUTH_USER_MODEL, models.CASCADE)
    stack = models.ForeignKey(Stack, models.PROTECT)
    name = models.CharField(max_length=60, blank=True, default="")
    recipe = VersionedJSONField(schema=RECIPE)
    version = models.CharField(max_length=20)
    created = models.DateTimeField(auto_now_add=True)
    changed = models.DateTimeField(auto_now=True)

    class Meta:
        ordering = ["-id"]

    def __str__(self) -> str:
        return f"{self.title} of {self.stack}"

    @property
    def title(self) -> str:
        """What it is called."""
        return self.name or f"Finish {self.pk}"

    def came_of_it(self) -> list[Binnable]:
        """Its exports."""
        return list(self.export_set.all())

    def came_from(self) -> Binnable:
        """Its stack."""
        return self.stack

    def core(self) -> RecipeParts:
        """The recipe for the core."""
        return recipe_from(self.recipe)


class Look(models.Model):
    """A recipe a person keeps to start other pictures from."""

    owner = models.ForeignKey(settings.AUTH_USER_MODEL, models.CASCADE)
    name = models.CharField(max_length=60)
    recipe = VersionedJSONField(schema=RECIPE)

    class Meta:
        ordering = ["name"]

    def __str__(self) -> str:
        return self.name


class Export(Binnable):
    """A finished picture as a file, with the recipe it was made by."""

    JOBS = ("export",)

    owner = models.ForeignKey(settings.AUTH_USER_MODEL, models.CASCADE)
    finish = models.ForeignKey(Finish, models.CASCADE)
    kind = models.CharField(max_length=10)
    width = models.IntegerField(null=True)
    space = models.CharField(max_length=12, default=SRGB)
    sharpening = models.FloatField(default=0.0)
    dpi = models.FloatField(null=True)
    names = models.BooleanField(default=False)
    enlarge = models.BooleanField(default=False)
    place = models.BooleanField(default=False)
    quality = models.IntegerField(null=True)
    recipe = VersionedJSONField(schema=RECIPE)
    made_width = models.IntegerField(null=True)
    made_height = models.IntegerField(null=True)
    created = models.DateTimeField(auto_now_add=True)

    class Meta:
        ordering = ["-id"]

    def __str__(self) -> str:
        return f"{self.label} of {self.finish}"

    def page(self) -> str:
        """The finish it was made from."""
        return self.finish.page()

    list_page = page

    def came_from(self) -> Binnable:
        """Its finish."""
        return self.finish

    def files(self) -> list[Path]:
        """The picture and the small one beside it."""
        return [self.path, self.small]

    @property
    def label(self) -> str:
        """What kind of picture it is."""
        return EXPORT_KINDS[self.kind].label if self.kind in EXPORT_KINDS else self.kind

    @property
    def output(self) -> Output:
        """How the picture leaves, for the core."""
        same = {f.name: getattr(self, f.name) for f in fields(Output)}
        return Output(**same)

    @property
    def how(self) -> str:
        """What is particular about it, in words."""
        said = [
            COLOUR_SPACES.get(self.space, self.space) if self.space != SRGB else "",
            f"{self.dpi:.0f} dpi" if self.dpi else "",
            "with names" if self.names else "",
            "with the place" if self.place else "",
            f"quality {self.quality}" if self.quality else "",
        ]
        return ", ".join(s for s in said if s)

    @property
    def suffix(self) -> str:
        """The end of its file's name."""
        return EXPORT_KINDS[self.kind].suffixes[0] if self.kind in EXPORT_KINDS else f".{self.kind}"

    @property
    def path(self) -> Path:
        """The file."""
        return Path(settings.MEDIA_ROOT) / str(self.owner_id) / "exports" / f"{self.pk}{self.suffix}"

    @property
    def small(self) -> Path:
        """A small JPEG of it for the ledger."""
        return self.path.with_name(f"{self.pk}.small.jpg")

    @property
    def ready(self) -> bool:
        """Whether the file is there."""
        return self.made_width is not None and self.path.is_file()
