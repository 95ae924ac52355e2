"""Places a person shoots from, and what is known of each."""

from dataclasses import asdict
from datetime import time
from pathlib import Path

import numpy as np
from django.conf import settings
from django.db import models

from vinter.core.field.hazards import HAZARDS
from vinter.core.ground.drive import Drive, estimated_drive
from vinter.core.sky.glow import bearing_distance, glow
from vinter.core.sky.horizon import Horizon, merged
from vinter.core.sky.learned_air import LearnedAir
from vinter.core.sky.site import Site as CoreSite
from vinter.core.sky.site_sky import (
    FROM_FRAMES,
    METER,
    READING_SIGMA,
    SkyReading,
    ZenithSource,
    zenith_source,
)
from vinter.web.bin.models import Binnable
from vinter.web.conventions import dated

SAME_LIGHT = 4.0  # degrees of azimuth within which two lamps are one
SOURCES = {METER: "meter", FROM_FRAMES: "measured from your own frames"}

MOST_LANDMARKS = 40  # of a site


class Site(Binnable):
    """A place with its sky and what can hurt there."""

    LIST = "sites"

    owner = models.ForeignKey(settings.AUTH_USER_MODEL, models.CASCADE)
    name = models.CharField(max_length=80)
    lat = models.FloatField()
    lon = models.FloatField()
    elevation = models.FloatField(default=0)
    tz = models.CharField(max_length=60, blank=True)
    zenith = models.FloatField(null=True, blank=True)
    sky_class = models.PositiveSmallIntegerField(null=True, blank=True)
    extinction = models.FloatField(default=0.25)
    drive = models.FloatField(null=True, blank=True)
    access = models.TextField(blank=True, default="")
    permission = models.TextField(blank=True, default="")
    notes = models.TextField(blank=True, default="")
    cautions = models.TextField(blank=True, default="")
    hazards = models.JSONField(default=list, blank=True)  # keys of the core's HAZARDS
    favourite = models.BooleanField(default=False)
    home = models.BooleanField(default=False)
    horizon = models.JSONField(default=list, blank=True)
    landmarks = models.JSONField(default=list, blank=True)  # name, azimuth and altitude in degrees of each
    # what its frames told: "air" with value, error, words, what was there before, or refused;
    # "refused_lights"
    learned = models.JSONField(default=dict, blank=True, editable=False)

    class Meta:
        ordering = ["-favourite", "name"]

    def __str__(self) -> str:
        return self.name

    def add_skyline(self, points: list[tuple[float, float]]) -> None:
        """Corners of the skyline (azimuth, altitude in degrees) that replace what they cover."""
        old = tuple((float(a), float(h)) for a, h in self.horizon)
        self.horizon = [list(p) for p in Horizon(merged(old, tuple(points))).points]
        self.save(update_fields=["horizon"])

    def add_landmark(self, name: str, azimuth: float, altitude: float) -> None:
        """Something on the skyline to aim at; of one name the newer stays."""
        others = [row for row in self.landmarks if row[0] != name]
        self.landmarks = [*others, [name, azimuth, altitude]][-MOST_LANDMARKS:]
        self.save(update_fields=["landmarks"])

    def sky(self) -> ZenithSource:
        """Zenith brightness to compute with, and where it comes from."""
        rows = self.reading_set.all() if self.pk else []
        readings = [SkyReading(r.day, r.zenith, r.source, r.error) for r in rows]
        return zenith_source(readings, self.zenith, self.sky_class)

    def core(self) -> CoreSite:
        """The site for the core."""
        profile = Horizon(tuple((float(a), float(h)) for a, h in self.horizon)) if self.horizon else None
        return CoreSite(
            lat=self.lat,
            lon=self.lon,
            tz=self.tz,
            elevation=self.elevation,
            zenith=(sky := self.sky()).zenith,
            zenith_error=None if sky.zenith is None else sky.error,
            extinction=self.extinction,
            name=self.name,
            horizon=profile,
        )

    def shown_sky(self) -> dict[str, object]:
        """Zenith brightness with its error and source, and what the towns alone would give."""
        sky, model = self.sky(), glow(self.lat, self.lon)
        return {
            "zenith": model.zenith if sky.zenith is None else sky.zenith,
            "source": f"{SOURCES.get(sky.name, sky.name)}, {dated(sky.day, 'j M Y')}"
            if sky.day
            else sky.name,
            "measured": sky.name == FROM_FRAMES,
            "error": model.uncertainty if sky.zenith is None else sky.error,
            "glow": model,
        }

    def take_air(self, found: LearnedAir) -> None:
        """Compute with a learned extinction from now on; what was there before is kept."""
        before = self.learned.get("air", {}).get("before", self.extinction)
        self.learned |= {"air": {**asdict(found), "words": found.words, "before": before}}
        self.extinction = found.value
        self.save(update_fields=["learned", "extinction"])

    def refuse_air(self) -> None:
        """Put back the extinction that was before a learned one, and learn it no more."""
        was = self.learned.get("air", {})
        if "before" in was:
            self.extinction = was["before"]
            self.learned |= {"air": {"refused": True}}
            self.save(update_fields=["learned", "extinction"])

    def add_light(self, azimuth: float, words: str, stack: int) -> None:
        """Note a lamp that frames show, unless one is known there or was taken away there."""
        known = [
            *self.straylight_set.values_list("azimuth", flat=True),
            *self.learned.get("refused_lights", []),
        ]
        if all(abs((azimuth - other + 180) % 360 - 180) > SAME_LIGHT for other in known):
            self.straylight_set.create(azimuth=azimuth, words=words, stack=stack)

    def came_of_it(self) -> list[Binnable]:
        """The shots planned here."""
        return list(self.shot_set.all())

    def files(self) -> list[Path]:
        """Its pictures taken by day."""
        return [self.folder]

    @property
    def folder(self) -> Path:
        """Where its pictures lie."""
        return Path(settings.MEDIA_ROOT) / str(self.owner_id) / "sites" / str(self.pk)

    @property
    def hazard_labels(self) -> list[str]:
        """The dangers chosen, in words."""
        return [HAZARDS[key].label for key in self.hazards if key in HAZARDS]

    @property
    def warnings(self) -> list[str]:
        """What to be careful of, for card and calendar: the user's words, then the dangers chosen."""
        chosen = [f"Known here: {', '.join(self.hazard_labels)}."] if self.hazard_labels else []
        return [text for text in (self.cautions, *chosen) if text]

    def drive_from(self, home: "Site | None") -> Drive:
        """The drive from home: what the user says, else an estimate; unknown where there is no home."""
        if self.drive is not None:
            return Drive(self.drive)
        if home is None:
            return Drive(None, True)
        return estimated_drive(
            float(bearing_distance(home.lat, home.lon, np.array(self.lat), np.array(self.lon))[1])
        )


