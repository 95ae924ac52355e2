"""Passes of a space station over a site: elements the user brings, or a made-up set; listed for a night."""

import time
from datetime import date

from django.contrib.auth.models import User
from django.http import HttpRequest, HttpResponse
from django.shortcuts import redirect, render
from django.urls import reverse
from django.views.decorators.http import require_POST
from skyfield.api import EarthSatellite

from vinter.core.sky.nights import Night, evening_of
from vinter.core.sky.nights import nights as compute
from vinter.core.sky.satellites import Pass, age_at, made_up, passes, read_elements
from vinter.core.sky.site import Site as CoreSite
from vinter.web.forms import read_day
from vinter.web.owned import owned, person
from vinter.web.satellites.models import Elements
from vinter.web.sites.models import Site
from vinter.web.uploads import one_file
from vinter.web.workflow import head


def _satellites(user: User, day: date) -> tuple[list[EarthSatellite], str]:
    """Satellites of the user's newest elements, else the made-up station, and where they come from."""
    own = Elements.objects.filter(owner=user).first()
    if own is not None:
        return read_elements(own.text.encode(), own.name), own.name
    return read_elements(made_up(day), "made-up.json"), ""


def next_pass(user: User, site: CoreSite, night: Night, moment: float) -> Pass | None:
    """The first pass of a night from a moment on, or the last one before it."""
    found = passes(site, _satellites(user, night.day)[0], night.start, night.end)
    later = [p for p in found if p.end >= moment - 60]
    return later[0] if later else found[-1] if found else None


def station(request: HttpRequest, pk: int) -> HttpResponse:
    """The passes of a night."""
    site = owned(Site, request, pk)
    day = read_day(request.GET["day"]) if request.GET.get("day") else evening_of(site.core(), time.time())
    night = compute(site.core(), day, day)[0]
    satellites, source = _satellites(person(request), day)
    return render(
        request,
        "satellites/passes.html",
        {
            "site": site,
            "day": day,
            "source": source,
            "age": age_at(satellites, night.start).words if source else "",
            "passes": passes(site.core(), satellites, night.start, night.end),
            **head("Shot", site=site, day=day),
        },
    )


@require_POST
def import_elements(request: HttpRequest, pk: int) -> HttpResponse:
    """Take orbital elements from a file, in place of those before."""
    owned(Site, request, pk)
    file = one_file(request, "a file of orbital elements (two-line or OMM)")
    name, data = file.name or "", file.read()
    read_elements(data, name)
    Elements.objects.filter(owner=person(request)).delete()
    Elements.objects.create(owner=person(request), name=name[:120], text=data.decode("utf-8-sig"))
    day = read_day(request.POST.get("day", ""))
    return redirect(f"{reverse('station', args=[pk])}?day={day}")
