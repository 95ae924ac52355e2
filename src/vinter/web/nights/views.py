"""The season sheet, the best nights and the night page."""

import time
from datetime import datetime, timedelta
from urllib.parse import urlencode

from django.http import HttpRequest, HttpResponse, JsonResponse
from django.shortcuts import redirect, render
from django.urls import reverse
from django.utils.http import url_has_allowed_host_and_scheme

from vinter.core.field.departure import leave_by
from vinter.core.formats.tables import nights_csv, nights_ics
from vinter.core.ground.drive import Drive
from vinter.core.sky.hourly import hours
from vinter.core.sky.nights import Night
from vinter.core.sky.nights import nights as compute
from vinter.core.sky.ranking import MOST_OF_A_LUNATION, best_nights, hours_worth
from vinter.core.sky.target_track import arch
from vinter.core.sky.targets import CORE
from vinter.core.sky.thresholds import MOON_SCHOOLS
from vinter.core.sky.verdict import judge
from vinter.web.forecast.chances import Chances
from vinter.web.forms import checked, read_day, row_number
from vinter.web.nights.almanac import almanac, almanac_if_known
from vinter.web.nights.dome import dome
from vinter.web.nights.drawing import draw, reading
from vinter.web.nights.forms import WEEKDAYS, CursorForm, DriveForm, MinuteForm, PreferencesForm
from vinter.web.nights.models import preferences_of
from vinter.web.nights.outlook import ahead, today
from vinter.web.nights.query import PlanQuery, plan_query
from vinter.web.nights.season import Season, marks_of, season
from vinter.web.nights.years import instead_of, judged_nights, year_span
from vinter.web.owned import owned, person
from vinter.web.sites.models import Site
from vinter.web.workflow import head


def _first_site(request: HttpRequest) -> Site | None:
    sites = Site.objects.filter(owner=person(request))
    wanted = row_number(request.GET.get("site", ""))
    return (sites if wanted is None else sites.filter(pk=wanted)).first()


def _context(query: PlanQuery, site: Site) -> str:
    name = "core of the galaxy" if query.what.key == CORE.key else query.what.name
    return f"{site.name} · {name} · {site.tz}"


def _filters(query: PlanQuery) -> dict[str, object]:
    """What the form of filters shows."""
    given = query.given
    return {
        "query": query,
        "weekdays": [(i, name, i in query.night_filter.weekdays) for i, name in enumerate(WEEKDAYS)],
        "schools": MOON_SCHOOLS.items(),
        "hours": {k: given.get(k, "") for k in ("earliest", "latest", "minutes", "school")},
    }


def _sheet(site: Site, year: int, query: PlanQuery) -> Season:
    return season(site.core(), year, query)


def season_sheet(request: HttpRequest, pk: int, year: int) -> HttpResponse:
    """A year of strips at a site with the best evening of every lunation."""
    site, query = owned(Site, request, pk), plan_query(request)
    others = Site.objects.filter(owner=person(request)).exclude(pk=site.pk)
    return render(
        request,
        "nights/season.html",
        {
            "site": site,
            "sheet": _sheet(site, year, query),
            "marks": marks_of(almanac_if_known(site.core(), year), year),
            "others": others,
            "before": year - 1,
            "after": year + 1,
            **_filters(query),
            **head("Season", site=site, context=_context(query, site)),
        },
    )


def almanac_page(request: HttpRequest, pk: int, year: int) -> HttpResponse:
    """Showers, eclipses, meetings and what else happens in a year at a site."""
    site = owned(Site, request, pk)
    return render(
        request,
        "nights/almanac.html",
        {
            "site": site,
            "year": year,
            "before": year - 1,
            "after": year + 1,
            "events": almanac(site.core(), year),
            **head("Season", site=site, context=site.name),
        },
    )


def season_picture(request: HttpRequest, pk: int, year: int) -> HttpResponse:
    """The sheet as PNG."""
    site = owned(Site, request, pk)
    return HttpResponse(
        _sheet(site, year, plan_query(request)).png,
        content_type="image/png",
        headers={"Cache-Control": "private, max-age=60"},
    )


def season_minute(request: HttpRequest, pk: int) -> JsonResponse:
    """What stands in the sky at one minute, for whoever points at the sheet."""
    site, query = owned(Site, request, pk), plan_query(request)
    return JsonResponse(reading(site.core(), checked(MinuteForm(request.GET)).cleaned_data["t"], query.what))


