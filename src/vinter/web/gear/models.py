"""Phones a person owns. The figures of the lenses are stored with the phone, so that they can become measured ones."""

from dataclasses import asdict

from django.conf import settings
from django.db import models

from vinter.core.camera import phones


class Phone(models.Model):
    """A phone of a user, with the lenses as the sums need them."""

    owner = models.ForeignKey(settings.AUTH_USER_MODEL, models.CASCADE)
    key = models.CharField(max_length=40)
    name = models.CharField(max_length=60)
    lenses = models.JSONField()

    class Meta:
        ordering = ["name"]
        constraints = [models.UniqueConstraint(fields=["owner", "key"], name="one_phone_per_key")]

    def __str__(self) -> str:
        return self.name

    def core(self) -> phones.Phone:
        """The phone for the core."""
        made = {}
        for name, data in self.lenses.items():
            steps = tuple((int(iso), float(noise)) for iso, noise in data["read_noise"])
            made[name] = phones.Lens(**{**data, "read_noise": steps})
        return phones.Phone(self.key, self.name, made)


def own_shipped(owner: object) -> None:
    """Give a user the shipped phones, once."""
    for phone in phones.SHIPPED.values():
        lenses = {name: asdict(lens) for name, lens in phone.lenses.items()}
        Phone.objects.get_or_create(owner=owner, key=phone.key, defaults={"name": phone.name, "lenses": lenses})
