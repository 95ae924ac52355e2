"""Takes and their frames. Original files are never changed."""

from dataclasses import replace
from datetime import UTC, date, datetime, timedelta
from pathlib import Path
from typing import Any

from django.conf import settings
from django.db import models

from vinter.core.camera.phones import SHIPPED
from vinter.core.frames.content import FILMS
from vinter.core.frames.facts import Corrections, LensFact, lens_fact, settled_time, time_words
from vinter.core.frames.frame_type import CALIBRATION
from vinter.core.frames.measure import MEASURE
from vinter.core.frames.metadata import believable, camera_name
from vinter.core.frames.selection import Candidate, Decision
from vinter.core.ground.zones import zone_at
from vinter.core.simulate.capture import Burst
from vinter.core.sky.nights import evening_of
from vinter.web.bin.models import Binnable
from vinter.web.fields import VersionedJSONField
from vinter.web.gear.models import Phone
from vinter.web.shots.models import Shot
from vinter.web.sites.models import Site


class Take(Binnable):
    """A burst of frames from one stand, shot by the simulated phone or uploaded."""

    LIST = "takes"
    JOBS = ("shoot", "measure", "film")
    SIMULATED, UPLOADED = "simulated", "uploaded"

    owner = models.ForeignKey(settings.AUTH_USER_MODEL, models.CASCADE)
    shot = models.ForeignKey(Shot, models.PROTECT, null=True)
    own_site = models.ForeignKey(Site, models.SET_NULL, null=True)  # of a take that was not planned
    own_phone = models.ForeignKey(Phone, models.SET_NULL, null=True)
    tick = models.FloatField(null=True)  # of the focus slider, where it was not the planned one
    kind = models.CharField(max_length=12)
    title = models.CharField(max_length=120)
    seed = models.IntegerField(default=1)
    simulation_overrides = models.JSONField(default=dict)  # what the simulated phone does besides its shot
    film_wish = models.JSONField(default=dict)
    corrected = models.JSONField(
        default=dict
    )  # of zone, clock and lens, as somebody says (core's Corrections)
    created = models.DateTimeField(auto_now_add=True)

    class Meta:
        ordering = ["-id"]

    def __str__(self) -> str:
        return self.title

    def came_of_it(self) -> list[Binnable]:
        """Its stacks; its frames are reached through it."""
        return list(self.stack_set.all())

    def came_from(self) -> Binnable | None:
        """Its shot."""
        return self.shot

    def files(self) -> list[Path]:
        """All that lies in its folder."""
        return [self.folder]

    @property
    def site(self) -> Site | None:
        """Where it was shot: its shot's site, or the one it was given."""
        return self.shot.site if self.shot else self.own_site

    @property
    def phone(self) -> Phone | None:
        """What it was shot with: its shot's phone, or the one it was given."""
        return self.shot.phone if self.shot else self.own_phone

    @property
    def corrections(self) -> Corrections:
        """What somebody says of its frames' zone, clock and lens."""
        return Corrections(**self.corrected)

    @property
    def zone(self) -> str:
        """The zone in which its times are said: as corrected, its site's, its place's, else UTC."""
        return self.corrections.zone or (self.site.tz if self.site else "") or self._place_zone or "UTC"

    @property
    def _place_zone(self) -> str:
        return zone_at(*self.place) if self.place else ""

    def lens_of(self, frame: "Frame") -> LensFact | None:
        """The lens of one of its frames, where it is known."""
        return lens_fact(frame.measure or {}, self.corrections, self.phone.core() if self.phone else None)

    def settle_times(self) -> None:
        """Read the clocks of its frames in the zone that is known now."""
        frames = [f for f in self.frame_set.all() if f.measure]
        for f in frames:
            f.measure = settled_time(
                f.measure or {}, self.corrections, self.site.tz if self.site else "", self._place_zone
            )
        Frame.objects.bulk_update(frames, ["measure"])

    def facts(self) -> list[str]:
        """When and through what it was shot, each with its source; of its first frame that knows."""
        frame = next((f for f in self.frame_set.all() if f.measure and not f.is_film), None)
        if frame is None:
            return []
        measure, lens = frame.measure or {}, self.lens_of(frame)
        camera = camera_name(measure.get("make", ""), measure.get("model", ""))
        said = (
            f"lens {lens.f35:.3g} mm, {lens.source}"
            if lens
            else "lens not known: give its equivalent focal length"
        )
        return [f"shot {time_words(measure, self.zone)}", said, *([camera] if camera else [])]

    @property
    def focused_at(self) -> float | None:
        """The tick its frames were focused at, unless they say otherwise: as was set, else as planned."""
        if self.tick is not None or self.shot is None:
            return self.tick
        planned = self.shot.planned_with.get("lens", {}).get("infinity_ticks")
        return float(self.shot.core_lens.infinity_ticks if planned is None else planned)

    @property
    def focus_error(self) -> float:
        """Ticks by which the simulated phone was set beside its own infinity."""
        assert self.shot is not None
        shipped = SHIPPED.get(self.shot.phone.key)
        lens = shipped.lenses.get(self.shot.lens) if shipped else None
        return float((self.focused_at or 0.0) - lens.infinity_ticks) if lens else 0.0

    @property
    def place(self) -> tuple[float, float] | None:
        """Latitude and longitude that its first frame names."""
        named = [p for f in self.frame_set.all() if (p := (f.measure or {}).get("place"))]
        return (named[0][0], named[0][1]) if named else None

    def evenings(self) -> "dict[date, list[Frame]]":
        """Its frames with a time by the evening of their night."""
        out: dict[date, list[Frame]] = {}
        for frame in self.frame_set.all():
            unix = (frame.measure or {}).get("time")
            if unix is not None and believable(unix):
                out.setdefault(_evening(self.site, unix), []).append(frame)
        return dict(sorted(out.items()))

    def groups(self) -> "dict[str, list[Frame]]":
        """Its measured frames by night, camera and lens, each under what tells it from the others, the
        earliest first. A frame whose file says less goes with the first that does not contradict it."""
        found: dict[tuple[date | None, str, int], list[Frame]] = {}
        for frame in (f for f in self.frame_set.all() if f.measure):
            key = self._group_of(frame)
            alike = next((k for k in found if _compatible(k, key)), key)
            found.setdefault(alike, []).append(frame)
        many = [len({k[i] for k in found}) > 1 for i in range(3)]
        out: dict[str, list[Frame]] = {}
        for key in sorted(found, key=lambda k: (k[0] or date.max, k[1], k[2])):
            day, camera, lens = key
            parts = (f"{day:%-d %b %Y}" if day else "", camera, f"{lens} mm" if lens else "")
            label = ", ".join(part for part, counts in zip(parts, many, strict=True) if counts and part)
            out.setdefault(label or "the rest", []).extend(found[key])
        return out

    def _group_of(self, frame: "Frame") -> tuple[date | None, str, int]:
        m = frame.measure or {}
        unix = m.get("time")
        day = _evening(self.site, unix) if unix is not None and believable(unix) else None
        return day, camera_name(m.get("make", ""), m.get("model", "")), round(m.get("f35") or 0)

    @property
    def evening(self) -> date:
        """The evening of its night: its shot's, else that of its first frame, else of when it was brought."""
        if self.shot:
            return self.shot.night
        return next(iter(self.evenings()), None) or self.evening_of(None)

    def evening_of(self, first: float | None) -> date:
        """The evening of a take that was not planned, whose first frame was shot at ``first`` (Unix; None:
        unknown, when it was brought)."""
        return _evening(self.site, self.created.timestamp() if first is None else first)

    @property
    def folder(self) -> Path:
        """Where its originals lie."""
        return Path(settings.MEDIA_ROOT) / str(self.owner_id) / "takes" / str(self.pk)

    @property
    def previews(self) -> Path:
        """Where pictures made from the originals lie; can be thrown away."""
        return self.folder / "looks"

    @property
    def film(self) -> Path:
        """The time-lapse of its stackable frames, of the kind that was wished for last."""
        return self.previews / f"time-lapse.{self.film_wish.get('kind', 'webm')}"

    def burst(self) -> Burst:
        """What the simulated phone is told: its shot's, turned, later, or with the faults of this take."""
        assert self.shot is not None
        shot, changes = self.shot.burst(self.seed), self.simulation_overrides
        pose = replace(shot.pose, azimuth=shot.pose.azimuth + changes.get("turn", 0.0))
        return replace(
            shot,
            pose=pose,
            focus_error=self.focus_error,
            facing=shot.pose.azimuth if "turn" in changes else None,
            start=shot.start + changes.get("late", 0.0),
            faults=tuple((kind, tuple(frames)) for kind, frames in changes.get("faults", ())),
            traffic=bool(changes.get("traffic", True)),
            cloud=float(changes.get("cloud", 0.0)),
        )

    def stackable(self) -> "list[Frame]":
        """Frames that go into a stack."""
        return [f for f in self.frame_set.all() if f.candidate.stackable]

    def readable(self) -> "list[Frame]":
        """Frames that can be read and were not dropped, whatever they show."""
        kept = [f for f in self.frame_set.all() if f.measure and not f.error and f.decision != Decision.DROP]
        return [f for f in kept if f.frame_type not in CALIBRATION]

    @property
    def work(self) -> Path:
        """What stacks of it worked out; can be thrown away."""
        return self.folder / "work"

    def serving_as(self, frame_type: str) -> "list[Frame]":
        """Its ground exposures, darks, flats or bias frames that can be used."""
        return [f for f in self.frame_set.all() if f.candidate.serves_as(frame_type)]


