"""Sites: the list and the map, adding, changing, import and export."""

import json
from collections.abc import Callable, Sequence
from typing import Any

from django.db import transaction
from django.http import Http404, HttpRequest, HttpResponse
from django.shortcuts import get_object_or_404, redirect, render
from django.urls import reverse
from django.views.decorators.http import require_POST

from vinter.core.errors import BadInput
from vinter.core.formats.waypoints import Waypoint, csv_text, geojson_text, gpx_text, read_waypoints
from vinter.core.ground.darker import darker
from vinter.core.ground.zones import zone_at
from vinter.core.json_input import read_json
from vinter.core.sky.ephemeris import GALACTIC_CENTRE
from vinter.web.forms import checked
from vinter.web.meanwhile import Change, changes_since, opened_with
from vinter.web.owned import owned, person
from vinter.web.sites.forms import DarkerForm, ReadingForm, SiteForm, StrayLightForm
from vinter.web.sites.models import Reading, Site, StrayLight
from vinter.web.uploads import good_of, one_file
from vinter.web.workflow import head

SAME_PLACE = 0.0005  # degrees: a place imported twice is kept once
LARGEST = 4 * 2**20
EXPORTS: dict[str, tuple[Callable[[list[Waypoint]], str], str]] = {
    "gpx": (gpx_text, "application/gpx+xml"),
    "geojson": (geojson_text, "application/geo+json"),
    "csv": (csv_text, "text/csv; charset=utf-8"),
}


def sites(request: HttpRequest) -> HttpResponse:
    """All sites of the user on the map and in a list."""
    own = list(Site.objects.filter(owner=person(request)).prefetch_related("reading_set"))
    home = next((s for s in own if s.home), None)
    rows = [(site, site.shown_sky(), site.drive_from(home)) for site in own]
    marks = [
        {"name": s.name, "lat": s.lat, "lon": s.lon, "url": reverse("site", args=[s.pk]), "home": s.home}
        for s in own
    ]
    return render(
        request,
        "sites/sites.html",
        {
            "rows": rows,
            "marks": marks,
            "imported": request.GET.get("imported", ""),
            "known": request.GET.get("known", ""),
            **head("Sites"),
        },
    )


def edit(request: HttpRequest, pk: int | None = None) -> HttpResponse:
    """Add a site or change one."""
    site = owned(Site, request, pk) if pk else Site(owner=person(request))
    start = {k: request.GET[k] for k in ("lat", "lon", "name") if k in request.GET}
    form = SiteForm(instance=site, initial=start)
    changes: list[Change] = []
    opened = opened_with(form)
    if request.method == "POST" and not pk:
        form = SiteForm(request.POST, instance=site)
        if form.is_valid():
            return redirect("site", _keep(form).pk)
    elif pk and request.method == "POST":
        with transaction.atomic():
            stored = Site.objects.select_for_update().get(pk=pk)
            fresh = SiteForm(instance=stored)
            opened = opened_with(fresh)
            data, changes = changes_since(fresh, request.POST)
            form = SiteForm(data, instance=stored)
            if form.is_valid() and not changes:
                return redirect("site", _keep(form).pk)
    return render(
        request,
        "sites/edit.html",
        {
            "form": form,
            "opened_with": opened,
            "changes": changes,
            "site": site,
            "reading": ReadingForm(),
            "light": StrayLightForm(),
            "sky": site.shown_sky() if site.pk else None,
            **head("Sites", site=site if site.pk else None),
        },
        status=409 if changes else 200,
    )


def _keep(form: SiteForm) -> Site:
    """Store a site; there is one home."""
    with transaction.atomic():
        site: Site = form.save()
        if site.home:
            Site.objects.filter(owner=site.owner, home=True).exclude(pk=site.pk).update(home=False)
    return site


def _add(request: HttpRequest, pk: int, form: ReadingForm | StrayLightForm) -> HttpResponse:
    site = owned(Site, request, pk)
    checked(form)
    row = form.save(commit=False)
    row.site = site
    row.save()
    return redirect("site", site.pk)