def season_table(request: HttpRequest, pk: int, year: int) -> HttpResponse:
    """The year's nights as CSV, those that meet the filters."""
    site, query = owned(Site, request, pk), plan_query(request)
    found = judged_nights(site.core(), *year_span(year), query.what, query.limits)
    chosen = [(n, v) for n, v in found if query.night_filter.suits(n, v)]
    return HttpResponse(
        nights_csv([n for n, _ in chosen], [v for _, v in chosen]),
        content_type="text/csv; charset=utf-8",
        headers={"Content-Disposition": f'attachment; filename="vinter-{year}.csv"'},
    )


def first_season(request: HttpRequest) -> HttpResponse:
    """The season sheet of the year in which the next good window falls, at the first site."""
    site = _first_site(request)
    if site is None:
        return redirect("begin")
    found = ahead(site, plan_query(request)).next_night
    return redirect("season", site.pk, (found.day if found else today(site)).year)


def _reachable(sites: list[Site], limit: float) -> list[tuple[Site, Drive]]:
    """Sites within a drive in minutes, with the drive; those of unknown drive are kept."""
    home_site = next((s for s in sites if s.home), None)
    rows = [(s, s.drive_from(home_site)) for s in sites]
    return [(s, d) for s, d in rows if not d.far and (d.minutes is None or d.minutes <= limit)]


def best(request: HttpRequest) -> HttpResponse:
    """The best ten nights over all sites within the driving limit, and their sheets side by side."""
    query = plan_query(request)
    limit = checked(DriveForm(request.GET)).cleaned_data["drive"]
    limit = preferences_of(person(request)).drive_limit if limit is None else limit
    sites = list(Site.objects.filter(owner=person(request)).prefetch_related("reading_set"))
    rows = _reachable(sites, limit)
    found = [(s.core(), ahead(s, query).judged) for s, _ in rows]
    chances = [Chances(s) for s, _ in rows]
    every = bool(request.GET.get("every"))
    best_ten = best_nights(
        found,
        10,
        query.night_filter,
        None if every else MOST_OF_A_LUNATION,
        lambda site, n: chances[site].chance(n),
    )
    top = max((n for _, of_it in found for n, _ in of_it), key=lambda n: n.equivalent, default=None)
    whose = next(
        (s for (s, _), (_, of_it) in zip(rows, found, strict=True) if any(n is top for n, _ in of_it)), None
    )
    chosen = [(c, hours_worth(c.night, top), *rows[c.site]) for c in best_ten if top]
    year = (chosen[0][0].night.day if chosen else datetime.now().date()).year
    return render(
        request,
        "nights/best.html",
        {
            "chosen": chosen,
            "reference": whose,
            "every": every,
            "rows": rows,
            "limit": limit,
            "year": year,
            "sheets": [(s, _sheet(s, year, query)) for s in sites],
            **_filters(query),
            **head("Season"),
        },
    )


def next_night(request: HttpRequest) -> HttpResponse:
    """The night page of the next good window at the first site, or the given one."""
    site = _first_site(request)
    if site is None:
        return redirect("begin")
    found = ahead(site, plan_query(request)).next_night
    address = reverse("night", args=[site.pk, (found.day if found else today(site)).isoformat()])
    wanted = request.GET.get("target", "")
    return redirect(f"{address}?{urlencode({'target': wanted})}" if wanted else address)


def _cursor(request: HttpRequest, night: Night) -> float | None:
    """Unix time of the cursor: from the address when it lies in the night, else the best minute."""
    wanted = checked(CursorForm(request.GET)).cleaned_data["t"]
    if wanted is not None and night.start <= wanted <= night.end:
        return float(wanted)
    return night.best.best.t if night.best else None


def _one(site: Site, day: str, query: PlanQuery) -> Night:
    when = read_day(day)
    return compute(site.core(), when, when, query.limits, query.what)[0]


