"""The horizon of a site: drawn, imported, or traced over a daytime panorama. And the pictures taken
by day."""

import secrets
from collections.abc import Mapping
from pathlib import Path

import cv2
import numpy as np
from django.http import FileResponse, Http404, HttpRequest, HttpResponse
from django.shortcuts import get_object_or_404, redirect, render
from django.views.decorators.http import require_POST

from vinter.core.errors import BadInput
from vinter.core.formats.horizons import horizon_text, read_horizon
from vinter.core.formats.whole import write_image
from vinter.core.frames.content import HEAD_BYTES, check_content
from vinter.core.frames.decoding import decoded
from vinter.core.ground.panorama import PanoramaFix, fix_by_points, fix_by_sun, traced
from vinter.core.json_input import read_json
from vinter.core.sky.ephemeris import GALACTIC_CENTRE, diurnal_path
from vinter.core.sky.horizon import Horizon, merged
from vinter.web.forms import checked
from vinter.web.owned import owned
from vinter.web.sites.forms import PointFixForm, SunFixForm
from vinter.web.sites.models import ScoutPicture, Site
from vinter.web.uploads import good_of, one_file
from vinter.web.workflow import head

LARGEST = 40 * 2**20
SHOWN_WIDTH = 2400
Points = tuple[tuple[float, float], ...]


def horizon(request: HttpRequest, pk: int) -> HttpResponse:
    """Draw the horizon over azimuth and altitude."""
    site = owned(Site, request, pk)
    paths = {
        name: diurnal_path(site.lat, dec)
        for name, dec in (("core", GALACTIC_CENTRE[1]), ("june", 23.44), ("december", -23.44))
    }
    return render(
        request,
        "sites/horizon.html",
        {
            "site": site,
            "paths": paths,
            "pictures": site.scoutpicture_set.all(),
            "points": site.horizon,
            **head("Sites", site=site),
        },
    )


def _store(site: Site, points: Points) -> HttpResponse:
    site.horizon = [list(p) for p in Horizon(points).points] if points else []
    site.save(update_fields=["horizon"])
    return redirect("horizon", site.pk)


def _pairs(text: str, label: str) -> list[tuple[float, float]]:
    rows = read_json(text, label)
    try:
        if not isinstance(rows, list):
            raise TypeError
        return [(float(a), float(b)) for a, b in rows]
    except (ValueError, TypeError) as error:
        raise BadInput(f"{label}: a list of pairs of numbers is wanted") from error


@require_POST
def draw(request: HttpRequest, pk: int) -> HttpResponse:
    """Keep a drawn profile; an empty one makes the horizon flat again."""
    site = owned(Site, request, pk)
    return _store(
        site,
        tuple(
            sorted(
                (round(a % 360, 2), round(h, 2)) for a, h in _pairs(request.POST.get("points", ""), "horizon")
            )
        ),
    )


@require_POST
def import_horizon(request: HttpRequest, pk: int) -> HttpResponse:
    """Take a profile from a CSV file."""
    site = owned(Site, request, pk)
    file = one_file(request, "a CSV file of azimuth and altitude")
    return _store(site, good_of(request, read_horizon(file.read(), file.name or "")))


def export_horizon(request: HttpRequest, pk: int) -> HttpResponse:
    """The profile as CSV."""
    site = owned(Site, request, pk)
    return HttpResponse(
        horizon_text(tuple((a, h) for a, h in site.horizon)),
        content_type="text/csv; charset=utf-8",
        headers={"Content-Disposition": 'attachment; filename="horizon.csv"'},
    )


@require_POST
def add_picture(request: HttpRequest, pk: int) -> HttpResponse:
    """Keep a picture taken by day; decoded in a limited child, then stored anew as JPEG without its
    metadata."""
    site = owned(Site, request, pk)
    file = one_file(request, "a JPEG or PNG", LARGEST)
    label, data = file.name or "", file.read()
    check_content(label, data[:HEAD_BYTES])
    if Path(label).suffix.lower() not in (".jpg", ".jpeg", ".png"):
        raise BadInput(f"{label}: a JPEG or PNG is wanted here")
    folder = site.folder
    folder.mkdir(parents=True, exist_ok=True)
    name = secrets.token_hex(8)
    raw = folder / f"{name}.incoming{Path(label).suffix.lower()}"
    raw.write_bytes(data)
    try:
        picture = (decoded(raw, label).data >> 8).astype(np.uint8)
    finally:
        raw.unlink()
    scale = min(SHOWN_WIDTH / picture.shape[1], 1.0)
    picture = (
        cv2.resize(picture, None, fx=scale, fy=scale, interpolation=cv2.INTER_AREA) if scale < 1 else picture
    )
    write_image(folder / f"{name}.jpg", picture, [cv2.IMWRITE_JPEG_QUALITY, 85])
    one = ScoutPicture.objects.create(
        site=site,
        stored=f"{name}.jpg",
        caption=request.POST.get("caption", "")[:200],
        width=picture.shape[1],
        height=picture.shape[0],
    )
    return redirect("trace", one.pk) if request.POST.get("trace") else redirect("site", site.pk)


def _picture(request: HttpRequest, pk: int) -> ScoutPicture:
    return get_object_or_404(ScoutPicture, pk=pk, site__owner=request.user)


def picture(request: HttpRequest, pk: int) -> FileResponse:
    """The stored picture."""
    one = _picture(request, pk)
    path = one.site.folder / one.stored
    if not path.is_file():
        raise Http404("the picture's file is gone")
    return FileResponse(
        path.open("rb"), content_type="image/jpeg", headers={"Cache-Control": "private, max-age=3600"}
    )


@require_POST
def delete_picture(request: HttpRequest, pk: int) -> HttpResponse:
    """Remove a picture."""
    one = _picture(request, pk)
    (one.site.folder / one.stored).unlink(missing_ok=True)
    one.delete()
    return redirect("site", one.site_id)


def trace(request: HttpRequest, pk: int) -> HttpResponse:
    """Trace the horizon over a panorama, or keep what was traced."""
    one = _picture(request, pk)
    if request.method != "POST":
        return render(
            request, "sites/trace.html", {"picture": one, "site": one.site, **head("Sites", site=one.site)}
        )
    new = traced(_fix(request.POST, one.site), _pairs(request.POST.get("traced", ""), "traced line"))
    if len(new) < 2:
        raise BadInput("trace at least two points along the horizon; the old one was kept")
    return _store(one.site, merged(tuple((a, h) for a, h in one.site.horizon), new))


def _fix(given: Mapping[str, str], site: Site) -> PanoramaFix:
    """How the picture lies on the sky, by the Sun in it or by two directions known in it."""
    try:
        if given.get("how") == "sun":
            by_sun = checked(SunFixForm(given)).cleaned_data
            when = by_sun["when"].replace(tzinfo=site.core().zone).timestamp()
            across = by_sun["across"] / by_sun["width"]
            return fix_by_sun(site.core(), when, by_sun["x1"], by_sun["y1"], across)
        p = checked(PointFixForm(given)).cleaned_data
        return fix_by_points(p["x1"], p["azimuth1"], p["x2"], p["azimuth2"], p["level"])
    except ZeroDivisionError as error:
        raise BadInput(
            "the panorama's bearing is not fixed: the two places are one; nothing was changed"
        ) from error
    except BadInput as error:
        raise BadInput(f"the panorama's bearing is not fixed yet ({error}); nothing was changed") from error
