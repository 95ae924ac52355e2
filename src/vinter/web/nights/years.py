"""Nights of a site, judged and kept in memory and on disk: bounded by bytes, computed once however many ask
at once.

What is kept depends on the site, the days, the thresholds, the target and the code that judges; filters of
evenings are applied afterwards.
"""

import hashlib
from contextlib import suppress
from dataclasses import asdict, dataclass, replace
from datetime import date
from functools import cache
from pathlib import Path

import numpy as np
import numpy.typing as npt
from django.conf import settings

from vinter.core import sky
from vinter.core.sky.alternatives import Alternative, alternatives
from vinter.core.sky.ephemeris import check_year
from vinter.core.sky.nights import Night
from vinter.core.sky.ranking import judged
from vinter.core.sky.site import Site
from vinter.core.sky.targets import Target
from vinter.core.sky.thresholds import Thresholds
from vinter.core.sky.verdict import Verdict
from vinter.core.stage_cache import StageCache, key_of, prune
from vinter.web.byte_cache import ByteCache, Sized, bytes_of
from vinter.web.compute import PAGE_SECONDS, remembered
from vinter.web.nights.drawing import PAPER, tones

JudgedNights = list[tuple[Night, Verdict]]
YEARS = ByteCache(settings.PLANNING_CACHE_BYTES)
ON_DISK = StageCache(settings.HOME / "cache" / "years")
JUDGES = Path(sky.__file__).parent  # the code that what is kept follows from
FIRST_HOUR, LAST_HOUR = 4, 21  # hours after local noon at the season sheet's edges: 16:00 to 09:00
BIN = 300.0  # s of the sheet's samples


@dataclass(frozen=True, kw_only=True)
class JudgedYear(Sized):
    """A calendar year at a site: its nights with their verdicts, without their tracks (which a page that
    shows one computes anew), and their tones for the season sheet (nights, samples, 3)."""

    judged: JudgedNights
    tones: npt.NDArray[np.uint8]


def year_span(year: int) -> tuple[date, date]:
    """First and last day of a calendar year; BadInput for one that is not covered."""
    check_year(year)
    return date(year, 1, 1), date(year, 12, 31)


def _tones_of(night: Night, limits: Thresholds) -> npt.NDArray[np.uint8]:
    """Tones of one night in five-minute bins, paper where the Sun is up."""
    row = np.tile(np.array(PAPER, np.uint8), (round((LAST_HOUR - FIRST_HOUR) * 3600 / BIN), 1))
    bins = np.floor((night.strip.t - night.start - FIRST_HOUR * 3600) / BIN).astype(int)
    inside = (bins >= 0) & (bins < len(row))
    if inside.any():
        row[bins[inside]] = tones(night.strip, limits.min_altitude)[inside]
    return row


def compute_year(site: Site, year: int, what: Target, limits: Thresholds) -> JudgedYear:
    """A calendar year, judged; for a process of the pool."""
    found = judged(site, *year_span(year), limits, what)
    sheet = np.stack([_tones_of(night, limits) for night, _ in found])
    without = found[0][0].strip.take(np.empty(0, np.intp))
    light = [(replace(n, strip=without, what=what), v) for n, v in found]
    return JudgedYear(judged=light, tones=sheet, known_bytes=bytes_of(light) + sheet.nbytes)


@cache
def _code() -> str:
    """What tells one state of the judging code from another."""
    out = hashlib.sha256()
    for path in sorted(JUDGES.rglob("*.py")):
        out.update(path.read_bytes())
    return out.hexdigest()


def _name(site: Site, year: int, what: Target, limits: Thresholds) -> str:
    return key_of("year", asdict(site), year, what.key, asdict(limits), _code())


def compute_and_keep(site: Site, year: int, what: Target, limits: Thresholds) -> JudgedYear:
    """A calendar year, judged and kept on disk; for a process of the pool."""
    found = compute_year(site, year, what, limits)
    with suppress(OSError):  # a full disk keeps nothing; the answer is there
        ON_DISK.keep(_name(site, year, what, limits), found)
    return found


def judged_year(
    site: Site, year: int, what: Target, limits: Thresholds, seconds: float = PAGE_SECONDS
) -> JudgedYear:
    """A calendar year, computed once however many ask, or found in memory or on disk. StillComputing when it
    takes longer than may be waited."""
    check_year(year)
    key = ("year", site, year, what.key, limits)
    if YEARS.peek(key) is None:
        kept = ON_DISK.found(_name(site, year, what, limits))
        if isinstance(kept, JudgedYear):
            YEARS.put(key, kept)
    return remembered(YEARS, key, compute_and_keep, site, year, what, limits, seconds=seconds)


def instead_of(site: Site, day: date, limits: Thresholds, what: Target) -> list[Alternative]:
    """What else a night is good for, worked out where years are; StillComputing when a page would wait too
    long for it."""
    key = ("instead", site, day, limits, what.key)
    return remembered(YEARS, key, alternatives, site, day, limits, what)


def forget_old_years() -> int:
    """Keep on disk no more than the setting allows, the oldest thrown away; bytes freed."""
    return prune([ON_DISK.folder], settings.PLANNING_DISK_BYTES)


def judged_nights(site: Site, first: date, last: date, what: Target, limits: Thresholds) -> JudgedNights:
    """The nights from ``first`` to ``last``, both included, each with its verdict."""
    years = range(first.year, last.year + 1)
    return [
        (n, v)
        for year in years
        for n, v in judged_year(site, year, what, limits).judged
        if first <= n.day <= last
    ]
