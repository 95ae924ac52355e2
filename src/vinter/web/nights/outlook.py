"""What lies ahead at a site: the next good window and the best nights, one a lunation."""

from dataclasses import dataclass
from datetime import date, datetime, timedelta

from vinter.core.sky.nights import Night
from vinter.core.sky.ranking import Run, runs
from vinter.core.sky.verdict import Verdict
from vinter.web.nights.query import PlanQuery
from vinter.web.nights.years import JudgedNights, judged_nights
from vinter.web.sites.models import Site as OwnSite

AHEAD_DAYS = 365
MOST_RUNS = 7


@dataclass(frozen=True)
class Outlook:
    """A year of judged nights, the first one worth it, and the best evening of each lunation with its run of
    nights."""

    judged: JudgedNights
    next_night: Night | None
    verdict: Verdict | None
    runs: list[Run]


def today(site: OwnSite) -> date:
    """The date at a site now."""
    return datetime.now(site.core().zone).date()


def ahead(site: OwnSite, query: PlanQuery) -> Outlook:
    """The year ahead of a site for what a page asks."""
    first = today(site)
    found = judged_nights(site.core(), first, first + timedelta(days=AHEAD_DAYS), query.what, query.limits)
    good = ((n, v) for n, v in found if v.worth_going and query.night_filter.suits(n, v))
    night, verdict = next(good, (None, None))
    return Outlook(found, night, verdict, runs(found, query.night_filter)[:MOST_RUNS])
