"""The ledger's nights: what was planned, what was set, what came of it, and what was learned, site by
site."""

from collections.abc import Iterator
from dataclasses import dataclass
from datetime import date
from typing import Any

from vinter.core.frames.frame_type import NEVER_STACKED
from vinter.core.frames.measure import stored_measure
from vinter.core.frames.outcome import Outcome, outcome
from vinter.core.sky.nights import Night as CoreNight
from vinter.core.sky.nights import nights
from vinter.core.sky.site_sky import FROM_FRAMES
from vinter.web.finish.models import Export, Finish
from vinter.web.meanwhile import opened_with
from vinter.web.nights.drawing import Strip, draw
from vinter.web.shots.forms import LessonForm
from vinter.web.shots.models import Shot
from vinter.web.sites.models import Reading, Site
from vinter.web.stacks.models import Stack
from vinter.web.takes.models import Take

USED = 0.05  # mag/arcsec^2, within which what was measured is what plans are made with
NO_SKY = {"ground", "twin", "test", *NEVER_STACKED}


@dataclass(frozen=True, kw_only=True)
class Work:
    """A take and what came of it; without a shot when it was not planned."""

    shot: Shot | None
    take: Take | None
    got: Outcome | None
    stacks: list[Stack]
    finishes: list[Finish]
    exports: list[Export]
    lesson_opened: str = ""
    again: bool = False  # another take of the shot before

    @property
    def phone_pk(self) -> int | None:
        """The phone it was shot with, or is planned for."""
        return self.shot.phone_id if self.shot else self.take.own_phone_id if self.take else None


@dataclass(frozen=True, kw_only=True)
class Night:
    """One evening at one site (None: a take that belongs to none)."""

    day: date
    site: Site | None
    works: list[Work]
    readings: list[Reading]
    strip: Strip | None
    marks: list[float]

    @property
    def frames(self) -> int:
        """Frames of the sky that were kept."""
        return sum(w.got.kept for w in self.works if w.got)

    @property
    def light_s(self) -> float:
        """Seconds of light in them."""
        return sum(w.got.light_s for w in self.works if w.got)

    @property
    def finishes(self) -> list[Finish]:
        """All finishes of the night."""
        return [f for w in self.works for f in w.finishes]

    @property
    def measured(self) -> list[Reading]:
        """What the frames told of the sky."""
        return [r for r in self.readings if r.source == FROM_FRAMES]


def _got(take: Take) -> Outcome | None:
    frames = [f for f in take.frame_set.all() if f.measure and f.frame_type not in NO_SKY]
    return outcome([(stored_measure(f.measure or {}), f.included) for f in frames]) if frames else None


def _work(shot: Shot | None, take: Take | None, again: bool = False) -> Work:
    stacks = list(take.stack_set.all()) if take else []
    finishes = list(Finish.objects.filter(stack__in=stacks)) if stacks else []
    return Work(
        shot=shot,
        take=take,
        got=_got(take) if take else None,
        stacks=stacks,
        finishes=finishes,
        exports=[e for e in Export.objects.filter(finish__in=finishes) if e.ready] if finishes else [],
        again=again,
        lesson_opened=opened_with(LessonForm(instance=shot)) if shot else "",
    )


def nights_of(
    owner: Any, site: int | None = None, year: int | None = None, phone: int | None = None
) -> list[Night]:
    """Nights of a person, newest first; of one site, year (of the evening) or phone when asked."""
    found: dict[tuple[date, int], list[Work]] = {}
    sites: dict[int, Site | None] = {0: None}
    for day, where, work in _works(owner):
        sites[where.pk if where else 0] = where
        found.setdefault((day, where.pk if where else 0), []).append(work)
    out = []
    for (day, pk), works in sorted(found.items(), key=lambda item: item[0], reverse=True):
        if (site and pk != site) or (year and day.year != year):
            continue
        if phone and not any(w.phone_pk == phone for w in works):
            continue
        out.append(_night(day, sites[pk], works))
    return out


def _works(owner: Any) -> Iterator[tuple[date, Site | None, Work]]:
    for shot in Shot.objects.filter(owner=owner).select_related("site", "phone"):
        takes = list(shot.take_set.prefetch_related("frame_set", "stack_set"))
        for k, take in enumerate(takes or [None]):
            yield shot.night, shot.site, _work(shot, take, again=k > 0)
    unplanned = Take.objects.filter(owner=owner, shot=None).select_related("own_site")
    for take in unplanned.prefetch_related("frame_set", "stack_set"):
        yield take.evening, take.own_site, _work(None, take)


def _night_of(site: Site, day: date) -> CoreNight:
    """A night that nobody planned, towards the core."""
    return nights(site.core(), day, day)[0]


def _night(day: date, site: Site | None, works: list[Work]) -> Night:
    planned = next((w.shot for w in works if w.shot), None)
    night = planned.found_night() if planned else _night_of(site, day) if site else None
    strip = draw(site.core(), night, 420, 30) if site and night else None
    times = [
        t for w in works if w.take for f in w.take.frame_set.all() if (t := (f.measure or {}).get("time"))
    ]
    marks = sorted({strip.x(t) for t in times if strip.start <= t <= strip.end}) if strip else []
    readings = list(Reading.objects.filter(site=site, day=day)) if site else []
    return Night(day=day, site=site, works=works, readings=readings, strip=strip, marks=marks)


def last_time(site: Site, before: date | None = None) -> dict[str, Any] | None:
    """What the last night at a site teaches the next one: how it was set, what came of it, what was noted."""
    shots = (
        Shot.objects.filter(owner=site.owner_id, site=site).select_related("phone").order_by("-night", "-pk")
    )
    for shot in shots if before is None else shots.filter(night__lt=before):
        take = shot.take_set.prefetch_related("frame_set", "stack_set").first()
        got = _got(take) if take else None
        if got is None and not shot.lesson:
            continue
        reports = [s.report for s in take.stack_set.all() if s.report] if take else []
        sky = next((r["sky"] for r in reports if r.get("sky")), None)
        gain = next((r["noise_gain"] for r in reports if r.get("noise_gain")), None)
        now = site.sky()
        used = bool(sky and now.name == FROM_FRAMES and abs((now.zenith or 0) - sky["zenith"]) < USED)
        learned = shot.phone.learned.get(shot.lens, {})
        return {
            "shot": shot,
            "focus": learned if learned.get("words") else None,
            "got": got,
            "sky": sky,
            "air": air if (air := site.learned.get("air", {})).get("words") else None,
            "used": used,
            "gain": gain,
            "lesson": shot.lesson,
        }
    return None
