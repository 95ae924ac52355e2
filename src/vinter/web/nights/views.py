"""The home page, the season sheet, the best nights and the night page."""

import time
from datetime import date, datetime, timedelta
from typing import Any

from django.http import HttpRequest, HttpResponse, JsonResponse
from django.shortcuts import redirect, render
from django.urls import reverse
from django.utils.http import url_has_allowed_host_and_scheme

from vinter.core.errors import BadInput
from vinter.core.formats.tables import nights_csv, nights_ics
from vinter.core.ground.drive import Drive
from vinter.core.sky.hourly import hours
from vinter.core.sky.nights import Night
from vinter.core.sky.nights import nights as compute
from vinter.core.sky.ranking import best_nights, judged
from vinter.core.sky.target_track import arch
from vinter.core.sky.targets import CORE
from vinter.core.sky.verdict import judge
from vinter.web.nights.dome import dome
from vinter.web.nights.drawing import draw, reading
from vinter.web.nights.forms import HabitsForm
from vinter.web.nights.models import habits_of
from vinter.web.nights.outlook import ahead, today
from vinter.web.nights.query import SCHOOL_NAMES, Asked, asked
from vinter.web.nights.season import Season, season
from vinter.web.owned import owned
from vinter.web.shots.models import Shot
from vinter.web.sites.models import Site
from vinter.web.workflow import head

WEEKDAYS = ("Mon", "Tue", "Wed", "Thu", "Fri", "Sat", "Sun")


def _first_site(request: HttpRequest) -> Site | None:
    sites = Site.objects.filter(owner=request.user)
    return (sites.filter(pk=request.GET["site"]) if request.GET.get("site", "").isdigit() else sites).first()


def _context(ask: Asked, site: Site) -> str:
    name = "core of the galaxy" if ask.what.key == CORE.key else ask.what.name
    return f"{site.name} · {name} · {site.tz}"


def home(request: HttpRequest) -> HttpResponse:
    """The next good window of the first site and why, and the work under way."""
    site = Site.objects.filter(owner=request.user).first()
    if site is None:
        return redirect("site-new")
    ask = asked(request)
    found = ahead(site, ask)
    night = found.next_night
    strip = draw(site.core(), night, 860, 150, min_altitude=ask.limits.min_altitude) if night else None
    recent = Shot.objects.filter(owner=request.user).select_related("site")[:4]
    others = Site.objects.filter(owner=request.user).exclude(pk=site.pk)
    return render(
        request,
        "nights/home.html",
        {
            "site": site,
            "ahead": found,
            "strip": strip,
            "recent": recent,
            "others": others,
            **head("", context=f"{site.name} · {site.tz}"),
        },
    )


def _filters(ask: Asked) -> dict[str, Any]:
    """What the form of filters shows."""
    given = ask.given
    return {
        "ask": ask,
        "weekdays": [(i, name, i in ask.wishes.weekdays) for i, name in enumerate(WEEKDAYS)],
        "schools": SCHOOL_NAMES.items(),
        "hours": {k: given.get(k, "") for k in ("earliest", "latest", "minutes", "school")},
    }


def _sheet(site: Site, year: int, ask: Asked) -> Season:
    return season(site.core(), year, ask.what, ask.limits, ask.wishes)


def season_sheet(request: HttpRequest, pk: int, year: int) -> HttpResponse:
    """A year of strips at a site with the best evening of every lunation."""
    site, ask = owned(Site, request, pk), asked(request)
    others = Site.objects.filter(owner=request.user).exclude(pk=site.pk)
    return render(
        request,
        "nights/season.html",
        {
            "site": site,
            "sheet": _sheet(site, year, ask),
            "others": others,
            "before": year - 1,
            "after": year + 1,
            **_filters(ask),
            **head("Season", site=site, context=_context(ask, site)),
        },
    )


def season_picture(request: HttpRequest, pk: int, year: int) -> HttpResponse:
    """The sheet as PNG."""
    site = owned(Site, request, pk)
    return HttpResponse(
        _sheet(site, year, asked(request)).png,
        content_type="image/png",
        headers={"Cache-Control": "private, max-age=60"},
    )


