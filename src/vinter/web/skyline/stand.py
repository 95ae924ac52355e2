"""Where to stand: solutions listed, on the map, over the skyline, and as GPX."""

from urllib.parse import urlencode

from django.http import HttpRequest, HttpResponse
from django.shortcuts import render

from vinter.core.camera.focus import hyperfocal
from vinter.core.errors import BadInput
from vinter.core.formats.tables import iso
from vinter.core.formats.waypoints import Waypoint, gpx_text
from vinter.core.ground.magnetic import Declination, declination
from vinter.core.planning.stand import Stand, Subject, stands
from vinter.core.planning.standing import Here, meetings, way
from vinter.core.sky.nights import Night
from vinter.core.sky.nights import nights as compute
from vinter.core.sky.verdict import clock, compass
from vinter.web.forms import checked
from vinter.web.nights.forms import CursorForm
from vinter.web.nights.outlook import ahead, today
from vinter.web.nights.query import plan_query
from vinter.web.owned import owned
from vinter.web.sites.models import Site
from vinter.web.skyline.forms import StandForm
from vinter.web.skyline.query import lens_of, phones_of
from vinter.web.workflow import head


def _night(request: HttpRequest, site: Site) -> Night:
    """The night asked for, or the next good one, or tonight."""
    query, day = plan_query(request), checked(CursorForm(request.GET)).cleaned_data["day"]
    if day is None:
        found = ahead(site, query).next_night
        day = found.day if found else today(site)
    return compute(site.core(), day, day, query.limits, query.what)[0]


def _skyline_query(found: Stand, request: HttpRequest, lens_key: str) -> str:
    return urlencode(
        {
            "t": round(found.at.t),
            "target": plan_query(request).what.key,
            "lens": lens_key,
            "portrait": request.GET.get("portrait", ""),
            "az": found.pose.azimuth,
            "up": found.pose.altitude,
            "subject": f"{found.bearing:.2f},{found.foot:.2f},{found.top:.2f}",
        }
    )


def _north(site: Site, found: Stand) -> Declination:
    return declination(site.lat, site.lon, site.elevation, found.at.t)


def _row(request: HttpRequest, site: Site, s: Stand, lens_key: str) -> dict[str, object]:
    return {
        "stand": s,
        "query": _skyline_query(s, request, lens_key),
        "from": compass(s.bearing + 180),
        "compass": _north(site, s).compass(s.bearing),
    }


def _rows(
    request: HttpRequest, site: Site, found: list[Stand], lens_key: str, here: Here | None
) -> list[dict[str, object]]:
    return [
        {
            **_row(request, site, s, lens_key),
            "way": _way(site, here, s.lat, s.lon, s.at.t) if here else None,
        }
        for s in found
    ]


def _way(site: Site, here: Here, lat: float, lon: float, t: float) -> dict[str, object]:
    """The way from where the phone is, with the direction as a compass shows it."""
    to = way(here, lat, lon)
    north = declination(site.lat, site.lon, site.elevation, t)
    return {"to": to, "compass": None if to.azimuth is None else north.compass(to.azimuth)}


def _standing(
    request: HttpRequest, site: Site, night: Night, form: StandForm, subject: Subject, lens_key: str
) -> dict[str, object] | None:
    """What is seen from where the phone is; None when that is not given."""
    here = form.here()
    if here is None:
        return None
    lens, portrait = lens_of(request)[1], request.GET.get("portrait") == "1"
    met = meetings(site.core(), night, subject, here, form.wanted(), lens, portrait, plan_query(request).what)
    return {
        "here": here,
        "subject": _way(site, here, subject.lat, subject.lon, night.start),
        "met": [{**_row(request, site, m.stand, lens_key), "minutes": m.seconds / 60} for m in met],
    }


def _solved(request: HttpRequest, site: Site, night: Night) -> tuple[StandForm, Subject | None, list[Stand]]:
    """The form, and when it is complete the subject and its stands."""
    given = request.GET if request.GET.get("height") else None
    form = StandForm(
        given,
        initial={"height": 8, "gap": 6, "eye": 1.5, "base": 0, "bearing": 180, "metres": 60, "farthest": 400},
    )
    if given is None or not form.is_valid():
        return form, None, []
    subject = form.subject(site.lat, site.lon)
    found = stands(
        site.core(),
        night,
        subject,
        form.wanted(),
        lens_of(request)[1],
        request.GET.get("portrait") == "1",
        plan_query(request).what,
    )
    return form, subject, found


def stand(request: HttpRequest, pk: int) -> HttpResponse:
    """The form and its solutions."""
    site = owned(Site, request, pk)
    night = _night(request, site)
    form, subject, found = _solved(request, site, night)
    key, lens = lens_of(request)
    here = form.here() if subject else None
    marks = [{"lat": s.lat, "lon": s.lon, "label": clock(site.core(), s.at.t)} for s in found]
    return render(
        request,
        "skyline/stand.html",
        {
            "site": site,
            "night": night,
            "form": form,
            "subject": subject,
            "rows": _rows(request, site, found, key, here),
            "standing": _standing(request, site, night, form, subject, key) if subject else None,
            "lenses": phones_of(request),
            "lens_key": key,
            "hyperfocal": hyperfocal(lens),
            "query": plan_query(request),
            "portrait": request.GET.get("portrait", ""),
            "drawn": {
                "site": [site.lat, site.lon],
                "subject": [subject.lat, subject.lon] if subject else None,
                "stands": marks,
                "here": [here.lat, here.lon] if here else None,
            },
            "address": request.GET.urlencode(),
            **head("Skyline", site=site, day=night.day),
        },
    )


def stand_gpx(request: HttpRequest, pk: int) -> HttpResponse:
    """One solution, or all of them, with the subject, as GPX."""
    site = owned(Site, request, pk)
    night = _night(request, site)
    _, subject, found = _solved(request, site, night)
    if subject is None:
        raise BadInput("no subject is given, so there is no stand to export")
    only = request.GET.get("only", "")
    chosen = [s for s in found if not only or f"{s.at.t:.0f}" == only]
    points = [
        Waypoint(
            f"Stand {clock(site.core(), s.at.t)}",
            round(s.lat, 6),
            round(s.lon, 6),
            None,
            f"{iso(s.at.t)}: {s.distance:.0f} m from the subject, look az {s.bearing:.1f} "
            f"(compass {_north(site, s).compass(s.bearing):.0f}), tilt "
            f"{s.pose.altitude:.0f} up",
        )
        for s in chosen
    ]
    points.append(
        Waypoint("Subject", round(subject.lat, 6), round(subject.lon, 6), None, f"{subject.height:g} m high")
    )
    return HttpResponse(
        gpx_text(points),
        content_type="application/gpx+xml",
        headers={"Content-Disposition": f'attachment; filename="vinter-stand-{night.day}.gpx"'},
    )
