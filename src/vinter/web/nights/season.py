"""The season sheet: the strips of a year stacked, one row a night, as one picture."""

from dataclasses import dataclass
from datetime import date

import cv2
import numpy as np

from vinter.core.sky.almanac import Event, Kind
from vinter.core.sky.nights import Night
from vinter.core.sky.ranking import NightFilter, Run, runs
from vinter.core.sky.site import Site
from vinter.web.conventions import dated
from vinter.web.nights.drawing import PAPER
from vinter.web.nights.query import PlanQuery
from vinter.web.nights.years import FIRST_HOUR, LAST_HOUR, YEARS, JudgedYear, judged_year, year_span

WIDTH, HEIGHT = 780, 600
FADE = 0.72  # share by which nights outside the filter fade towards paper


@dataclass(frozen=True, kw_only=True)
class Season:
    """A year at a site: the sheet as PNG, and the best evening of every lunation with its bracket."""

    year: int
    png: bytes
    best: list[Run]
    brackets: list[dict[str, float]]
    months: list[tuple[float, str]]
    hours: list[tuple[float, str]]
    days: int
    left_out: int


def _y(day: date, first: date, days: int) -> float:
    return round((day - first).days / days * HEIGHT, 1)


def x_of(night: Night, unix: float) -> float:
    """Horizontal place on the sheet of a time in a night."""
    return round(
        float(np.clip(((unix - night.start) / 3600 - FIRST_HOUR) / (LAST_HOUR - FIRST_HOUR), 0, 1)) * WIDTH, 1
    )


def _picture(found: JudgedYear, night_filter: NightFilter) -> bytes:
    sheet = found.tones.astype(np.float32)
    out = np.array([not night_filter.suits(n, v) for n, v in found.judged])
    sheet[out] += (np.array(PAPER, np.float32) - sheet[out]) * FADE
    picture = cv2.resize(
        np.round(sheet).astype(np.uint8), (WIDTH * 2, HEIGHT * 2), interpolation=cv2.INTER_LINEAR
    )
    return bytes(cv2.imencode(".png", picture[..., ::-1])[1].tobytes())


def _brackets(best: list[Run], first: date, days: int) -> list[dict[str, float]]:
    out = []
    for run in best:
        window = run.night.best
        if window is not None:
            out.append(
                {
                    "x0": x_of(run.night, window.start),
                    "x1": x_of(run.night, window.end),
                    "y0": _y(run.first, first, days),
                    "y1": _y(run.last, first, days) + HEIGHT / days,
                }
            )
    return out


def marks_of(events: list[Event], year: int) -> list[tuple[float, str, str]]:
    """Events of one night as marks beside the sheet: how far down, the evening, and what it is."""
    first, last = year_span(year)
    days = (last - first).days + 1
    return [
        (round(_y(e.day, first, days) + HEIGHT / days / 2, 1), e.day.isoformat(), e.name)
        for e in events
        if e.last is None and e.kind in (Kind.SHOWER, Kind.ECLIPSE, Kind.OPPOSITION)
    ]


def season(site: Site, year: int, query: PlanQuery) -> Season:
    """A calendar year, computed and drawn, or found in memory."""
    key = ("season", site, year, query.what.key, query.limits, query.night_filter)
    return YEARS.get(key, lambda: _season(site, year, query))


def _season(site: Site, year: int, query: PlanQuery) -> Season:
    first, _ = year_span(year)
    night_filter = query.night_filter
    whole = judged_year(site, year, query.what, query.limits)
    found = whole.judged
    best, days = runs(found, night_filter), len(found)
    months = [(_y(date(year, m, 1), first, days), dated(date(year, m, 1), "M")) for m in range(1, 13)]
    hours = [
        ((h - FIRST_HOUR) / (LAST_HOUR - FIRST_HOUR) * WIDTH, f"{(12 + h) % 24:02d}")
        for h in range(FIRST_HOUR + 2, LAST_HOUR, 2)
    ]
    return Season(
        year=year,
        png=_picture(whole, night_filter),
        best=best,
        brackets=_brackets(best, first, days),
        months=months,
        hours=hours,
        days=days,
        left_out=sum(not night_filter.suits(n, v) for n, v in found),
    )