def season_minute(request: HttpRequest, pk: int) -> JsonResponse:
    """What stands in the sky at one minute, for whoever points at the sheet."""
    site, ask = owned(Site, request, pk), asked(request)
    return JsonResponse(reading(site.core(), _unix(request.GET.get("t", "")), ask.what))


def season_table(request: HttpRequest, pk: int, year: int) -> HttpResponse:
    """The year's nights as CSV, those that meet the wishes."""
    site, ask = owned(Site, request, pk), asked(request)
    found = judged(site.core(), date(year, 1, 1), date(year, 12, 31), ask.limits, ask.what)
    chosen = [(n, v) for n, v in found if ask.wishes.suits(n, v)]
    return HttpResponse(
        nights_csv([n for n, _ in chosen], [v for _, v in chosen]),
        content_type="text/csv; charset=utf-8",
        headers={"Content-Disposition": f'attachment; filename="vinter-{year}.csv"'},
    )


def first_season(request: HttpRequest) -> HttpResponse:
    """The season sheet of the year in which the next good window falls, at the first site."""
    site = _first_site(request)
    if site is None:
        return redirect("site-new")
    found = ahead(site, asked(request)).next_night
    return redirect("season", site.pk, (found.day if found else today(site)).year)


def _reachable(sites: list[Site], limit: float) -> list[tuple[Site, Drive]]:
    """Sites within a drive in minutes, with the drive; those of unknown drive are kept."""
    home_site = next((s for s in sites if s.home), None)
    rows = [(s, s.drive_from(home_site)) for s in sites]
    return [(s, d) for s, d in rows if not d.far and (d.minutes is None or d.minutes <= limit)]


def best(request: HttpRequest) -> HttpResponse:
    """The best ten nights over all sites within the driving limit, and their sheets side by side."""
    ask, habits = asked(request), habits_of(request.user)
    text = request.GET.get("drive") or f"{habits.drive_limit:g}"
    try:
        limit = float(text)
    except ValueError as error:
        raise BadInput(f"driving limit: {text!r} is not a number of minutes") from error
    sites = list(Site.objects.filter(owner=request.user).prefetch_related("reading_set"))
    rows = _reachable(sites, limit)
    found = [(s.core(), ahead(s, ask).judged) for s, _ in rows]
    chosen = [(c, *rows[c.site]) for c in best_nights(found, 10, ask.wishes)]
    year = (chosen[0][0].night.day if chosen else datetime.now().date()).year
    return render(
        request,
        "nights/best.html",
        {
            "chosen": chosen,
            "rows": rows,
            "limit": limit,
            "year": year,
            "sheets": [(s, _sheet(s, year, ask)) for s in sites],
            **_filters(ask),
            **head("Season"),
        },
    )


def next_night(request: HttpRequest) -> HttpResponse:
    """The night page of the next good window at the first site, or the given one."""
    site = _first_site(request)
    if site is None:
        return redirect("site-new")
    found = ahead(site, asked(request)).next_night
    return redirect("night", site.pk, (found.day if found else today(site)).isoformat())


def _day(text: str) -> date:
    try:
        return date.fromisoformat(text)
    except ValueError as error:
        raise BadInput(f"{text!r} is not a date like 2027-06-09") from error


def _unix(text: str) -> float:
    try:
        return float(text)
    except ValueError as error:
        raise BadInput(f"{text!r} is not a time in Unix seconds") from error


def _cursor(request: HttpRequest, night: Night) -> float | None:
    """Unix time of the cursor: from the address, else the best minute."""
    try:
        wanted = float(request.GET["t"])
        if night.start <= wanted <= night.end:
            return wanted
    except (KeyError, ValueError):
        pass
    return night.best.best.t if night.best else None


def _one(site: Site, day: str, ask: Asked) -> Night:
    when = _day(day)
    return compute(site.core(), when, when, ask.limits, ask.what)[0]


