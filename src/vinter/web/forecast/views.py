"""The forecast of a site: read again, brought as a file, and what it says of a night."""

import time
from datetime import timedelta
from typing import Any

from django.conf import settings
from django.http import HttpRequest, HttpResponse
from django.shortcuts import redirect, render
from django.utils import timezone
from django.views.decorators.http import require_POST

from vinter.core.errors import BadInput
from vinter.core.forecast import USEFUL_DAYS, outlook, read_csv, state, write_csv
from vinter.web.forecast.models import Reading
from vinter.web.forecast.provider import ForecastFailed, provider
from vinter.web.owned import owned
from vinter.web.sites.models import Site
from vinter.web.workflow import head

ASK_AGAIN = timedelta(hours=1)
LARGEST = 2**20
HABITS = (("", "on time"), ("late", "too late"), ("fail", "failing"), ("stale", "two days old"))


def read_again(request: HttpRequest, site: Site) -> Reading:
    """Ask the service; a failure is noted and what was known stays."""
    kept, _ = Reading.objects.get_or_create(site=site)
    source = provider(request.session.get("forecast_habit", "") if settings.DEMO else "")
    if source is None:
        return kept
    try:
        kept.keep(source.fetch(site.lat, site.lon))
    except ForecastFailed as error:
        kept.fail(str(error))
    return kept


def current(request: HttpRequest, site: Site) -> Reading:
    """What is known, asked for again when the last asking lies back an hour; a file the user brought is not
    replaced."""
    kept = Reading.objects.filter(site=site).first()
    if kept is None or (
        not kept.source.startswith("file") and (kept.asked is None or timezone.now() - kept.asked > ASK_AGAIN)
    ):
        return read_again(request, site)
    return kept


def _number(request: HttpRequest, name: str) -> float:
    try:
        return float(request.GET.get(name, ""))
    except ValueError as error:
        raise BadInput(f"{name}: a Unix time is wanted") from error


def panel(request: HttpRequest, pk: int) -> HttpResponse:
    """What the forecast says of a span of a night (loaded after the night page itself)."""
    site = owned(Site, request, pk)
    start, end, now = _number(request, "start"), _number(request, "end"), time.time()
    near = now - 86400 <= start <= now + USEFUL_DAYS * 86400
    kept = current(request, site) if near else Reading.objects.filter(site=site).first()
    forecast = kept.core() if kept else None
    found = outlook(forecast, start, end, now) if forecast else None
    return render(
        request,
        "forecast/panel.html",
        {
            "site": site,
            "kept": kept,
            "found": found,
            "state": state(forecast, start, now),
            "forecast": forecast,
            "start": start,
        },
    )


def _days(site: Site, kept: Reading | None) -> list[dict[str, Any]]:
    """Hours of the forecast collected by the night they belong to, those with the Sun long down first of
    all."""
    forecast = kept.core() if kept else None
    nights: dict[Any, list[Any]] = {}
    for hour in forecast.hours if forecast else ():
        local = timezone.datetime.fromtimestamp(hour.t, site.core().zone)  # type: ignore[attr-defined]
        if local.hour >= 18 or local.hour < 7:
            nights.setdefault((local - timedelta(hours=12)).date(), []).append(hour)
    return [
        {"day": day, "hours": hours, "clear": sum(h.clear for h in hours) / len(hours)}
        for day, hours in nights.items()
    ]


def forecast(request: HttpRequest, pk: int) -> HttpResponse:
    """The forecast of a site, night by night."""
    site = owned(Site, request, pk)
    kept = current(request, site)
    known = kept.core()
    return render(
        request,
        "forecast/forecast.html",
        {
            "site": site,
            "kept": kept,
            "nights": _days(site, kept),
            "age": known.age_hours(time.time()) if known else None,
            "habits": HABITS,
            "habit": request.session.get("forecast_habit", ""),
            "demo": settings.DEMO,
            **head("Night", site=site, context=f"{site.name} · {site.tz}"),
        },
    )


@require_POST
def refresh(request: HttpRequest, pk: int) -> HttpResponse:
    """Ask the service again; in the demo, first tell the stand-in how to behave."""
    site = owned(Site, request, pk)
    if "habit" in request.POST and request.POST["habit"] in dict(HABITS):
        request.session["forecast_habit"] = request.POST["habit"]
    read_again(request, site)
    return redirect("forecast", site.pk)


@require_POST
def bring(request: HttpRequest, pk: int) -> HttpResponse:
    """Take a forecast from an hourly CSV file."""
    site = owned(Site, request, pk)
    file = request.FILES.get("file")
    if file is None or not file.name:
        raise BadInput("no file came with the request")
    if not file.size or file.size > LARGEST:
        raise BadInput(f"{file.name}: empty, or larger than a forecast can be; nothing was changed")
    try:
        text = file.read().decode("utf-8-sig")
    except UnicodeDecodeError as error:
        raise BadInput(f"{file.name}: not a text file; nothing was changed") from error
    kept, _ = Reading.objects.get_or_create(site=site)
    kept.keep(read_csv(text, file.name, time.time()))
    return redirect("forecast", site.pk)


def as_csv(request: HttpRequest, pk: int) -> HttpResponse:
    """The hours as CSV, which can be brought again."""
    site = owned(Site, request, pk)
    kept = Reading.objects.filter(site=site).first()
    known = kept.core() if kept else None
    return HttpResponse(
        write_csv(known.hours if known else ()),
        content_type="text/csv; charset=utf-8",
        headers={"Content-Disposition": 'attachment; filename="forecast.csv"'},
    )
