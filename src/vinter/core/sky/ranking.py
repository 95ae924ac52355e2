"""Choosing among nights: what a person asks for beside the sky, and the best nights over several sites."""

from collections import Counter
from collections.abc import Callable, Iterable
from dataclasses import dataclass
from datetime import date

from vinter.core.errors import BadInput
from vinter.core.sky.nights import Night, nights
from vinter.core.sky.site import Site
from vinter.core.sky.targets import Target
from vinter.core.sky.thresholds import MOON_SCHOOLS, Thresholds
from vinter.core.sky.verdict import Verdict, best_of, judge

EVEN_CHANCE = 0.5  # chance of a clear sky where no forecast reaches
MOST_OF_A_LUNATION = 2  # best nights of a lunation that are shown unless more are asked for
NEW_MOON_DAY, SYNODIC_DAYS = date(2000, 1, 6).toordinal() + 0.76, 29.530589  # mean new Moon; 14 h off at most
SAME_RUN_DAYS = 3  # days: a longer gap in the good nights begins a new run


@dataclass(frozen=True)
class NightFilter:
    """Evenings of the week (Monday is 0; empty for any), fewest usable minutes, a Moon school that must say
    yes."""

    weekdays: tuple[int, ...] = ()
    minutes: float = 0.0
    school: str = ""

    def __post_init__(self) -> None:
        if any(not 0 <= d <= 6 for d in self.weekdays):
            raise BadInput("weekdays are 0 (Monday) to 6 (Sunday)")
        if self.school and self.school not in MOON_SCHOOLS:
            raise BadInput(f"Moon school {self.school!r} is not one of {', '.join(MOON_SCHOOLS)}")

    def suits(self, night: Night, verdict: Verdict) -> bool:
        """Whether a night passes."""
        return (
            (not self.weekdays or night.day.weekday() in self.weekdays)
            and night.usable >= self.minutes
            and (not self.school or verdict.schools[self.school].yes)
        )


def judged(
    site: Site, first: date, last: date, limits: Thresholds, what: Target
) -> list[tuple[Night, Verdict]]:
    """The nights from ``first`` to ``last`` (both included), each with its verdict."""
    found = nights(site, first, last, limits, what)
    whole = first == date(first.year, 1, 1) and last == date(first.year, 12, 31)
    best = best_of(found) if whole else None
    return [(n, judge(site, n, limits, best)) for n in found]


@dataclass(frozen=True)
class Run:
    """Good nights close together: the best evening, its verdict, and the first and last evening of the
    run."""

    night: Night
    verdict: Verdict
    first: date
    last: date


def runs(judged: Iterable[tuple[Night, Verdict]], night_filter: NightFilter | None = None) -> list[Run]:
    """Nights worth it (score at least fair) that pass the filter, collected by lunation, best run first."""
    night_filter = night_filter or NightFilter()
    groups: list[list[tuple[Night, Verdict]]] = []
    for n, v in judged:
        if not v.worth_going or not night_filter.suits(n, v):
            continue
        if groups and (n.day - groups[-1][-1][0].day).days <= SAME_RUN_DAYS:
            groups[-1].append((n, v))
        else:
            groups.append([(n, v)])
    best = [(max(g, key=lambda nv: nv[0].equivalent), g) for g in groups]
    found = [Run(n, v, g[0][0].day, g[-1][0].day) for (n, v), g in best]
    return sorted(found, key=lambda r: -r.night.equivalent)


def lunation(day: date) -> int:
    """Number of the lunation a night belongs to, from full Moon to full Moon: the nights round one new
    Moon."""
    return round((day.toordinal() + 1 - NEW_MOON_DAY) / SYNODIC_DAYS)


@dataclass(frozen=True)
class Choice:
    """One of the best nights over several sites: which site (its place in the list given), the night and
    verdict, and the chance of a clear sky (None where no forecast reaches)."""

    site: int
    night: Night
    verdict: Verdict
    chance: float | None = None

    @property
    def expected(self) -> float:
        """The weighed minutes times the chance of a clear sky; where no forecast reaches, an even chance."""
        return self.night.equivalent * (EVEN_CHANCE if self.chance is None else self.chance)


def hours_worth(night: Night, reference: Night) -> float:
    """How many hours of another night's usable time give a camera what a night gives."""
    rate = reference.equivalent / reference.usable if reference.usable >= 1 else 0.0
    return night.equivalent / rate / 60 if rate else 0.0


def best_nights(
    found: list[tuple[Site, list[tuple[Night, Verdict]]]],
    count: int = 10,
    night_filter: NightFilter | None = None,
    most_of_a_lunation: int | None = MOST_OF_A_LUNATION,
    chance: Callable[[int, Night], float | None] = lambda site, night: None,
) -> list[Choice]:
    """The nights worth most over all sites, each evening once (at its best site), at most ``most`` of a
    lunation (None for any), best first.

    ``chance`` gives that of a clear sky for a site's place in the list and a night, or None; it enters the
    order.
    """
    night_filter = night_filter or NightFilter()
    evenings: dict[date, Choice] = {}
    for i, (_, judged) in enumerate(found):
        for n, v in judged:
            if not v.worth_going or not night_filter.suits(n, v):
                continue
            choice = Choice(i, n, v, chance(i, n))
            if n.day not in evenings or choice.expected > evenings[n.day].expected:
                evenings[n.day] = choice
    chosen: list[Choice] = []
    taken: Counter[int] = Counter()
    for choice in sorted(evenings.values(), key=lambda c: (-c.expected, c.night.day)):
        moon = lunation(choice.night.day)
        if most_of_a_lunation is None or taken[moon] < most_of_a_lunation:
            taken[moon] += 1
            chosen.append(choice)
    return chosen[:count]