class Reading(models.Model):
    """The zenith of an evening in mag/arcsec^2: a meter's, or measured from the frames of a stack
    (``stack``)."""

    site = models.ForeignKey(Site, models.CASCADE)
    day = models.DateField()
    zenith = models.FloatField()
    error = models.FloatField(default=READING_SIGMA)
    source = models.CharField(max_length=8, default=METER, editable=False)
    stack = models.PositiveIntegerField(null=True, editable=False)
    note = models.CharField(max_length=200, blank=True, default="")

    class Meta:
        ordering = ["-day", "-id"]

    def __str__(self) -> str:
        return f"{self.zenith:.2f} on {self.day}"


class StrayLight(models.Model):
    """A lamp that shines into the site: its bearing in degrees and the hours it is on, empty for all
    night."""

    site = models.ForeignKey(Site, models.CASCADE)
    azimuth = models.FloatField()
    start = models.TimeField(null=True, blank=True)
    end = models.TimeField(null=True, blank=True)
    words = models.CharField(max_length=120)
    stack = models.PositiveIntegerField(null=True, editable=False)  # whose frames showed it

    class Meta:
        ordering = ["azimuth"]

    def __str__(self) -> str:
        return self.words

    def take_away(self) -> None:
        """Delete it; one that frames showed is not noted again."""
        if self.stack is not None:
            site = self.site
            site.learned |= {"refused_lights": [*site.learned.get("refused_lights", []), self.azimuth]}
            site.save(update_fields=["learned"])
        self.delete()

    def on_at(self, clock: time) -> bool:
        """Whether it is on at a wall-clock time; its hours may run over midnight."""
        if self.start is None or self.end is None:
            return True
        if self.start <= self.end:
            return self.start <= clock < self.end
        return clock >= self.start or clock < self.end


class ScoutPicture(models.Model):
    """A picture taken by day; with a fix it is a panorama over which the horizon can be traced."""

    site = models.ForeignKey(Site, models.CASCADE)
    stored = models.CharField(max_length=60)
    caption = models.CharField(max_length=200, blank=True, default="")
    width = models.IntegerField()
    height = models.IntegerField()
    added = models.DateTimeField(auto_now_add=True)

    class Meta:
        ordering = ["-id"]

    def __str__(self) -> str:
        return self.caption or self.stored