def night(request: HttpRequest, pk: int, day: str) -> HttpResponse:
    """One night: strip, costs, figures, schools, events, dome."""
    site, query = owned(Site, request, pk), plan_query(request)
    core, one = site.core(), _one(site, day, query)
    strip = draw(core, one, min_altitude=query.limits.min_altitude)
    at = _cursor(request, one)
    now = min(strip.samples, key=lambda s: abs(s["t"] - at)) if strip and at is not None else None
    span = (one.best.start, one.best.end) if one.best else (one.start + 8 * 3600, one.end - 8 * 3600)
    return render(
        request,
        "nights/night.html",
        {
            "site": site,
            "night": one,
            "verdict": judge(core, one, query.limits),
            "instead": [] if one.usable >= 1 else instead_of(core, one.day, query.limits, one.what),
            "strip": strip,
            "at": at,
            "now": now,
            "limits": query.limits,
            "query": query,
            "dome": dome(core, one),
            "arch": arch(core, at) if at is not None else None,
            "before": one.day - timedelta(days=1),
            "after": one.day + timedelta(days=1),
            "span": span,
            "past": one.end < time.time(),
            "shots": site.shot_set.filter(night=one.day),
            **head("Night", site=site, day=one.day, context=_context(query, site)),
        },
    )


def night_hours(request: HttpRequest, pk: int, day: str) -> HttpResponse:
    """What to shoot hour by hour (loaded after the night page itself)."""
    site, query = owned(Site, request, pk), plan_query(request)
    one = _one(site, day, query)
    return render(
        request,
        "nights/hours.html",
        {"site": site, "night": one, "hours": hours(site.core(), one, query.limits)},
    )


def night_calendar(request: HttpRequest, pk: int, day: str) -> HttpResponse:
    """The windows of a night as an iCalendar file."""
    site, query = owned(Site, request, pk), plan_query(request)
    one = _one(site, day, query)
    return _calendar(site, [one], query, f"vinter-{one.day}.ics", every_window=True)


def _calendar(
    site: Site, found: list[Night], query: PlanQuery, name: str, every_window: bool = False
) -> HttpResponse:
    core = site.core()
    said = (("", site.cautions), ("Access: ", site.access), ("Permission: ", site.permission))
    notes = [label + text for label, text in said if text]
    verdicts = [judge(core, n, query.limits) for n in found]
    text = nights_ics(core, found, verdicts, notes, every_window)
    return HttpResponse(
        text,
        content_type="text/calendar; charset=utf-8",
        headers={"Content-Disposition": f'attachment; filename="{name}"'},
    )


def season_calendar(request: HttpRequest, pk: int, year: int) -> HttpResponse:
    """The best evening of every lunation of a year as an iCalendar file."""
    site, query = owned(Site, request, pk), plan_query(request)
    found = sorted((run.night for run in _sheet(site, year, query).best), key=lambda n: n.day)
    return _calendar(site, found, query, f"vinter-{year}.ics")


def night_plan(request: HttpRequest, pk: int, day: str) -> HttpResponse:
    """A plan of one page to print: the night, the way there, the cautions."""
    site, query = owned(Site, request, pk), plan_query(request)
    core, one = site.core(), _one(site, day, query)
    home_site = Site.objects.filter(owner=person(request), home=True).first()
    drive = site.drive_from(home_site)
    return render(
        request,
        "nights/plan.html",
        {
            "site": site,
            "night": one,
            "verdict": judge(core, one, query.limits),
            "query": query,
            "limits": query.limits,
            "strip": draw(core, one, 860, 120, min_altitude=query.limits.min_altitude),
            "drive": drive,
            "leave_at": leave_by(one.best.start, drive.minutes) if one.best and drive.minutes else None,
            "hours": hours(core, one, query.limits),
            "lights": site.straylight_set.all(),
            "shots": site.shot_set.filter(night=one.day),
            **head("Night", site=site, day=one.day),
        },
    )


def go_to_night(request: HttpRequest, pk: int) -> HttpResponse:
    """From the date field to its night."""
    owned(Site, request, pk)
    query = plan_query(request).query
    return redirect(
        reverse("night", args=[pk, read_day(request.GET.get("day", "")).isoformat()])
        + (f"?{query}" if query else "")
    )


def preferences(request: HttpRequest) -> HttpResponse:
    """The thresholds of verdict and schools, which are the user's to move."""
    form = PreferencesForm(preferences_of(person(request)), request.POST or None)
    if request.method == "POST" and form.is_valid():
        form.save()
        back = request.POST.get("next", "")
        return redirect(back if url_has_allowed_host_and_scheme(back, None) else "home")
    return render(
        request,
        "nights/preferences.html",
        {"form": form, "next": request.GET.get("next", ""), **head("Season")},
    )
