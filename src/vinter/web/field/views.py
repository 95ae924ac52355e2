"""The field: the card as page, file and PDF, the shot timer, the test-shot check, the pack list. All of it
red on black."""

import io
from dataclasses import asdict

import segno
from django.conf import settings
from django.contrib.auth.decorators import login_not_required
from django.http import Http404, HttpRequest, HttpResponse, JsonResponse
from django.shortcuts import redirect, render
from django.templatetags.static import static
from django.urls import reverse
from django.utils.text import slugify
from django.views.decorators.http import require_POST

from vinter.core.field.aimed import aimed
from vinter.core.field.card import checks, plan_b, timing
from vinter.core.field.check import advise, sky_level
from vinter.core.field.minutes import Minute
from vinter.core.field.packing import Outing, Packed, cold_and_dew, marked, pack_list
from vinter.core.field.questions import QUESTIONS, every_answer, moves
from vinter.core.field.times import CardTime, card_times
from vinter.core.field.turns import Run, turns
from vinter.core.forecast import Forecast
from vinter.core.formats.cardpdf import CardText, card_pdf
from vinter.core.planning.picture import Wish
from vinter.core.planning.shot import field_of_view
from vinter.core.stack.single import Given, solve_picture
from vinter.core.versions import Data
from vinter.web.compute import computed
from vinter.web.conventions import as_wished, dated
from vinter.web.field.answers import drawing
from vinter.web.field.forms import PackForm
from vinter.web.field.minutes import horizon_of, minutes_of, night_data
from vinter.web.field.models import CardTicket, PackMark, ticket_of
from vinter.web.field.notes import take_in
from vinter.web.field.standalone import standalone
from vinter.web.forms import checked
from vinter.web.nights.drawing import draw
from vinter.web.owned import outside, owned, person
from vinter.web.shots.models import Shot
from vinter.web.shots.promised import note_chance
from vinter.web.sites.models import Site
from vinter.web.templatetags.figures import clock, clocks, fixed
from vinter.web.uploads import LARGEST_FRAME, measure_saved, one_file, saved_files
from vinter.web.workflow import head

# The one page that carries its styles and script inside, so that it lives without signal; it may fetch
# nothing.
STANDALONE_POLICY = (
    "default-src 'none'; style-src 'unsafe-inline'; script-src 'unsafe-inline'; font-src data:; img-src data:"
)
GENERAL = "Local rules and the emergency services come first. Tired? Sleep before you drive."


def cards(request: HttpRequest) -> HttpResponse:
    """The cards that can be carried out."""
    return render(
        request,
        "field/cards.html",
        {"shots": Shot.objects.filter(owner=person(request)).select_related("site"), **head("Field")},
    )


def _timed(one: CardTime, zone: str) -> str:
    return " ".join(filter(None, (clocks(list(one.at), zone) if one.at else "", one.words)))


def _context(shot: Shot, wish: Wish) -> Data:
    shot.check_sun()
    core = shot.site.core()
    night = wish.night
    assert night is not None
    return {
        "times": [(one.label, _timed(one, shot.site.tz)) for one in card_times(night)],
        "shot": shot,
        "night": night,
        "strip": draw(core, night, 350, 34, red=True),
        "tz": shot.site.tz,
        "plan_b": plan_b(
            clock(night.best.end, shot.site.tz) if night.best else None, shot.core_mode.on_cloud
        ),
        "checks": checks(
            shot.core_lens,
            shot.iso,
            shot.shutter,
            shot.frames,
            shot.pose,
            shot.steps,
            shot.framing,
            shot.delay,
            shot.north,
        ),
        "minutes": shot.minutes,
        "note_kinds": (("note", "Note"), ("lesson", "For next time")),
        "cautions": [
            f"Compass: {shot.north.words}. Cars, magnets and lamps turn it further.",
            *shot.site.warnings,
            *shot.mode_plan.get("cautions", []),
            *(shot.phone.clamp_problems or []),
            GENERAL,
        ],
    }


def _forecast(shot: Shot) -> Forecast | None:
    cached = getattr(shot.site, "forecast", None)
    return cached.core() if cached else None


def _by_minute(shot: Shot, wish: Wish) -> dict[str, object]:
    """What a card on a screen has beyond paper: the night by the minute, and what to do when it turns."""
    minutes, best = minutes_of(shot, wish), wish.night.best if wish.night else None
    return {
        "data": night_data(shot, wish, minutes),
        "turns": _turns(shot, minutes, best.end if best else None),
    }


def _turns(shot: Shot, minutes: list[Minute], end: float | None) -> list[tuple[str, list[tuple[str, str]]]]:
    """What remains when the night turns, as titles and lines."""
    run = Run(shot.frames, 60 * shot.minutes, shot.core_mode.on_cloud)
    return [
        (turn.title, [(one.label, _timed(one, shot.site.tz)) for one in turn.lines])
        for turn in turns(run, minutes, end, _forecast(shot))
    ]


