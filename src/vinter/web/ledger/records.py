"""The ledger's nights: what was planned, what was set, what came of it, and what was learned, site by site.

An `Evening` is a night by its rows and counts alone, so that years of them cost a few queries; a `Night` has
all that a page shows of it, and is read for as many as are shown.
"""

from collections import defaultdict
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field
from datetime import date

from django.contrib.auth.models import User
from django.db.models import Count, FloatField, Min, prefetch_related_objects
from django.db.models.fields.json import KT
from django.db.models.functions import Cast

from vinter.core.frames.frame_type import NEVER_STACKED
from vinter.core.frames.measure import stored_measure
from vinter.core.frames.metadata import EARLIEST, LATEST
from vinter.core.frames.outcome import Outcome, Tally, outcome, tally
from vinter.core.sky.nights import nights
from vinter.core.sky.site import Site as CoreSite
from vinter.core.sky.site_sky import FROM_FRAMES, METER
from vinter.core.sky.targets import CORE, target
from vinter.core.sky.thresholds import Thresholds
from vinter.web.byte_cache import ByteCache
from vinter.web.conventions import current
from vinter.web.field.models import FieldNote
from vinter.web.finish.models import Export, Finish
from vinter.web.meanwhile import opened_with
from vinter.web.nights.drawing import Strip, draw
from vinter.web.nights.models import preferences_of
from vinter.web.shots.forms import LessonForm
from vinter.web.shots.models import Shot
from vinter.web.sites.models import Reading, Site
from vinter.web.stacks.models import Stack
from vinter.web.takes.models import Frame, Take

STRIPS = ByteCache(8 * 2**20)
# what a count of evenings has no use for, and is long
LONG = ("plan", "mode_plan", "planned_with", "manual_settings", "options", "optics", "timed")
USED = 0.05  # mag/arcsec^2, within which what was measured is what plans are made with
NO_SKY = {"ground", "twin", "test", *NEVER_STACKED}


@dataclass(frozen=True)
class Entry:
    """A take by its row and counts; without a shot when it was not planned, without a take when it was not
    shot. The shot's plan is left in the database."""

    shot: Shot | None
    take: Take | None
    tally: Tally
    again: bool = False  # another take of the shot before

    @property
    def phone_pk(self) -> int | None:
        """The phone it was shot with, or is planned for."""
        return self.shot.phone_id if self.shot else self.take.own_phone_id if self.take else None


@dataclass(frozen=True)
class Evening:
    """One evening at one site (None: a take that belongs to none)."""

    day: date
    site: Site | None
    entries: list[Entry]

    @property
    def frames(self) -> int:
        """Frames of the sky that were kept."""
        return sum(e.tally.kept for e in self.entries)

    @property
    def light_s(self) -> float:
        """Seconds of light in them."""
        return sum(e.tally.light_s for e in self.entries)


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
    noted: list[FieldNote] = field(default_factory=list)  # in the field, ticks left out
    again: bool = False  # another take of the shot before


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


def evenings_of(
    owner: User, site: int | None = None, year: int | None = None, phone: int | None = None
) -> list[Evening]:
    """Evenings of a person, newest first; of one site, year or phone when asked. A few queries, however
    many."""
    found: dict[tuple[date, int], list[Entry]] = {}
    sites: dict[int, Site | None] = {0: None}
    for day, where, entry in _entries(owner):
        pk = where.pk if where else 0
        sites.setdefault(pk, where)
        found.setdefault((day, pk), []).append(entry)
    return [
        Evening(day, sites[pk], entries)
        for (day, pk), entries in sorted(found.items(), key=lambda item: item[0], reverse=True)
        if (not site or pk == site)
        and (not year or day.year == year)
        and (not phone or any(e.phone_pk == phone for e in entries))
    ]


def _entries(owner: User) -> Iterator[tuple[date, Site | None, Entry]]:
    takes: dict[int | None, list[Take]] = defaultdict(list)
    for take in Take.objects.filter(owner=owner).select_related("own_site", "own_phone"):
        takes[take.shot_id].append(take)
    tallies = _tallies(owner)
    for shot in Shot.objects.filter(owner=owner).select_related("site", "phone").defer(*LONG):
        for take in takes[shot.pk]:
            take.shot = shot  # already here: nobody asks for it again
        for k, one in enumerate(takes[shot.pk] or [None]):
            yield shot.night, shot.site, Entry(shot, one, tallies[one.pk] if one else Tally(), again=k > 0)
    begun = _first_times(takes[None])
    for take in takes[None]:
        yield take.evening_of(begun.get(take.pk)), take.own_site, Entry(None, take, tallies[take.pk])


