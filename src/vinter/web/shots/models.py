"""A planned shot and what it asks for."""

from dataclasses import asdict
from functools import cached_property
from urllib.parse import urlencode

from django.conf import settings
from django.db import models

import vinter
from vinter.core.camera.exposure import OWN, OwnSettings, framing_shot
from vinter.core.camera.frame_count import GAP_SECONDS, burst_minutes
from vinter.core.camera.optics import Optics
from vinter.core.camera.phones import Lens
from vinter.core.camera.projection import Pose
from vinter.core.camera.shutter import USES
from vinter.core.ground.magnetic import Declination, declination
from vinter.core.planning.modes.basis import DELAY_SECONDS, MODE_PLAN, CardStep, Mode
from vinter.core.planning.modes.registry import mode_of
from vinter.core.planning.picture import Picture, Wish
from vinter.core.planning.planned_with import PLANNED_WITH, changes, snapshot
from vinter.core.planning.shot import SHOT_PLAN
from vinter.core.simulate.capture import Burst
from vinter.core.simulate.scenes import place_seed, scene_for
from vinter.core.sky.glow import site_zenith
from vinter.core.sky.nights import Night, nights
from vinter.core.sky.sun_safety import SunTooNear, check_sun
from vinter.core.sky.targets import target
from vinter.core.versions import Data
from vinter.web.bin.models import Binnable
from vinter.web.fields import VersionedJSONField
from vinter.web.gear.models import Phone
from vinter.web.nights.models import preferences_of
from vinter.web.sites.models import Site

SKIES = (("", "by the frames"), ("clear", "clear"), ("partly", "partly clouded"), ("clouded", "clouded"))
OWN_SETTINGS = ("iso", "shutter", "frames")


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
    manual_settings = VersionedJSONField(
        schema=OWN, default=dict
    )  # what the photographer set: iso, shutter, frames, pose, target
    optics = models.JSONField(default=dict)  # resolution and clip-on, as in the core's Optics
    planned_with = VersionedJSONField(
        schema=PLANNED_WITH, default=dict
    )  # site, lens and thresholds as they were then
    iso = models.IntegerField()
    shutter = models.FloatField()
    frames = models.IntegerField()
    plan = VersionedJSONField(schema=SHOT_PLAN)
    version = models.CharField(max_length=20)
    lesson = models.TextField(blank=True, default="")
    sky_came = models.CharField(max_length=8, blank=True, default="", choices=SKIES)
    # the chance of a clear sky, as last forecast before the night: chance, error, at (Unix s)
    forecast_chance = models.JSONField(default=dict, blank=True)
    timed = models.JSONField(
        default=dict, blank=True
    )  # start and end of the burst by the field's timer, Unix
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
        """The lens for the core, at the resolution and behind the clip-on it is used with."""
        return Optics(**self.optics).on(self.phone.core().lens(self.lens))

    @property
    def gear(self) -> tuple[str, ...]:
        """What the picture asks for beyond phone and tripod, by the keys of the pack list."""
        return (*self.core_mode.gear, *(["clip-on"] if self.optics.get("clip_on", 1) != 1 else []))

    @property
    def trail_words(self) -> str:
        """What stars trail, as the mode says it."""
        return str(self.mode_plan.get("trail") or f"trails {self.trail:.1f} px at worst")

    @property
    def framing(self) -> tuple[float, int] | None:
        """Shutter and ISO of a frame for the composition; None where the target outshines the sky."""
        if not target(self.core_mode.target or self.target).dark:
            return None
        return framing_shot(self.core_lens, float(self.plan["at"]["brightness"]))

    @property
    def wish(self) -> Wish:
        """What was asked for, to plan it again."""
        return Wish(
            site=self.site.core(),
            unix=self.moment,
            lens=self.core_lens,
            mode=self.mode,
            options=self.options,
            target=target(self.wanted_target),
            night=self.found_night(),
            use=self.use,
            portrait=self.portrait,
            pose=Pose(*self.manual_settings["pose"]) if "pose" in self.manual_settings else None,
            own=OwnSettings(**{key: self.manual_settings.get(key) for key in OWN_SETTINGS}),
        )

    @property
    def wanted_target(self) -> str:
        """Key of what the photographer wanted, where the mode points at something of its own."""
        return str(self.manual_settings.get("target") or self.target)

    @property
    def outdated(self) -> list[str]:
        """What it was planned with and is otherwise now, each as a sentence."""
        return changes(self.planned_with, self.inputs())

    def inputs(self) -> Data:
        """What a plan of it rests on now."""
        return snapshot(self.site.core(), self.core_lens, preferences_of(self.owner).limits())

    def take_plan(self, picture: Picture) -> None:
        """Take over what a picture was planned to be; not stored yet."""
        found = picture.mode_plan
        self.mode, self.options, self.target = picture.mode.key, picture.options, picture.target.key
        self.mode_plan = MODE_PLAN.stamped(asdict(found))
        self.moment, self.portrait, self.plan = picture.start, picture.plan.portrait, picture.plan.data()
        self.iso, self.shutter, self.frames = found.iso, found.shutter, found.frames
        self.planned_with, self.version = self.inputs(), vinter.__version__

    @property
    def exposure(self) -> Data:
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
        more = float(self.mode_plan.get("more_seconds") or 0)
        return max(burst_minutes(self.frames, self.shutter), self.frames * interval / 60) + more / 60

    @property
    def delay(self) -> float:
        """Between release and shutter, s."""
        return float(self.mode_plan.get("delay") or DELAY_SECONDS)

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

    @property
    def north(self) -> Declination:
        """How a compass points there and then."""
        return declination(self.site.lat, self.site.lon, self.site.elevation, self.moment)

    @property
    def compass(self) -> float:
        """What a compass shows where the lens points, degrees."""
        return self.north.compass(self.pose.azimuth)

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

    def check_sun(self) -> None:
        """SunTooNear when it points near the Sun by day: no card, picture or frame of it is made. Older
        versions planned such shots."""
        what = target(self.core_mode.target or self.target)
        at = self.plan["at"]
        aims = [(at["altitude"], at["azimuth"]), (self.pose.altitude, self.pose.azimuth)]
        check_sun(self.site.core(), self.moment, aims, what)

    @property
    def refused(self) -> str:
        """Why it must not be shot; empty where nothing speaks against it."""
        try:
            self.check_sun()
        except SunTooNear as error:
            return str(error)
        return ""

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
            gap=max(float(self.mode_plan.get("interval") or 0) - self.shutter, 0.0) or GAP_SECONDS,
            portrait=self.portrait,
            seed=seed,
            model=self.phone.name,
            scene=scene_for(self.site.hazards, site_zenith(self.site.core()).value),
            ground_seed=place_seed(self.site.lat, self.site.lon),
        )
