"""The home page and the night page."""

from datetime import date, datetime, timedelta

from django.http import HttpRequest, HttpResponse
from django.shortcuts import redirect, render
from django.urls import reverse

from vinter.core.errors import BadInput
from vinter.core.formats.tables import nights_ics
from vinter.core.sky.nights import Night, Thresholds
from vinter.core.sky.nights import nights as compute
from vinter.core.sky.track import arch
from vinter.core.sky.verdict import judge
from vinter.web.chain import head
from vinter.web.nights.dome import dome
from vinter.web.nights.drawing import draw
from vinter.web.nights.outlook import outlook
from vinter.web.nights.season import season
from vinter.web.owned import owned
from vinter.web.shots.models import Shot
from vinter.web.sites.models import Site


def home(request: HttpRequest) -> HttpResponse:
    """The next good window of the first site and why, and the work under way."""
    site = Site.objects.filter(owner=request.user).first()
    if site is None:
        return redirect("site-new")
    ahead = outlook(site.core(), datetime.now(site.core().zone).date())
    strip = draw(site.core(), ahead.next_night, 860, 150) if ahead.next_night else None
    recent = Shot.objects.filter(owner=request.user).select_related("site")[:4]
    others = Site.objects.filter(owner=request.user).exclude(pk=site.pk)
    return render(request, "nights/home.html", {"site": site, "ahead": ahead, "strip": strip, "recent": recent, "others": others,
                                                **head("", site=site)})


def season_sheet(request: HttpRequest, pk: int, year: int) -> HttpResponse:
    """A year of strips at a site with the best evening of every lunation."""
    site = owned(Site, request, pk)
    sheet = season(site.core(), year)
    others = Site.objects.filter(owner=request.user).exclude(pk=site.pk)
    return render(request, "nights/season.html", {"site": site, "sheet": sheet, "others": others, "before": year - 1, "after": year + 1,
                                                  **head("Season", site=site, context=f"{site.name} · core of the galaxy · {site.tz}")})


def season_picture(request: HttpRequest, pk: int, year: int) -> HttpResponse:
    """The sheet as PNG."""
    site = owned(Site, request, pk)
    return HttpResponse(season(site.core(), year).png, content_type="image/png", headers={"Cache-Control": "private, max-age=600"})


def first_season(request: HttpRequest) -> HttpResponse:
    """The season sheet of the year in which the next good window falls, at the first site."""
    site = Site.objects.filter(owner=request.user).first()
    if site is None:
        return redirect("site-new")
    today = datetime.now(site.core().zone).date()
    ahead = outlook(site.core(), today).next_night
    return redirect("season", site.pk, (ahead.day if ahead else today).year)


def next_night(request: HttpRequest) -> HttpResponse:
    """The night page of the next good window at the first site, or the given one."""
    sites = Site.objects.filter(owner=request.user)
    site = (sites.filter(pk=request.GET["site"]) if request.GET.get("site", "").isdigit() else sites).first()
    if site is None:
        return redirect("site-new")
    today = datetime.now(site.core().zone).date()
    ahead = outlook(site.core(), today)
    return redirect("night", site.pk, (ahead.next_night.day if ahead.next_night else today).isoformat())


def _day(text: str) -> date:
    try:
        return date.fromisoformat(text)
    except ValueError as error:
        raise BadInput(f"{text!r} is not a date like 2027-06-09") from error


def _cursor(request: HttpRequest, night: Night) -> float | None:
    """Unix time of the cursor: from the address, else the best minute."""
    try:
        asked = float(request.GET["t"])
        if night.start <= asked <= night.end:
            return asked
    except (KeyError, ValueError):
        pass
    return night.best.best.t if night.best else None


def night(request: HttpRequest, pk: int, day: str) -> HttpResponse:
    """One night: strip, costs, figures, schools, events, dome."""
    site = owned(Site, request, pk)
    core, when, limits = site.core(), _day(day), Thresholds()
    one = compute(core, when, when, limits)[0]
    verdict = judge(core, one, limits)
    strip = draw(core, one)
    at = _cursor(request, one)
    now = min(strip.samples, key=lambda s: abs(s["t"] - at)) if strip and at is not None else None
    return render(request, "nights/night.html", {
        "site": site, "night": one, "verdict": verdict, "strip": strip, "at": at, "now": now, "limits": limits,
        "dome": dome(core, one), "arch": arch(core, at) if at is not None else None, "before": when - timedelta(days=1),
        "after": when + timedelta(days=1),
        "shots": Shot.objects.filter(owner=request.user, site=site, night=when),
        **head("Night", site=site, day=when, context=f"{site.name} · core of the galaxy · {site.tz}")})


def night_calendar(request: HttpRequest, pk: int, day: str) -> HttpResponse:
    """The windows of a night as an iCalendar file."""
    site = owned(Site, request, pk)
    when, core = _day(day), site.core()
    found = compute(core, when, when)
    text = nights_ics(core, found, [judge(core, n) for n in found])
    return HttpResponse(text, content_type="text/calendar; charset=utf-8",
                        headers={"Content-Disposition": f'attachment; filename="vinter-{when}.ics"'})


def go_to_night(request: HttpRequest, pk: int) -> HttpResponse:
    """From the date field to its night."""
    owned(Site, request, pk)
    return redirect(reverse("night", args=[pk, _day(request.GET.get("day", "")).isoformat()]))
