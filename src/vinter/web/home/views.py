"""The home page."""

from django.http import HttpRequest, HttpResponse
from django.shortcuts import redirect, render

from vinter.core.sky.nights import nights
from vinter.web.forecast.chances import Chances
from vinter.web.nights.drawing import draw
from vinter.web.nights.outlook import ahead
from vinter.web.nights.query import plan_query
from vinter.web.shots.models import Shot
from vinter.web.sites.models import Site
from vinter.web.workflow import head


def home(request: HttpRequest) -> HttpResponse:
    """The next good window of the first site and why, and the work under way."""
    site = Site.objects.filter(owner=request.user).first()
    if site is None:
        return redirect("site-new")
    query = plan_query(request)
    found = ahead(site, query)
    night = found.next_night
    if night is not None:  # with its track, for the strip
        night = nights(site.core(), night.day, night.day, query.limits, query.what)[0]
    strip = draw(site.core(), night, 860, 150, min_altitude=query.limits.min_altitude) if night else None
    chances = Chances(site)
    chance = chances.outlook(night) if night else None
    recent = Shot.objects.filter(owner=request.user).select_related("site")[:4]
    others = Site.objects.filter(owner=request.user).exclude(pk=site.pk)
    return render(
        request,
        "home/home.html",
        {
            "site": site,
            "ahead": found,
            "strip": strip,
            "chance": chance,
            "expected": found.verdict.score * chance.chance if chance and found.verdict else None,
            "chance_of": {run.night.day: chances.chance(run.night) for run in found.runs},
            "recent": recent,
            "others": others,
            **head("", context=f"{site.name} · {site.tz}"),
        },
    )
