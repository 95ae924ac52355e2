"""What lies ahead at a site: the next good window and the best nights, one a lunation."""

from dataclasses import dataclass
from datetime import date, datetime, timedelta
from functools import lru_cache

from vinter.core.sky.nights import Night
from vinter.core.sky.ranking import NightFilter, Run, judged, runs
from vinter.core.sky.site import Site
from vinter.core.sky.targets import Target
from vinter.core.sky.thresholds import Thresholds
from vinter.core.sky.verdict import FAIR, Verdict
from vinter.web.nights.query import Asked
from vinter.web.sites.models import Site as OwnSite

AHEAD_DAYS = 365
MOST_RUNS = 7


@dataclass(frozen=True)
class Outlook:
    """A year of judged nights, the first one worth it, and the best evening of each lunation with its run of
    nights."""

    judged: list[tuple[Night, Verdict]]
    next_night: Night | None
    verdict: Verdict | None
    runs: list[Run]


@lru_cache(maxsize=24)
def outlook(site: Site, today: date, what: Target, limits: Thresholds, wishes: NightFilter) -> Outlook:
    """Scan a year of nights from today."""
    found = judged(site, today, today + timedelta(days=AHEAD_DAYS), limits, what)
    first = next(((n, v) for n, v in found if v.score >= FAIR and wishes.suits(n, v)), (None, None))
    return Outlook(found, first[0], first[1], runs(found, wishes)[:MOST_RUNS])


def today(site: OwnSite) -> date:
    """The date at a site now."""
    return datetime.now(site.core().zone).date()


def ahead(site: OwnSite, ask: Asked) -> Outlook:
    """The year ahead of a site for what a page was asked."""
    return outlook(site.core(), today(site), ask.what, ask.limits, ask.wishes)
