"""The page Space: what takes how much, what can go, and the bin."""

from django.conf import settings
from django.http import HttpRequest, HttpResponse
from django.shortcuts import redirect, render
from django.urls import reverse
from django.views.decorators.http import require_POST

from vinter.web.bin.models import KEPT_DAYS, BinEntry
from vinter.web.file_state import size_of
from vinter.web.owned import owned, person
from vinter.web.paging import page_of
from vinter.web.space.usage import Usage, give_back, usage
from vinter.web.takes.models import Take
from vinter.web.workflow import head

BAR = 1000.0  # width of the bar in its own units


def _bar(found: Usage, whole: int) -> list[dict[str, object]]:
    """The kinds of files as pieces of a bar whose whole width stands for some bytes."""
    pieces, x = [], 0.0
    for i, (name, size) in enumerate(found.parts):
        width = BAR * size / max(whole, 1)
        pieces.append({"name": name, "size": size, "x": round(x, 2), "width": round(width, 2), "tone": i})
        x += width
    return pieces


def space(request: HttpRequest) -> HttpResponse:
    """What is stored, by kind and by take, and the bin."""
    found = usage(person(request).pk)
    entries = [
        (e, sum(size_of(p) for p in e.files())) for e in BinEntry.objects.filter(owner=person(request))
    ]
    whole = settings.QUOTA_BYTES or found.total
    return render(
        request,
        "space/space.html",
        {
            "usage": found,
            "page": page_of(request, found.takes),
            "bar": _bar(found, max(whole, found.total)),
            "quota": settings.QUOTA_BYTES,
            "spare": int(settings.SPARE_MB) * 2**20,
            "entries": entries,
            "days": KEPT_DAYS,
            "freed": request.GET.get("freed", ""),
            **head("", context="Space"),
        },
    )


@require_POST
def again(request: HttpRequest, pk: int) -> HttpResponse:
    """Delete what can be worked out again, of one take; 0 stands for all."""
    takes = [owned(Take, request, pk)] if pk else list(Take.objects.filter(owner=person(request)))
    return redirect(f"{reverse('space')}?freed={give_back(takes)}")
