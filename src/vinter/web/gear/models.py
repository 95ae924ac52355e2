"""Phones a person owns. The figures of the lenses are stored with the phone, so that they can become measured
ones."""

from dataclasses import asdict, replace

from django.conf import settings
from django.contrib.auth.models import User
from django.db import models, transaction

from vinter.core.camera import phones
from vinter.core.camera.accessories import Clamp
from vinter.core.camera.phonefile import LENS, lens_from
from vinter.web.fields import VersionedJSONField
from vinter.web.owned import Needed


class NoPhone(Needed):
    """A page needs a phone and there is none yet: it offers to add one."""

    page = "gear/needed.html"

    def context(self) -> dict[str, object]:
        """The phones that will do for a start."""
        return {"kinds": list(phones.SHIPPED.values())}


class Phone(models.Model):
    """A phone of a user, with the lenses as the sums need them."""

    owner = models.ForeignKey(settings.AUTH_USER_MODEL, models.CASCADE)
    key = models.CharField(max_length=40)
    name = models.CharField(max_length=60)
    lenses = VersionedJSONField(schema=LENS, each=True)
    learned = models.JSONField(default=dict, blank=True)  # by lens: infinity from takes, and what was before
    holding = models.JSONField(default=dict, blank=True)  # widths of phone and clamp, jaws and buttons, mm

    class Meta:
        ordering = ["name"]
        constraints = [models.UniqueConstraint(fields=["owner", "key"], name="one_phone_per_key")]

    def __str__(self) -> str:
        return self.name

    def core(self) -> phones.Phone:
        """The phone for the core."""
        return phones.Phone(
            self.key, self.name, {name: lens_from(data) for name, data in self.lenses.items()}
        )

    @property
    def clamp_problems(self) -> list[str] | None:
        """What is wrong with holding it in its clamp; None while the widths are not known."""
        h = self.holding
        if not h:
            return None
        clamp = Clamp(h["narrowest"], h["widest"], (h["jaw_from"], h["jaw_to"]))
        return clamp.problems(h["width"], tuple((low, high) for low, high in h["buttons"]))

    def refuse(self, lens: str) -> None:
        """Put back the infinity that was before a learned one, and learn it no more."""
        was = self.learned.get(lens, {})
        if "before" not in was:
            return
        found = self.core().lens(lens)
        parts = [part for part in found.measured.split("; ") if part and not part.startswith("infinity")]
        self.store_lens(replace(found, infinity_ticks=was["before"], measured="; ".join(parts)))
        self.learned = {**self.learned, lens: {"refused": True}}
        self.save(update_fields=["learned"])

    def store_lens(self, lens: phones.Lens, old: str = "") -> None:
        """Store a lens under its name, in place of one that was called ``old``."""
        with transaction.atomic():  # another lens may have been stored meanwhile
            rows = dict(Phone.objects.select_for_update().get(pk=self.pk).lenses)
            if old and old != lens.name:
                rows.pop(old, None)
            self.lenses = {**rows, lens.name: asdict(lens)}
            self.save(update_fields=["lenses"])


def own(owner: User, phone: phones.Phone) -> Phone:
    """Give a user a phone of the core, unless one of its key is there."""
    lenses = {name: asdict(lens) for name, lens in phone.lenses.items()}
    made, _ = Phone.objects.get_or_create(
        owner=owner, key=phone.key, defaults={"name": phone.name, "lenses": lenses}
    )
    return made


def own_shipped(owner: User) -> None:
    """Give a user the made-up phones, once."""
    for phone in phones.SHIPPED.values():
        if phone.key.startswith("marlet"):
            own(owner, phone)
