"""What a person did with the pack list of a shot, one row an item."""

from django.db import models

from vinter.core.field.packing import Mark
from vinter.web.shots.models import Shot


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
