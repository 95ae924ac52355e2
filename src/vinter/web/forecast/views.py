"""The forecast of a site: read again, imported from a file, and what it says of a night."""

import time
from datetime import timedelta

from django.conf import settings
from django.http import HttpRequest, HttpResponse
from django.shortcuts import redirect, render
from django.utils import timezone
from django.views.decorators.http import require_POST

from vinter.core.errors import BadInput
from vinter.core.forecast import USEFUL_DAYS, by_night, outlook, read_csv, state, write_csv
from vinter.web.forecast.forms import SpanForm
from vinter.web.forecast.models import CachedForecast
from vinter.web.forecast.provider import ForecastFailed, provider
from vinter.web.forms import checked
from vinter.web.owned import owned
from vinter.web.sites.models import Site
from vinter.web.uploads import good_of, one_file
from vinter.web.workflow import head

ASK_AGAIN = timedelta(hours=1)
HABITS = (("", "on time"), ("late", "too late"), ("fail", "failing"), ("stale", "two days old"))


def read_again(request: HttpRequest, site: Site) -> CachedForecast:
    """Ask the service; a failure is noted and what was known stays."""
    cached, _ = CachedForecast.objects.get_or_create(site=site)
    source = provider(request.session.get("forecast_habit", "") if settings.DEMO else "")
    if source is None:
        return cached
    try:
        cached.store(source.fetch(site.lat, site.lon))
    except ForecastFailed as error:
        cached.fail(str(error))
    return cached


def current(request: HttpRequest, site: Site) -> CachedForecast:
    """What is known, asked for again when the last asking lies back an hour; a file the user imported is not
    replaced."""
    cached = CachedForecast.objects.filter(site=site).first()
    if cached is None or (
        not cached.source.startswith("file")
        and (cached.asked is None or timezone.now() - cached.asked > ASK_AGAIN)
    ):
        return read_again(request, site)
    return cached


def panel(request: HttpRequest, pk: int) -> HttpResponse:
    """What the forecast says of a span of a night (loaded after the night page itself)."""
    site = owned(Site, request, pk)
    span = checked(SpanForm(request.GET)).cleaned_data
    start, end, now = span["start"], span["end"], time.time()
    near = now - 86400 <= start <= now + USEFUL_DAYS * 86400
    cached = current(request, site) if near else CachedForecast.objects.filter(site=site).first()
    forecast = cached.core() if cached else None
    found = outlook(forecast, start, end, now) if forecast else None
    return render(
        request,
        "forecast/panel.html",
        {
            "site": site,
            "cached": cached,
            "found": found,
            "state": state(forecast, start, now),
            "forecast": forecast,
            "start": start,
        },
    )


def forecast(request: HttpRequest, pk: int) -> HttpResponse:
    """The forecast of a site, night by night."""
    site = owned(Site, request, pk)
    cached = current(request, site)
    known = cached.core()
    return render(
        request,
        "forecast/forecast.html",
        {
            "site": site,
            "cached": cached,
            "nights": by_night(known, site.core()) if known else [],
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
def import_forecast(request: HttpRequest, pk: int) -> HttpResponse:
    """Take a forecast from an hourly CSV file."""
    site = owned(Site, request, pk)
    file = one_file(request, "an hourly forecast as CSV")
    name = file.name or ""
    try:
        text = file.read().decode("utf-8-sig")
    except UnicodeDecodeError as error:
        raise BadInput(f"{name}: not a text file; nothing was changed") from error
    found = good_of(request, read_csv(text, name, time.time()))
    cached, _ = CachedForecast.objects.get_or_create(site=site)
    cached.store(found)
    return redirect("forecast", site.pk)


def export_forecast(request: HttpRequest, pk: int) -> HttpResponse:
    """The hours as CSV, which can be imported again."""
    site = owned(Site, request, pk)
    cached = CachedForecast.objects.filter(site=site).first()
    known = cached.core() if cached else None
    return HttpResponse(
        write_csv(known.hours if known else ()),
        content_type="text/csv; charset=utf-8",
        headers={"Content-Disposition": 'attachment; filename="forecast.csv"'},
    )
