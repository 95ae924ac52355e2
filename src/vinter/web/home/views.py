"""The home page."""

from django.contrib.auth.decorators import login_not_required
from django.http import HttpRequest, HttpResponse, JsonResponse
from django.shortcuts import redirect, render
from django.views.decorators.http import require_safe

from vinter.core.sky.nights import nights
from vinter.web.finish.models import Finish
from vinter.web.forecast.chances import Chances
from vinter.web.gear.models import Phone
from vinter.web.home.glossary import GLOSSARY
from vinter.web.jobs.models import Job
from vinter.web.ledger.looking_back import site_record
from vinter.web.nights.drawing import draw
from vinter.web.nights.outlook import ahead
from vinter.web.nights.query import plan_query
from vinter.web.owned import person
from vinter.web.shots.models import Shot
from vinter.web.sites.models import Site
from vinter.web.stacks.models import Stack
from vinter.web.takes.models import Take
from vinter.web.watch import healthy
from vinter.web.workflow import head

STEPS = (
    ("A site", "Where do you want to shoot?", "begin"),
    ("A phone", "Which phone is it?", "gear"),
    ("A shot", "Open a night and plan one.", "next-night"),
    ("Frames", "Bring your own, or let the simulated phone shoot.", "takes"),
    ("A stack", "Less noise from many frames.", "takes"),
    ("A finished picture", "Level, white, glow, stars.", "stacks"),
)


def _steps_left(request: HttpRequest) -> list[tuple[str, str, str]]:
    """What has not been done once, in order; none once all was."""
    user = person(request)
    done = (
        Site.objects.filter(owner=user).exists(),
        Phone.objects.filter(owner=user).exists(),
        Shot.objects.filter(owner=user).exists(),
        Take.objects.filter(owner=user).exists(),
        Stack.objects.filter(owner=user).exists(),
        Finish.objects.filter(owner=user).exists(),
    )
    return [(name, words, address) for (name, words, address), ok in zip(STEPS, done, strict=True) if not ok]


def guide(request: HttpRequest) -> HttpResponse:
    """The work step by step, and the words of the field."""
    return render(request, "home/guide.html", {"words": GLOSSARY, **head("", context="Guide")})


def home(request: HttpRequest) -> HttpResponse:
    """The next good window of the first site and why, and the work under way."""
    site = Site.objects.filter(owner=person(request)).first()
    if site is None:
        return redirect("begin")
    query = plan_query(request)
    found = ahead(site, query)
    night = found.next_night
    if night is not None:  # with its track, for the strip
        night = nights(site.core(), night.day, night.day, query.limits, query.what)[0]
    strip = draw(site.core(), night, 860, 150, min_altitude=query.limits.min_altitude) if night else None
    chances = Chances(site)
    chance = chances.outlook(night) if night else None
    record = site_record(site) if chance else None
    record = record if record and record.significant else None
    likely = record.corrected(chance.chance) if record and chance else chance.chance if chance else None
    recent = Shot.objects.filter(owner=person(request)).select_related("site")[:4]
    others = Site.objects.filter(owner=person(request)).exclude(pk=site.pk)
    return render(
        request,
        "home/home.html",
        {
            "site": site,
            "ahead": found,
            "strip": strip,
            "chance": chance,
            "record": record,
            "likely": likely,
            "chance_of": {run.night.day: chances.chance(run.night) for run in found.runs},
            "recent": recent,
            "others": others,
            "steps_left": _steps_left(request),
            "under_way": Job.objects.filter(owner=person(request), state__in=(Job.QUEUED, Job.RUNNING))[:4],
            "pictures": Finish.objects.filter(owner=person(request)).select_related("stack__take")[:4],
            **head("", context=f"{site.name} · {site.tz}"),
        },
    )


@login_not_required
@require_safe
def health(request: HttpRequest) -> JsonResponse:
    """For a watcher: 200 while the database answers, there is space and the worker runs, else
    503."""
    well = healthy()
    return JsonResponse({"ok": well}, status=200 if well else 503)
