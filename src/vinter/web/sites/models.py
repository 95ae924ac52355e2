"""Places a person shoots from."""

from django.conf import settings
from django.db import models

from vinter.core.sky.site import Site as CoreSite


class Site(models.Model):
    """A place with its sky: a zenith brightness the user gives, else the town model."""

    owner = models.ForeignKey(settings.AUTH_USER_MODEL, models.CASCADE)
    name = models.CharField(max_length=80)
    lat = models.FloatField()
    lon = models.FloatField()
    elevation = models.FloatField(default=0)
    tz = models.CharField(max_length=60)
    zenith = models.FloatField(null=True, blank=True)
    extinction = models.FloatField(default=0.25)
    notes = models.TextField(blank=True, default="")
    cautions = models.TextField(blank=True, default="")
    favourite = models.BooleanField(default=False)

    class Meta:
        ordering = ["-favourite", "name"]

    def __str__(self) -> str:
        return self.name

    def core(self) -> CoreSite:
        """The site for the core."""
        return CoreSite(self.lat, self.lon, self.tz, self.elevation, self.zenith, self.extinction, self.name)