def card(request: HttpRequest, pk: int) -> HttpResponse:
    """The card on the phone."""
    shot = owned(Shot, request, pk)
    note_chance(shot)
    wish = shot.wish
    return render(request, "field/card.html", {**_context(shot, wish), **_by_minute(shot, wish)})


def _standalone(shot: Shot) -> str:
    wish = shot.wish
    return standalone({**_context(shot, wish), **_by_minute(shot, wish), **_timer(shot)})


def card_file(request: HttpRequest, pk: int) -> HttpResponse:
    """The card and its timer as one HTML file."""
    shot = owned(Shot, request, pk)
    name = f"vinter-card-{shot.night}-{slugify(shot.title)}.html"
    return HttpResponse(_standalone(shot), headers={"Content-Disposition": f'attachment; filename="{name}"'})


def card_as_pdf(request: HttpRequest, pk: int) -> HttpResponse:
    """The card as PDF."""
    shot = owned(Shot, request, pk)
    c = _context(shot, shot.wish)
    when = f"{dated(shot.night, 'D j M')}, {clock(shot.moment, c['tz'])}"
    what = f"{shot.phone.name} · {shot.core_mode.name} · {fixed(shot.minutes, 0)} min"
    cautions = [*c["cautions"], c["plan_b"], "In need, call: ______________________"]
    return HttpResponse(
        card_pdf(
            CardText(
                shot.title,
                as_wished(f"{when} · {what}"),
                [(label, as_wished(value)) for label, value in c["times"]],
                [(label, as_wished(value)) for label, value in c["checks"]],
                [as_wished(text) for text in cautions],
            )
        ),
        content_type="application/pdf",
        headers={"Content-Disposition": f'inline; filename="vinter-card-{shot.night}.pdf"'},
    )


def qr(request: HttpRequest, pk: int) -> HttpResponse:
    """A QR code that opens the card on the phone, without signing in, for thirty days or until it is
    revoked."""
    shot = owned(Shot, request, pk)
    out = io.BytesIO()
    segno.make(outside(reverse("card-open", args=[ticket_of(shot).code])), error="m").save(
        out, kind="svg", scale=4, border=2, dark="#10213f", light="#f1f3f2"
    )
    return HttpResponse(
        out.getvalue(), content_type="image/svg+xml", headers={"Cache-Control": "private, no-store"}
    )


@require_POST
def revoke(request: HttpRequest, pk: int) -> HttpResponse:
    """No code shown so far opens the card any more."""
    shot = owned(Shot, request, pk)
    CardTicket.objects.filter(shot=shot).update(revoked=True)
    return redirect(f"{reverse('shot', args=[shot.pk])}?revoked=1")


@login_not_required
def card_open(request: HttpRequest, ticket: str) -> HttpResponse:
    """The card for whoever holds its QR code: one page with everything inside, which stays open without
    signal."""
    found = CardTicket.objects.select_related("shot__site", "shot__phone").filter(code=ticket).first()
    if found is None or not found.good or found.shot.binned_id:
        raise Http404("no such card")
    return HttpResponse(
        _standalone(found.shot),
        headers={"Content-Security-Policy": STANDALONE_POLICY, "Cache-Control": "private, no-store"},
    )


def _timer(shot: Shot) -> dict[str, object]:
    """What the shot timer runs by, in seconds."""
    return {
        "timer": asdict(
            timing(shot.shutter, shot.frames, shot.mode_plan.get("interval"), shot.steps, shot.delay)
        )
    }


def point(request: HttpRequest, pk: int) -> HttpResponse:
    """The phone in the hand as the instrument: how far it is off where the lens has to point."""
    shot = owned(Shot, request, pk)
    shot.check_sun()
    wish = shot.wish
    data = night_data(shot, wish, minutes_of(shot, wish))
    marks = sorted({name for row in data["minutes"] for name, *_ in row["marks"]})
    return render(request, "field/point.html", {"shot": shot, "data": data, "marks": marks})


def trace_skyline(request: HttpRequest, pk: int) -> HttpResponse:
    """The skyline of the site, tapped with the phone held along it, by day."""
    shot = owned(Shot, request, pk)
    data = {
        "shot": shot.pk,
        "site": shot.site_id,
        "name": shot.site.name,
        "declination": round(shot.north.degrees, 2),
        "horizon": horizon_of(shot),
        "landmarks": shot.site.landmarks,
    }
    return render(request, "field/skyline.html", {"shot": shot, "data": data})


def timer(request: HttpRequest, pk: int) -> HttpResponse:
    """The shot timer: delay, exposure, gap, lamp, counted by the wall clock."""
    shot = owned(Shot, request, pk)
    shot.check_sun()
    return render(request, "field/timer.html", {"shot": shot, "framing": shot.framing, **_timer(shot)})


@require_POST
def notes(request: HttpRequest, pk: int) -> JsonResponse:
    """What was written in the field, sent home by the page: which of it need not be sent again."""
    return JsonResponse({"taken": take_in(owned(Shot, request, pk), request.body)})


