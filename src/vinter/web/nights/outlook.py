"""What lies ahead at a site: the next good window and the best nights, one a lunation."""

from dataclasses import dataclass
from datetime import date, timedelta
from functools import lru_cache

from vinter.core.sky.nights import Night, nights
from vinter.core.sky.site import Site
from vinter.core.sky.verdict import FAIR, Verdict, judge

AHEAD_DAYS = 365
SAME_RUN_DAYS = 3  # a gap in the good nights longer than this begins a new run


@dataclass(frozen=True)
class Outlook:
    """The next night worth it with its verdict, and the best evening of each lunation with its run of nights."""

    next_night: Night | None
    verdict: Verdict | None
    runs: list[tuple[Night, Verdict, date, date]]


def runs(good: list[tuple[Night, Verdict]]) -> list[tuple[Night, Verdict, date, date]]:
    """Nights worth it, gathered by lunation: the best evening with first and last of its run, best run first."""
    groups: list[list[tuple[Night, Verdict]]] = []
    for n, v in good:
        if groups and (n.day - groups[-1][-1][0].day).days <= SAME_RUN_DAYS:
            groups[-1].append((n, v))
        else:
            groups.append([(n, v)])
    best = [(*max(g, key=lambda nv: nv[0].equivalent), g[0][0].day, g[-1][0].day) for g in groups]
    return sorted(best, key=lambda row: -row[0].equivalent)


@lru_cache(maxsize=16)
def outlook(site: Site, today: date) -> Outlook:
    """Scan a year of nights from today."""
    found = [(n, judge(site, n)) for n in nights(site, today, today + timedelta(days=AHEAD_DAYS))]
    good = [(n, v) for n, v in found if v.score >= FAIR]
    first = good[0] if good else (None, None)
    return Outlook(first[0], first[1], runs(good)[:7])