@require_POST
def add_reading(request: HttpRequest, pk: int) -> HttpResponse:
    """Note a meter's reading."""
    return _add(request, pk, ReadingForm(request.POST))


@require_POST
def add_light(request: HttpRequest, pk: int) -> HttpResponse:
    """Note a stray light."""
    return _add(request, pk, StrayLightForm(request.POST))


@require_POST
def delete_known(request: HttpRequest, kind: str, pk: int) -> HttpResponse:
    """Remove a reading or a stray light."""
    model: Any = {"reading": Reading, "light": StrayLight}.get(kind)
    if model is None:
        raise Http404("nothing of this kind is known of a site")
    row: Reading | StrayLight = get_object_or_404(model, pk=pk, site__owner=person(request))
    site = row.site_id
    row.take_away() if isinstance(row, StrayLight) else row.delete()
    return redirect("site", site)


@require_POST
def refuse_air(request: HttpRequest, pk: int) -> HttpResponse:
    """Put back the extinction that was there before frames told another."""
    owned(Site, request, pk).refuse_air()
    return redirect("site", pk)


def darker_places(request: HttpRequest, pk: int) -> HttpResponse:
    """Where it is darker within an hour (loaded after the page of the site)."""
    site = owned(Site, request, pk)
    minutes = checked(DarkerForm(request.GET)).cleaned_data["minutes"] or 60
    toward = 180.0 if site.lat > GALACTIC_CENTRE[1] else 0.0
    return render(
        request,
        "sites/darker.html",
        {
            "site": site,
            "places": darker(site.lat, site.lon, float(minutes), toward),
            "minutes": minutes,
            "toward": toward,
            "sky": site.shown_sky(),
        },
    )


@require_POST
def import_sites(request: HttpRequest) -> HttpResponse:
    """Take sites from a GPX, GeoJSON or CSV file; what is known already is passed over."""
    file = one_file(request, "a GPX, GeoJSON or CSV file of places", LARGEST)
    found = good_of(request, read_waypoints(file.read(), file.name or ""))
    if any(w.of_track for w in found):
        rows = [(json.dumps([w.name, w.lat, w.lon, w.elevation, w.note]), w) for w in found]
        return render(request, "sites/choose.html", {"rows": rows, "file": file.name, **head("Sites")})
    return _taken_in(request, found)


@require_POST
def import_chosen(request: HttpRequest) -> HttpResponse:
    """Take the places that were chosen of a track."""
    rows = [read_json(text, "place") for text in request.POST.getlist("place")]
    places = [row for row in rows if isinstance(row, list) and len(row) == 5]
    if len(places) < len(rows):
        raise BadInput("place: not one of those that were offered")
    if not places:
        raise BadInput("place: none was chosen")
    made = [Waypoint(str(n), lat, lon, up, str(note)) for n, lat, lon, up, note in places]
    return _taken_in(request, read_waypoints(geojson_text(made).encode(), "place").all_or_nothing())


def _taken_in(request: HttpRequest, found: Sequence[Waypoint]) -> HttpResponse:
    """Places as sites, without those that are there."""
    own = [(s.lat, s.lon) for s in Site.objects.filter(owner=person(request))]
    new = [
        w
        for w in found
        if not any(abs(w.lat - a) < SAME_PLACE and abs(w.lon - b) < SAME_PLACE for a, b in own)
    ]
    with transaction.atomic():
        for w in new:
            Site.objects.create(
                owner=person(request),
                name=w.name,
                lat=w.lat,
                lon=w.lon,
                elevation=w.elevation or 0.0,
                tz=zone_at(w.lat, w.lon),
                notes=w.note,
            )
    return redirect(f"{reverse('sites')}?imported={len(new)}&known={len(found) - len(new)}")


def export_sites(request: HttpRequest, kind: str) -> HttpResponse:
    """All sites as a file."""
    write, content_type = EXPORTS[kind]
    points = [
        Waypoint(s.name, s.lat, s.lon, s.elevation, s.notes)
        for s in Site.objects.filter(owner=person(request))
    ]
    return HttpResponse(
        write(points),
        content_type=content_type,
        headers={"Content-Disposition": f'attachment; filename="vinter-sites.{kind}"'},
    )
