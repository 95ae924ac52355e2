"""Looking back over a year: how far Vinter was off, and which nights were shot."""

from collections import defaultdict
from dataclasses import dataclass
from datetime import date
from typing import Any

from vinter.core.sky.targets import CORE
from vinter.web.conventions import dated
from vinter.web.ledger.records import Evening
from vinter.web.ledger.track_record import (
    ForecastNight,
    ForecastRecord,
    SkyNight,
    SkyRecord,
    forecast_record,
    sky_record,
)
from vinter.web.nights.models import preferences_of
from vinter.web.nights.years import judged_year
from vinter.web.shots.models import Shot
from vinter.web.sites.models import Site
from vinter.web.stacks.models import Stack

CAME = {"clear": 1.0, "partly": 0.5, "clouded": 0.0}
MOSTLY_KEPT = 0.8  # share of the frames from which a night that nobody judged counts as clear
WIDTH, HEIGHT, LEFT = 420, 130, 34  # of a chart, px, and where its nights begin
MOST_OFF = 0.8  # mag/arcsec^2 at the edge of the sky's chart
SHEET_WIDTH, SHEET_HEIGHT, FULL_SCORE = 1095, 46, 100.0
INK = (16, 33, 63)
PAPER = (241, 243, 242)


@dataclass(frozen=True, kw_only=True)
class Chart:
    """Nights as marks: places in px, dates in words, what to say of them; the year's first and last day."""

    marks: list[dict[str, Any]]
    months: list[tuple[float, str]]
    record: ForecastRecord | SkyRecord | None
    width: int = WIDTH
    height: int = HEIGHT
    left: int = LEFT


@dataclass(frozen=True, kw_only=True)
class YearSheet:
    """A year's nights at a site as columns of ink, and the nights that were shot."""

    site: Site
    year: int
    columns: list[dict[str, Any]]
    shot: list[dict[str, Any]]
    months: list[tuple[float, str]]
    width: int = SHEET_WIDTH
    height: int = SHEET_HEIGHT


def forecast_nights(nights: list[Evening]) -> list[ForecastNight]:
    """Nights of which a chance was said and what came is known."""
    out = []
    for night in nights:
        for entry in night.entries:
            shot, came = entry.shot, None
            if shot is None or not shot.forecast_chance:
                continue
            if shot.sky_came:
                came = CAME[shot.sky_came]
            elif entry.tally.frames and entry.tally.kept >= MOSTLY_KEPT * entry.tally.frames:
                came = 1.0
            if came is not None:
                out.append(ForecastNight(night.day, float(shot.forecast_chance["chance"]), came))
                break
    return out


def site_record(site: Site) -> ForecastRecord | None:
    """How the forecasts of a site's nights came out; None without one."""
    nights = [
        ForecastNight(shot.night, float(shot.forecast_chance["chance"]), CAME[shot.sky_came])
        for shot in Shot.objects.filter(site=site, owner=site.owner_id).exclude(sky_came="")
        if shot.forecast_chance
    ]
    return forecast_record(nights)


def sky_nights(nights: list[Evening]) -> list[SkyNight]:
    """Nights whose sky was measured by frames."""
    takes = [e.take.pk for night in nights for e in night.entries if e.take]
    of_take: dict[int, list[dict[str, Any]]] = defaultdict(list)
    for take, sky in Stack.objects.filter(take__in=takes).values_list("take_id", "report__sky"):
        if sky:
            of_take[take].append(sky)
    out = []
    for night in nights:
        skies = [sky for e in night.entries if e.take for sky in of_take[e.take.pk]]
        if skies:
            best = min(skies, key=lambda sky: sky["error"])
            out.append(SkyNight(night.day, best["planned"], best["zenith"], best["error"]))
    return out


def _span(days: list[date]) -> tuple[date, date]:
    """The calendar years that hold all days."""
    return date(min(days).year, 1, 1), date(max(days).year, 12, 31)


def _months(first: date, last: date, left: float, wide: float) -> list[tuple[float, str]]:
    total = (last - first).days
    step = 1 if total < 400 else 3 if total < 1200 else 12
    starts = [
        date(year, month, 1) for year in range(first.year, last.year + 1) for month in range(1, 13, step)
    ]
    return [
        (round(left + (d - first).days / total * wide, 1), dated(d, "M") if step < 12 else f"{d:%Y}")
        for d in starts
    ]


def forecast_chart(nights: list[ForecastNight]) -> Chart | None:
    """What was said and what came, night by night; None without a night."""
    if not nights:
        return None
    first, last = _span([n.day for n in nights])
    wide = WIDTH - LEFT - 6
    marks = [
        {
            "x": round(LEFT + (n.day - first).days / (last - first).days * wide, 1),
            "said": round(HEIGHT * (1 - n.said), 1),
            "came": round(HEIGHT * (1 - n.came), 1),
            "words": f"{dated(n.day, 'j M Y')}: {100 * n.said:.0f} % clear was said, "
            f"{100 * n.came:.0f} % came",
        }
        for n in nights
    ]
    return Chart(marks=marks, months=_months(first, last, LEFT, wide), record=forecast_record(nights))


def sky_chart(nights: list[SkyNight]) -> Chart | None:
    """By how much the measured sky was darker than planned, night by night; None without a night."""
    if not nights:
        return None
    first, last = _span([n.day for n in nights])
    wide = WIDTH - LEFT - 6

    def y(off: float) -> float:
        return round(HEIGHT * (0.5 - max(min(off, MOST_OFF), -MOST_OFF) / MOST_OFF / 2), 1)

    marks = [
        {
            "x": round(LEFT + (n.day - first).days / (last - first).days * wide, 1),
            "y": y(n.off),
            "low": y(n.off - n.error),
            "high": y(n.off + n.error),
            "words": f"{dated(n.day, 'j M Y')}: measured {n.measured:.2f} ± {n.error:.2f}, "
            f"planned {n.planned:.2f}",
        }
        for n in nights
    ]
    return Chart(marks=marks, months=_months(first, last, LEFT, wide), record=sky_record(nights))


def year_sheet(site: Site, year: int, nights: list[Evening]) -> YearSheet:
    """A calendar year at a site with the nights that were shot there marked on it."""
    limits = preferences_of(site.owner).limits()
    judged = judged_year(site.core(), year, CORE, limits).judged
    first, wide = date(year, 1, 1), SHEET_WIDTH / len(judged)
    columns = [
        {"x": round((night.day - first).days * wide, 1), "tone": _tone(verdict.score)}
        for night, verdict in judged
        if verdict.score > 1
    ]
    shot = [
        {
            "x": round(((n.day - first).days + 0.5) * wide, 1),
            "day": n.day,
            "words": f"{dated(n.day, 'j F')}: " + (f"{n.frames} frames kept" if n.frames else "planned"),
            "mark": "shot-mark" if n.frames else "planned-mark",
        }
        for n in nights
        if n.site and n.site.pk == site.pk and n.day.year == year
    ]
    months = _months(first, date(year, 12, 31), 0, SHEET_WIDTH)
    return YearSheet(site=site, year=year, columns=columns, shot=shot, months=months)


def _tone(score: float) -> str:
    share = min(score / FULL_SCORE, 1.0)
    return "#" + "".join(f"{round(p + (i - p) * share):02x}" for p, i in zip(PAPER, INK, strict=True))
