"""Passes of a space station over a site: elements the user brings, or a made-up set; listed for a night."""

from datetime import date
from typing import Any

from django.http import HttpRequest, HttpResponse
from django.shortcuts import redirect, render
from django.views.decorators.http import require_POST

from vinter.core.errors import BadInput
from vinter.core.sky.nights import Night
from vinter.core.sky.nights import nights as compute
from vinter.core.sky.satellites import Pass, made_up, passes, read_elements
from vinter.core.sky.site import Site as CoreSite
from vinter.web.owned import owned
from vinter.web.shots.models import Elements
from vinter.web.sites.models import Site
from vinter.web.workflow import head

LARGEST = 2**20


def _satellites(user: Any, day: date) -> tuple[list[Any], str]:
    """Satellites of the user's newest elements, else the made-up station, and where they come from."""
    kept = Elements.objects.filter(owner=user).first()
    if kept is not None:
        return read_elements(kept.text.encode(), kept.name), kept.name
    return read_elements(made_up(day), "made-up.json"), ""


def next_pass(user: Any, site: CoreSite, night: Night, moment: float) -> Pass | None:
    """The first pass of a night from a moment on, or the last one before it."""
    found = passes(site, _satellites(user, night.day)[0], night.start, night.end)
    later = [p for p in found if p.end >= moment - 60]
    return later[0] if later else found[-1] if found else None


def station(request: HttpRequest, pk: int) -> HttpResponse:
    """The passes of a night."""
    site = owned(Site, request, pk)
    try:
        day = date.fromisoformat(request.GET.get("day", ""))
    except ValueError as error:
        raise BadInput(f"{request.GET.get('day', '')!r} is not a date like 2027-06-09") from error
    night = compute(site.core(), day, day)[0]
    satellites, source = _satellites(request.user, day)
    return render(
        request,
        "shots/station.html",
        {
            "site": site,
            "day": day,
            "source": source,
            "passes": passes(site.core(), satellites, night.start, night.end),
            **head("Shot", site=site, day=day),
        },
    )


@require_POST
def bring(request: HttpRequest, pk: int) -> HttpResponse:
    """Take orbital elements from a file, in place of those before."""
    owned(Site, request, pk)
    file = request.FILES.get("file")
    if file is None or not file.name or not file.size or file.size > LARGEST:
        raise BadInput(
            "a file of orbital elements (two-line or OMM) under 1 MB is wanted; what was there stays"
        )
    data = file.read()
    read_elements(data, file.name)
    Elements.objects.filter(owner=request.user).delete()
    Elements.objects.create(owner=request.user, name=file.name[:120], text=data.decode("utf-8-sig"))
    return redirect(f"/sites/{pk}/station/?day={request.POST.get('day', '')}")
