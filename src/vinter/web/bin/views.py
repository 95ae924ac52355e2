"""Putting back, and deleting for good."""

from django.http import Http404, HttpRequest, HttpResponse
from django.shortcuts import get_object_or_404, redirect
from django.views.decorators.http import require_POST

from vinter.core.errors import BadInput
from vinter.web.bin.models import BinEntry, Binnable, binnable_models, destroy, put_back, put_in
from vinter.web.forms import row_number
from vinter.web.owned import owned, person

MOST_AT_ONCE = 200  # rows put into the bin at once


def offering_undo(page: str, entry: BinEntry) -> HttpResponse:
    """To a page that says what was just put into the bin and offers to undo it."""
    return redirect(f"{page}?binned={entry.pk}")


def _model(kind: str) -> type[Binnable]:
    found = next((m for m in binnable_models() if m._meta.model_name == kind), None)
    if found is None:
        raise Http404("nothing of this kind can be deleted")
    return found


@require_POST
def put(request: HttpRequest, kind: str, pk: int) -> HttpResponse:
    """Put a site, shot, take, frame, stack, finish or export into the bin."""
    model = _model(kind)
    row = get_object_or_404(model.of(person(request)), pk=pk)
    return offering_undo(row.list_page(), put_in(person(request), f"{kind} {row}", [row], row.page()))


def chosen_rows(request: HttpRequest, kind: str) -> list[Binnable]:
    """The rows that were chosen of a list; BadInput where none was."""
    wanted = [number for text in request.POST.getlist("row") if (number := row_number(text)) is not None]
    rows: list[Binnable] = list(_model(kind).of(person(request)).filter(pk__in=wanted[:MOST_AT_ONCE]))
    if not rows:
        raise BadInput("row: nothing was chosen")
    return rows


@require_POST
def put_several(request: HttpRequest, kind: str) -> HttpResponse:
    """Put the rows that were chosen of a list into the bin, as one entry that one undo brings back."""
    model, rows = _model(kind), chosen_rows(request, kind)
    named = ", ".join(str(row) for row in rows)
    page = rows[0].list_page()
    label = f"{kind} {named}" if len(rows) == 1 else f"{len(rows)} {model.LIST}: {named}"
    return offering_undo(page, put_in(person(request), label, rows, page))


@require_POST
def restore(request: HttpRequest, pk: int) -> HttpResponse:
    """Put an entry back where it was."""
    entry = owned(BinEntry, request, pk)
    back = entry.back
    put_back(entry)
    return redirect(back or "space")


@require_POST
def empty(request: HttpRequest, pk: int) -> HttpResponse:
    """Delete one entry for good; 0 stands for all."""
    entries = [owned(BinEntry, request, pk)] if pk else list(BinEntry.objects.filter(owner=person(request)))
    for entry in entries:
        if BinEntry.objects.filter(pk=entry.pk).exists():  # it may have gone with what it came of
            destroy(entry)
    return redirect("space")