def _compatible(a: tuple[date | None, str, int], b: tuple[date | None, str, int]) -> bool:
    """Whether two groups may be one: what both know of night, camera and lens is the same."""
    same = [x == y or not x or not y for x, y in zip(a, b, strict=True)]
    return all(same)


def _evening(site: Site | None, unix: float) -> date:
    """The evening of a night, at its site, else by Greenwich."""
    if site is not None:
        return evening_of(site.core(), unix)
    return (datetime.fromtimestamp(unix, UTC) - timedelta(hours=12)).date()


class Frame(Binnable):
    """One file of a take with its measures (the core's Measure as data) and the user's decision."""

    take = models.ForeignKey(Take, models.CASCADE)
    name = models.CharField(max_length=200)
    stored = models.CharField(max_length=80)
    size = models.BigIntegerField(default=0)
    digest = models.CharField(max_length=64, db_index=True, default="")
    measure = VersionedJSONField(schema=MEASURE, null=True)
    error = models.TextField(default="")
    decision = models.CharField(max_length=4, default="", blank=True)
    frame_type = models.CharField(max_length=10, default="sky")
    type_set_by_hand = models.BooleanField(default=False)
    tick = models.FloatField(null=True)  # of the focus slider, where it differs from the take's

    class Meta:
        ordering = ["name", "id"]
        constraints = [models.UniqueConstraint(fields=["take", "digest"], name="one_frame_per_content")]

    def __str__(self) -> str:
        return self.name

    @classmethod
    def of(cls, user: object) -> "models.QuerySet[Any]":
        """The frames of a person's takes."""
        return cls.objects.filter(take__owner=user)

    def page(self) -> str:
        """The sheet it lies on."""
        return self.take.page()

    list_page = page

    def came_from(self) -> Binnable:
        """Its take."""
        return self.take

    def files(self) -> list[Path]:
        """The original and the pictures of it."""
        stem = Path(self.stored).stem
        return [self.path, *(self.take.previews / f"{stem}{end}" for end in (".jpg", ".small.jpg"))]

    @property
    def path(self) -> Path:
        """The original file."""
        return self.take.folder / self.stored

    @property
    def is_film(self) -> bool:
        """Whether it holds many pictures."""
        return Path(self.stored).suffix in FILMS

    @property
    def suggestion(self) -> str:
        """keep, doubt or drop, as measured; drop when it cannot be read."""
        return "drop" if self.error else (self.measure or {}).get("verdict", "")

    @property
    def candidate(self) -> Candidate:
        """What the core needs to know to choose it or not."""
        return Candidate(
            self.frame_type,
            readable=not self.error,
            measured=bool(self.measure),
            verdict=self.suggestion,
            decision=Decision(self.decision),
        )

    @property
    def included(self) -> bool:
        """Whether it counts as one to use; a film does for what takes films."""
        if self.is_film:
            return not self.error and self.decision != Decision.DROP
        return self.candidate.included

    @property
    def reasons(self) -> list[object]:
        """Why it was suggested so."""
        return [self.error] if self.error else list((self.measure or {}).get("reasons", []))
