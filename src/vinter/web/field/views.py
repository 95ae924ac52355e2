"""The field card: red on black, one screen, as a page and as one self-contained file."""

import base64
from typing import Any

from django.conf import settings
from django.http import HttpRequest, HttpResponse
from django.shortcuts import render
from django.template.loader import render_to_string
from django.utils.text import slugify

from vinter.core.card import checks
from vinter.web.chain import head
from vinter.web.nights.drawing import draw
from vinter.web.owned import owned
from vinter.web.shots.models import Shot


def cards(request: HttpRequest) -> HttpResponse:
    """The cards that can be carried out."""
    return render(request, "field/cards.html", {"shots": Shot.objects.filter(owner=request.user).select_related("site"), **head("Field")})


def _context(shot: Shot) -> dict[str, Any]:
    core = shot.site.core()
    night = shot.found_night()
    return {"shot": shot, "night": night, "strip": draw(core, night, 350, 34, red=True), "tz": shot.site.tz,
            "checks": checks(shot.core_lens, shot.iso, shot.shutter, shot.frames, shot.pose), "minutes": shot.minutes, "window": night.best}


def card(request: HttpRequest, pk: int) -> HttpResponse:
    """The card on the phone."""
    return render(request, "field/card.html", _context(owned(Shot, request, pk)))


def card_file(request: HttpRequest, pk: int) -> HttpResponse:
    """The card as one HTML file that needs no network: styles and fonts inside."""
    shot = owned(Shot, request, pk)
    static = settings.BASE / "static"
    style = (static / "css" / "field.css").read_text()
    for name in ("next", "mono"):
        data = base64.b64encode((static / "fonts" / f"atkinson-{name}.woff2").read_bytes()).decode()
        style = style.replace(f"url(../fonts/atkinson-{name}.woff2)", f"url(data:font/woff2;base64,{data})")
    script = (static / "js" / "card.js").read_text()
    text = render_to_string("field/card.html", {**_context(shot), "style": style, "script": script})
    name = f"vinter-card-{shot.night}-{slugify(shot.title)}.html"
    return HttpResponse(text, headers={"Content-Disposition": f'attachment; filename="{name}"'})
