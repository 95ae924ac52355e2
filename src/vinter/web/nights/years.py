"""Nights of a site, judged and kept in memory: bounded by bytes, computed once however many ask at once.

What is kept depends on the site, the days, the thresholds and the target; filters of evenings are applied
afterwards.
"""

from datetime import date
from typing import Any, TypeVar

from django.conf import settings

from vinter.core.byte_cache import ByteCache
from vinter.core.sky.ephemeris import check_year
from vinter.core.sky.nights import Night
from vinter.core.sky.ranking import judged
from vinter.core.sky.site import Site
from vinter.core.sky.targets import Target
from vinter.core.sky.thresholds import Thresholds
from vinter.core.sky.verdict import Verdict

JudgedNights = list[tuple[Night, Verdict]]
V = TypeVar("V")
YEARS = ByteCache(settings.PLANNING_CACHE_BYTES)


def year_span(year: int) -> tuple[date, date]:
    """First and last day of a calendar year; BadInput for one that is not covered."""
    check_year(year)
    return date(year, 1, 1), date(year, 12, 31)


def judged_nights(site: Site, first: date, last: date, what: Target, limits: Thresholds) -> JudgedNights:
    """The nights from ``first`` to ``last``, both included, each with its verdict."""
    key: tuple[Any, ...] = ("nights", site, first, last, what.key, limits)
    return YEARS.get(key, lambda: judged(site, first, last, limits, what))