def night(request: HttpRequest, pk: int, day: str) -> HttpResponse:
    """One night: strip, costs, figures, schools, events, dome."""
    site, ask = owned(Site, request, pk), asked(request)
    core, one = site.core(), _one(site, day, ask)
    strip = draw(core, one, min_altitude=ask.limits.min_altitude)
    at = _cursor(request, one)
    now = min(strip.samples, key=lambda s: abs(s["t"] - at)) if strip and at is not None else None
    span = (one.best.start, one.best.end) if one.best else (one.start + 8 * 3600, one.end - 8 * 3600)
    return render(
        request,
        "nights/night.html",
        {
            "site": site,
            "night": one,
            "verdict": judge(core, one, ask.limits),
            "strip": strip,
            "at": at,
            "now": now,
            "limits": ask.limits,
            "ask": ask,
            "dome": dome(core, one),
            "arch": arch(core, at) if at is not None else None,
            "before": one.day - timedelta(days=1),
            "after": one.day + timedelta(days=1),
            "span": span,
            "past": one.end < time.time(),
            "shots": Shot.objects.filter(owner=request.user, site=site, night=one.day),
            **head("Night", site=site, day=one.day, context=_context(ask, site)),
        },
    )


def night_hours(request: HttpRequest, pk: int, day: str) -> HttpResponse:
    """What to shoot hour by hour (loaded after the night page itself)."""
    site, ask = owned(Site, request, pk), asked(request)
    one = _one(site, day, ask)
    return render(
        request,
        "nights/hours.html",
        {"site": site, "night": one, "hours": hours(site.core(), one, ask.limits)},
    )


def night_calendar(request: HttpRequest, pk: int, day: str) -> HttpResponse:
    """The windows of a night as an iCalendar file."""
    site, ask = owned(Site, request, pk), asked(request)
    one = _one(site, day, ask)
    return _calendar(site, [one], ask, f"vinter-{one.day}.ics")


def _calendar(site: Site, found: list[Night], ask: Asked, name: str) -> HttpResponse:
    core = site.core()
    said = (("", site.cautions), ("Access: ", site.access), ("Permission: ", site.permission))
    notes = [label + text for label, text in said if text]
    text = nights_ics(core, found, [judge(core, n, ask.limits) for n in found], notes)
    return HttpResponse(
        text,
        content_type="text/calendar; charset=utf-8",
        headers={"Content-Disposition": f'attachment; filename="{name}"'},
    )


def season_calendar(request: HttpRequest, pk: int, year: int) -> HttpResponse:
    """The best evening of every lunation of a year as an iCalendar file."""
    site, ask = owned(Site, request, pk), asked(request)
    found = sorted((run.night for run in _sheet(site, year, ask).best), key=lambda n: n.day)
    return _calendar(site, found, ask, f"vinter-{year}.ics")


def night_plan(request: HttpRequest, pk: int, day: str) -> HttpResponse:
    """A plan of one page to print: the night, the way there, the cautions."""
    site, ask = owned(Site, request, pk), asked(request)
    core, one = site.core(), _one(site, day, ask)
    home_site = Site.objects.filter(owner=request.user, home=True).first()
    return render(
        request,
        "nights/plan.html",
        {
            "site": site,
            "night": one,
            "verdict": judge(core, one, ask.limits),
            "ask": ask,
            "limits": ask.limits,
            "strip": draw(core, one, 860, 120, min_altitude=ask.limits.min_altitude),
            "drive": site.drive_from(home_site),
            "hours": hours(core, one, ask.limits),
            "lights": site.straylight_set.all(),
            "shots": Shot.objects.filter(owner=request.user, site=site, night=one.day),
            **head("Night", site=site, day=one.day),
        },
    )


def go_to_night(request: HttpRequest, pk: int) -> HttpResponse:
    """From the date field to its night."""
    owned(Site, request, pk)
    query = asked(request).query
    return redirect(
        reverse("night", args=[pk, _day(request.GET.get("day", "")).isoformat()])
        + (f"?{query}" if query else "")
    )


def habits(request: HttpRequest) -> HttpResponse:
    """The thresholds of verdict and schools, which are the user's to move."""
    own = habits_of(request.user)
    form = HabitsForm(request.POST or None, instance=own)
    if request.method == "POST" and form.is_valid():
        form.save()
        back = request.POST.get("next", "")
        return redirect(back if url_has_allowed_host_and_scheme(back, None) else "home")
    return render(
        request, "nights/habits.html", {"form": form, "next": request.GET.get("next", ""), **head("Season")}
    )
