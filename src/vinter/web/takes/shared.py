"""Pictures shared from the phone's gallery: a take of tonight's shot, or the person says of which.

The phone keeps what is shared until it has been sent, so that nothing is lost signed out or without signal:
its worker (``field-worker.js``) puts the pictures by and leads to this page, which sends them in parts.
"""

import time
from collections.abc import Sequence
from typing import TypedDict

from django.core.exceptions import PermissionDenied
from django.core.files.uploadedfile import UploadedFile
from django.http import HttpRequest, HttpResponse, JsonResponse
from django.shortcuts import redirect, render
from django.urls import reverse
from django.views.decorators.csrf import csrf_exempt
from django.views.decorators.http import require_http_methods

from vinter.core.errors import BadInput
from vinter.core.sky.nights import evening_of
from vinter.web.forms import row_number
from vinter.web.jobs.models import enqueue
from vinter.web.owned import owned, person
from vinter.web.quota import check_quota
from vinter.web.shots.models import Shot
from vinter.web.takes.intake import Refused, take_in_upload
from vinter.web.takes.models import Take
from vinter.web.uploads import note_refused
from vinter.web.workflow import head

OWN_HAND = ("none", "same-origin")  # origins of a share, as browsers name them: the phone itself
NEAR_DAYS = 1  # days around today in which tonight's shots are looked for
TITLE = "Shared from the phone"
FULL = 507  # HTTP status from which a picture is refused for want of room, and may be taken later


class NotKept(TypedDict):
    """Why a shared picture was not kept, and whether it may be later."""

    why: str
    later: bool


def shots_of_tonight(request: HttpRequest, now: float) -> list[Shot]:
    """The shots planned for the night that a moment belongs to, by the clock of each shot's site."""
    own = Shot.objects.filter(owner=person(request)).select_related("site").order_by("moment")
    near = [s for s in own if abs(s.moment - now) < (NEAR_DAYS + 1) * 86400]
    return [s for s in near if s.night == evening_of(s.site.core(), now)]


@csrf_exempt  # the phone hands the pictures over itself and knows no token; other sites are refused below
@require_http_methods(["GET", "POST"])
def shared(request: HttpRequest) -> HttpResponse:
    """Take in what was shared; to its take, or to the question of which shot it is. By GET the page that
    sends what waits on the phone. With ``take`` the pictures are more of a take that a part before them
    began. A script that asks for JSON is told of every picture in turn, None or why it was not kept."""
    if request.method == "GET":
        return render(request, "takes/share.html", head("Takes"))
    if request.headers.get("Sec-Fetch-Site", "none") not in OWN_HAND:
        raise PermissionDenied("pictures are shared by the phone itself")
    files = request.FILES.getlist("files")
    if not files:
        raise BadInput("no picture came with what was shared")
    check_quota(person(request).pk)
    shots = shots_of_tonight(request, time.time())
    begun = row_number(request.GET.get("take", ""))
    take = owned(Take, request, begun) if begun is not None else _new_take(request, shots)
    refused = _taken_in(take, files)
    kept = not all(refused)
    if kept:
        enqueue(person(request), "measure", take.pk)
    elif begun is None:
        take.delete()
    asks = len(shots) > 1 and take.shot_id is None
    where = reverse("take-of" if asks else "take", args=[take.pk]) if take.pk else None
    if request.headers.get("Accept") == "application/json":
        return JsonResponse({"take": take.pk, "led": where, "refused": refused})
    if where is None:
        raise BadInput("; ".join(one["why"] for one in refused if one))
    note_refused(request, [one["why"] for one in refused if one])
    return redirect(where)


def _taken_in(take: Take, files: "Sequence[UploadedFile[bytes]]") -> list[NotKept | None]:
    """Take the pictures in; for each None, or why it was not kept."""
    out: list[NotKept | None] = []
    for file in files:
        try:
            take_in_upload(take, (file.name or "picture.jpg")[:200], file)
            out.append(None)
        except Refused as error:
            out.append({"why": str(error), "later": error.status >= FULL})
    return out


def _new_take(request: HttpRequest, shots: list[Shot]) -> Take:
    """A take of the one shot of tonight, else of none."""
    shot = shots[0] if len(shots) == 1 else None
    title = shot.title if shot else TITLE
    return Take.objects.create(owner=person(request), shot=shot, kind=Take.UPLOADED, title=title)


def of_shot(request: HttpRequest, pk: int) -> HttpResponse:
    """Which of tonight's shots a take is of; by POST it becomes one of it."""
    take = owned(Take, request, pk)
    if take.shot_id is not None:
        return redirect("take", take.pk)
    if request.method == "POST":
        chosen = row_number(request.POST.get("shot", ""))
        if chosen is not None:
            take.shot = owned(Shot, request, chosen)
            take.title = take.shot.title
            take.save(update_fields=["shot", "title"])
            enqueue(person(request), "measure", take.pk)
        return redirect("take", take.pk)
    shots = shots_of_tonight(request, time.time())
    return render(request, "takes/of_shot.html", {"take": take, "shots": shots, **head("Takes")})
