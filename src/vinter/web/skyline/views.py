"""The view from the stand."""

from datetime import datetime

import numpy as np
from django.http import HttpRequest, HttpResponse, JsonResponse
from django.shortcuts import redirect, render

from vinter.core.formats.pictures import jpeg_bytes
from vinter.core.ground.magnetic import Declination, declination
from vinter.core.planning.shot import field_of_view
from vinter.core.planning.skyline import figures, frame_seen, picture
from vinter.core.sky.nights import Night, night_at
from vinter.core.sky.pole import pole_sketch
from vinter.core.sky.sun_safety import SunTooNear, check_sun
from vinter.core.sky.verdict import compass
from vinter.web.forms import checked
from vinter.web.nights.drawing import draw, reading
from vinter.web.nights.query import plan_query
from vinter.web.owned import owned, person
from vinter.web.satellites.views import next_pass
from vinter.web.sites.models import Site
from vinter.web.skyline.forms import LOW, SkyForm
from vinter.web.skyline.query import SkylineQuery, phones_of, skyline_query
from vinter.web.workflow import head

USUAL_HIGH, USUAL_WIDTH = 60.0, 1200
JPEG_QUALITY = 84


def first_skyline(request: HttpRequest) -> HttpResponse:
    """The skyline of the first site."""
    site = Site.objects.filter(owner=person(request)).first()
    return redirect("skyline", site.pk) if site else redirect("begin")


def _night(request: HttpRequest, site: Site, t: float) -> Night:
    query = plan_query(request)
    return night_at(site.core(), t, query.limits, query.what)


def skyline(request: HttpRequest, pk: int) -> HttpResponse:
    """The page; what it draws comes from scene and sky."""
    site = owned(Site, request, pk)
    now = skyline_query(request, site)
    night = _night(request, site, now.t)
    lowest = plan_query(request).limits.min_altitude
    strip, narrow = (draw(site.core(), night, width, 44, min_altitude=lowest) for width in (1170, 330))
    return render(
        request,
        "skyline/skyline.html",
        {
            "site": site,
            "now": now,
            "night": night,
            "strip": strip,
            "narrow": narrow,
            "query": plan_query(request),
            "lenses": phones_of(request),
            "subject": request.GET.get("subject", ""),
            "pole": request.GET.get("pole", ""),
            **head("Skyline", site=site, day=night.day, context=f"{site.name} · {site.tz}"),
        },
    )


def _refused(now: SkylineQuery) -> str:
    """Why no frame is drawn: the Sun is up and near where the lens points; empty where it is not."""
    try:
        check_sun(now.site.core(), now.t, [(now.pose.altitude, now.pose.azimuth)])
    except SunTooNear as error:
        return str(error)
    return ""


def _north(now: SkylineQuery) -> Declination:
    return declination(now.site.lat, now.site.lon, now.site.elevation, now.t)


def _frame(now: SkylineQuery, target: tuple[float, float]) -> dict[str, object]:
    refused = _refused(now)
    seen = frame_seen(now.site.core(), now.lens, now.pose, now.portrait, target)
    w, h = field_of_view(now.lens, now.portrait)
    at = seen.target
    inside = (
        "outside the frame"
        if at is None
        else f"{100 * at[0]:.0f} % from the left, {100 * (1 - at[1]):.0f} % up"
    )
    return {
        "outline": [] if refused else np.round(seen.outline, 2).tolist(),
        "refused": refused,
        "ground": round(seen.ground, 3),
        "target": inside,
        "az": now.pose.azimuth,
        "compass": round(_north(now).compass(now.pose.azimuth), 1),
        "north": _north(now).words,
        "up": now.pose.altitude,
        "roll": now.pose.roll,
        "size": f"{w:.0f}° × {h:.0f}°",
    }


def _lights(site: Site, t: float) -> list[list[object]]:
    """Azimuth and words of the stray lights that are on at a minute."""
    clock = datetime.fromtimestamp(t, site.core().zone).time()
    return [[light.azimuth, light.words] for light in site.straylight_set.all() if light.on_at(clock)]


def scene(request: HttpRequest, pk: int) -> JsonResponse:
    """Everything drawn over the horizon at a minute, as azimuths and apparent altitudes."""
    site = owned(Site, request, pk)
    now = skyline_query(request, site)
    core = site.core()
    found = figures(core, now.t, now.what)
    profile = sorted(core.horizon.points) if core.horizon else []
    sketch = pole_sketch(core, now.t) if request.GET.get("pole") else None
    way = (
        next_pass(person(request), core, _night(request, site, now.t), now.t - 600)
        if request.GET.get("station")
        else None
    )
    return JsonResponse(
        {
            "pass": [[round(az, 2), round(alt, 2), round(t)] for t, alt, az in way.path[::2]]
            if way
            else None,
            "stars": np.round(found.stars, 2).tolist(),
            "lines": np.round(found.lines, 2).tolist(),
            "names": [[round(az, 1), round(alt, 1), name] for az, alt, name in found.names],
            "band": np.round(found.band, 1).tolist(),
            "moon": [round(v, 3) for v in found.moon],
            "target": [*(round(v, 2) for v in found.target), now.what.name],
            "horizon": profile,
            "frame": _frame(now, found.target),
            "lights": _lights(site, now.t),
            "reading": reading(core, now.t, now.what),
            "compass": compass(found.target[0]),
            "pole": {
                "at": [sketch.azimuth, sketch.altitude],
                "stars": [[n, az, alt] for n, (alt, az) in sketch.stars.items()],
                "guides": [
                    {"line": [[az, alt] for alt, az in g.line], "words": g.words} for g in sketch.guides
                ],
            }
            if sketch
            else None,
        }
    )


def sky(request: HttpRequest, pk: int) -> HttpResponse:
    """The sky's light behind the drawing, as JPEG."""
    site = owned(Site, request, pk)
    now = skyline_query(request, site)
    given = checked(SkyForm(request.GET)).cleaned_data
    high, width = given["high"] or USUAL_HIGH, given["width"] or USUAL_WIDTH
    rgb = picture(site.core(), now.t, now.centre, now.span, LOW, high, width)
    return HttpResponse(
        jpeg_bytes(rgb, JPEG_QUALITY),
        content_type="image/jpeg",
        headers={"Cache-Control": "private, max-age=600"},
    )
