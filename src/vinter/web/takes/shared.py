"""Pictures shared from the phone's gallery: a take of tonight's shot, or the person says of which.

The phone keeps what is shared until it has been sent, so that nothing is lost signed out or without signal:
its worker (``field-worker.js``) puts the pictures by and leads to this page, which sends them in parts.
"""

import time

from django.core.exceptions import PermissionDenied
from django.http import HttpRequest, HttpResponse
from django.shortcuts import redirect, render
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
from vinter.web.workflow import head

OWN_HAND = ("none", "same-origin")  # origins of a share, as browsers name them: the phone itself
NEAR_DAYS = 1  # days around today in which tonight's shots are looked for
TITLE = "Shared from the phone"


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
    began."""
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
    kept, refused = 0, []
    for file in files:
        try:
            take_in_upload(take, (file.name or "picture.jpg")[:200], file)
            kept += 1
        except Refused as error:
            refused.append(str(error))
    if not kept and begun is None:
        take.delete()
        raise BadInput("; ".join(refused))
    enqueue(person(request), "measure", take.pk)
    return (
        redirect("take-of", take.pk) if len(shots) > 1 and take.shot_id is None else redirect("take", take.pk)
    )


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