def _questions(shot: Shot) -> dict[str, object]:
    """What one can answer without signal, and what follows from every path of answers."""
    across, down = field_of_view(shot.core_lens, shot.portrait)
    drift = float(shot.exposure["shutter"]["worst_px_s"])
    return {
        "questions": [
            {
                "key": q.key,
                "words": q.words,
                "answers": [(a, drawing(q.key, a.key)) for a in q.answers],
            }
            for q in QUESTIONS
        ],
        "paths": {
            "paths": every_answer(shot.core_lens, shot.iso, shot.shutter, drift, shot.tolerance_px),
            "moves": moves(across, down),
        },
    }


def check(request: HttpRequest, pk: int) -> HttpResponse:
    """Give it the test shot: it says the one next change."""
    shot = owned(Shot, request, pk)
    shot.check_sun()
    advice = found = None
    if request.method == "POST":
        file = one_file(request, "a test shot, JPEG or RAW", LARGEST_FRAME)
        site = shot.site.core()
        given = Given(
            place=(site.lat, site.lon), elevation=site.elevation, zone=shot.site.tz, f35=shot.core_lens.f35
        )
        with saved_files([file]) as ((path, name),):
            m, linear = computed(("measure", path), measure_saved, path, name)
            solved = computed(("solve", path), solve_picture, path, given)
        found = aimed(solved, shot.wish, shot.pose, "pose" in shot.manual_settings)
        advice = advise(
            m,
            shot.core_lens,
            float(shot.exposure["shutter"]["worst_px_s"]),
            shot.tolerance_px,
            sky_level(m, linear),
        )
    return render(
        request, "field/check.html", {"shot": shot, "advice": advice, "aimed": found, **_questions(shot)}
    )


def _items(shot: Shot) -> list[Packed]:
    """What to pack: from the plan, then the user's own; each with whether it is packed."""
    home = Site.objects.filter(owner=shot.owner, home=True).first()
    coldest, spread = cold_and_dew(_forecast(shot), shot.moment, shot.minutes)
    found = pack_list(
        Outing(
            temperature=coldest,
            dew_spread=spread,
            drive_minutes=shot.site.drive_from(home).minutes,
            minutes=shot.minutes,
            hazards=tuple(shot.site.hazards),
            alone=shot.alone,
            gear=shot.gear,
        )
    )
    return marked(found, [mark.core() for mark in shot.packmark_set.all()])


def pack(request: HttpRequest, pk: int) -> HttpResponse:
    """The pack list of a shot."""
    shot = owned(Shot, request, pk)
    return render(request, "field/pack.html", {"shot": shot, "items": _items(shot)})


@require_POST
def pack_change(request: HttpRequest, pk: int) -> HttpResponse:
    """Tick an item, add one of one's own, leave one out, or say whether one goes alone."""
    shot = owned(Shot, request, pk)
    given = checked(PackForm(request.POST)).cleaned_data
    what, key, text = given["do"], given["key"], given["text"]
    if what in ("alone", "together"):
        Shot.objects.filter(pk=shot.pk).update(alone=what == "alone")
    elif what == "add":
        PackMark.objects.get_or_create(shot=shot, key=f"own-{slugify(text) or text}", defaults={"text": text})
    else:
        mark, _ = PackMark.objects.get_or_create(shot=shot, key=key)
        if what == "leave":
            mark.left_out = True
        else:
            mark.packed = what == "pack"
        mark.save(update_fields=["left_out" if what == "leave" else "packed"])
    return redirect("pack", shot.pk)


def service_worker(request: HttpRequest) -> HttpResponse:
    """The script that keeps field pages for when there is no signal."""
    return HttpResponse(
        (settings.BASE / "static/js/field/field-worker.js").read_text(),
        content_type="text/javascript",
        headers={"Cache-Control": "no-cache", "Service-Worker-Allowed": "/field/"},
    )


def manifest(request: HttpRequest) -> JsonResponse:
    """What a phone needs to install Vinter: it opens red, with the cards, and takes pictures that are shared
    with it."""
    return JsonResponse(
        {
            "name": "Vinter",
            "short_name": "Vinter",
            "start_url": reverse("cards"),
            "scope": "/",
            "display": "standalone",
            "background_color": "#000000",
            "theme_color": "#000000",
            "icons": [
                *(
                    {
                        "src": static(f"icons/vinter-{px}.png"),
                        "sizes": f"{px}x{px}",
                        "type": "image/png",
                        "purpose": "any maskable",
                    }
                    for px in (192, 512)
                ),
                {"src": static("vendor/field-mark.svg"), "sizes": "any", "type": "image/svg+xml"},
            ],
            "share_target": {
                "action": reverse("share"),
                "method": "POST",
                "enctype": "multipart/form-data",
                "params": {"files": [{"name": "files", "accept": ["image/*", ".dng", ".raw"]}]},
            },
        },
        content_type="application/manifest+json",
    )
