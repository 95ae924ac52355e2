"""A planned shot and what it asks for."""

from functools import cached_property
from typing import Any
from urllib.parse import urlencode

from django.conf import settings
from django.db import models

from vinter.core.camera.exposure import USES, burst_minutes
from vinter.core.camera.phones import Lens
from vinter.core.camera.projection import Pose
from vinter.core.modes.basis import MODE_PLAN, CardStep, Mode
from vinter.core.modes.registry import mode_of
from vinter.core.shot import SHOT_PLAN
from vinter.core.simulate.phone import Burst
from vinter.core.sky.nights import Night, nights
from vinter.core.sky.targets import target
from vinter.web.bin.models import Binnable
from vinter.web.fields import VersionedJSONField
from vinter.web.gear.models import Phone
from vinter.web.nights.models import preferences_of
from vinter.web.sites.models import Site


class Shot(Binnable):
    """A site, a minute, a lens and the settings computed for them. ``plan`` is the core's ShotPlan as
    data."""

    LIST = "shots"

    owner = models.ForeignKey(settings.AUTH_USER_MODEL, models.CASCADE)
    site = models.ForeignKey(Site, models.PROTECT)
    phone = models.ForeignKey(Phone, models.PROTECT)
    lens = models.CharField(max_length=40)
    title = models.CharField(max_length=120)
    night = models.DateField()
    moment = models.FloatField()
    target = models.CharField(max_length=60, default="core")
    mode = models.CharField(max_length=20, default="stack")
    options = models.JSONField(default=dict)
    mode_plan = VersionedJSONField(schema=MODE_PLAN, default=dict)
    alone = models.BooleanField(default=True)
    use = models.CharField(max_length=10, default="screen")
    portrait = models.BooleanField(default=False)
    iso = models.IntegerField()
    shutter = models.FloatField()
    frames = models.IntegerField()
    plan = VersionedJSONField(schema=SHOT_PLAN)
    version = models.CharField(max_length=20)
    lesson = models.TextField(blank=True, default="")
    created = models.DateTimeField(auto_now_add=True)

    class Meta:
        ordering = ["-id"]

    def __str__(self) -> str:
        return self.title

    def came_of_it(self) -> list[Binnable]:
        """The takes shot for it."""
        return list(self.take_set.all())

    def came_from(self) -> Binnable:
        """Its site."""
        return self.site

    @cached_property
    def core_lens(self) -> Lens:
        """The lens for the core."""
        return self.phone.core().lens(self.lens)

    @property
    def exposure(self) -> dict[str, Any]:
        """Settings and reasons."""
        return dict(self.plan["exposure"])

    @property
    def core_mode(self) -> Mode:
        """What kind of picture it is."""
        return mode_of(self.mode)

    @property
    def steps(self) -> list[CardStep]:
        """The card's steps that are the mode's own."""
        return [CardStep(**step) for step in self.mode_plan.get("steps", [])]

    @property
    def tolerance_px(self) -> float:
        """How long a trail may be for what the picture is for, px."""
        return USES[self.use].tolerance_px

    @property
    def minutes(self) -> float:
        """How long it takes, with the pauses of its mode."""
        interval = float(self.mode_plan.get("interval") or 0)
        return max(burst_minutes(self.frames, self.shutter), self.frames * interval / 60)

    @property
    def gigabytes(self) -> float:
        """Storage that the burst takes."""
        return self.frames * self.core_lens.raw_megabytes / 1000

    @property
    def trail(self) -> float:
        """Trail in the worst place of the frame, px."""
        return float(self.shutter * self.exposure["shutter"]["worst_px_s"])

    @property
    def pose(self) -> Pose:
        """Where the lens points."""
        return Pose(**self.plan["pose"])

    def found_night(self) -> Night:
        """Its night, judged for its target by its owner's thresholds."""
        return nights(
            self.site.core(), self.night, self.night, preferences_of(self.owner).limits(), target(self.target)
        )[0]

    @property
    def skyline_query(self) -> str:
        """The address part that shows this shot over the skyline."""
        return urlencode(
            {
                "t": round(self.moment),
                "target": self.target,
                "lens": f"{self.phone_id}:{self.lens}",
                "portrait": "1" if self.portrait else "",
                "az": self.pose.azimuth,
                "up": self.pose.altitude,
                "roll": self.pose.roll,
            }
        )

    def burst(self, seed: int) -> Burst:
        """What the simulated phone is told to shoot this."""
        return Burst(
            site=self.site.core(),
            lens=self.core_lens,
            start=self.moment,
            pose=self.pose,
            iso=self.iso,
            shutter=self.shutter,
            count=self.frames,
            portrait=self.portrait,
            seed=seed,
            model=self.phone.name,
        )