def _tallies(owner: User) -> defaultdict[int, Tally]:
    """Counts of the sky's frames by take, as `outcome` has them."""
    alike = (
        Frame.objects.filter(take__owner=owner, measure__isnull=False)
        .exclude(frame_type__in=NO_SKY)
        .order_by("take_id")
        .values_list("take_id", "frame_type", "error", "decision", "measure__verdict", "measure__exposure_s")
        .annotate(many=Count("pk"))
    )
    groups: defaultdict[int, list[tuple[float | None, bool, int]]] = defaultdict(list)
    for take, kind, error, decision, verdict, shutter, many in alike:
        if verdict is not None:  # else nothing was measured
            like = Frame(frame_type=kind, error=error, decision=decision, measure={"verdict": verdict})
            groups[take].append((shutter, like.candidate.included, many))
    return defaultdict(Tally, {take: tally(found) for take, found in groups.items()})


def _first_times(takes: list[Take]) -> dict[int, float]:
    """When the first frame of takes was shot, Unix; without those of which no frame says."""
    timed = Frame.objects.filter(take__in=takes).annotate(time=Cast(KT("measure__time"), FloatField()))
    believed = timed.filter(time__gte=EARLIEST, time__lt=LATEST)
    firsts = believed.order_by("take_id").values_list("take_id").annotate(first=Min("time"))
    return dict(firsts)


def told(evenings: Sequence[Evening], drawn: bool = True) -> list[Night]:
    """Evenings with all that a page or a table shows of them (a table has no use for drawings)."""
    pks = [e.take.pk for evening in evenings for e in evening.entries if e.take]
    full = {t.pk: t for t in Take.objects.filter(pk__in=pks).prefetch_related("frame_set", "stack_set")}
    stacks = [s for t in full.values() for s in t.stack_set.all()]
    finishes: dict[int, list[Finish]] = defaultdict(list)
    for finish in Finish.objects.filter(stack__in=stacks).select_related("stack__take"):
        finishes[finish.stack_id].append(finish)
    exports: dict[int, list[Export]] = defaultdict(list)
    for export in Export.objects.filter(finish__stack__in=stacks):
        if export.ready:
            exports[export.finish_id].append(export)
    noted: dict[int, list[FieldNote]] = defaultdict(list)
    planned = [e.shot.pk for evening in evenings for e in evening.entries if e.shot]
    shots = Shot.objects.select_related("site", "phone").in_bulk(planned)
    for note in FieldNote.objects.filter(shot__in=planned).exclude(kind__in=("tick", "timed")):
        noted[note.shot_id].append(note)
    sites = {e.site.pk: e.site for e in evenings if e.site}
    prefetch_related_objects(list(sites.values()), "reading_set")
    places = {pk: site.core() for pk, site in sites.items()}
    limits = next((preferences_of(site.owner).limits() for site in sites.values()), None) if drawn else None

    def work(entry: Entry) -> Work:
        take = full.get(entry.take.pk) if entry.take else None
        shot = shots.get(entry.shot.pk) if entry.shot else None
        if take and shot:
            take.shot = shot
        of_it = [f for s in take.stack_set.all() for f in finishes[s.pk]] if take else []
        return Work(
            shot=shot,
            take=take,
            got=_got(take) if take else None,
            stacks=list(take.stack_set.all()) if take else [],
            finishes=of_it,
            exports=[e for f in of_it for e in exports[f.pk]],
            again=entry.again,
            noted=noted[shot.pk] if shot else [],
            lesson_opened=opened_with(LessonForm(instance=shot)) if shot else "",
        )

    def night(evening: Evening) -> Night:
        site, works = evening.site, [work(e) for e in evening.entries]
        strip = _strip(places[site.pk], evening, limits) if site and drawn else None
        frames = [f for w in works if w.take for f in w.take.frame_set.all()] if strip else []
        times = {t for f in frames if (t := (f.measure or {}).get("time"))}
        return Night(
            day=evening.day,
            site=site,
            works=works,
            readings=[r for r in site.reading_set.all() if r.day == evening.day] if site else [],
            strip=strip,
            marks=sorted({strip.x(t) for t in times if strip.start <= t <= strip.end}) if strip else [],
        )

    return [night(e) for e in evenings]


def _strip(site: CoreSite, evening: Evening, limits: Thresholds | None) -> Strip | None:
    """The night of an evening, towards what was planned first there, else towards the core; kept."""
    what = next((target(e.shot.target) for e in evening.entries if e.shot), CORE)

    def drawn() -> Strip | None:
        return draw(site, nights(site, evening.day, evening.day, limits, what)[0], 420, 30)

    return STRIPS.get(repr((site, evening.day, limits, what, current.get())), drawn)


def last_time(site: Site, before: date | None = None) -> dict[str, object] | None:
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
            "meter": now if now.name == METER else None,
            "gain": gain,
            "lesson": shot.lesson,
        }
    return None
