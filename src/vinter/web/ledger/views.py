"""The ledger: what was planned, what was set, what came out, each step linked to the one before."""

import json
from dataclasses import dataclass

from django.http import HttpRequest, HttpResponse
from django.shortcuts import render

from vinter.core.finite import finite
from vinter.core.formats.spreadsheet import csv_text
from vinter.web.finish.models import Export, Finish
from vinter.web.ledger.rows import COLUMNS, ledger_rows
from vinter.web.meanwhile import opened_with
from vinter.web.nights.drawing import Strip, draw
from vinter.web.shots.forms import LessonForm
from vinter.web.shots.models import Shot
from vinter.web.stacks.models import Stack
from vinter.web.takes.models import Take
from vinter.web.workflow import head


@dataclass(frozen=True, kw_only=True)
class Entry:
    """One shot and everything that followed from it; marks are the frames on the night's strip."""

    shot: Shot
    strip: Strip | None
    marks: list[float]
    takes: list[Take]
    stacks: list[Stack]
    finishes: list[Finish]
    exports: list[Export]
    opened_with: str


def _entry(shot: Shot) -> Entry:
    night = shot.found_night()
    strip = draw(shot.site.core(), night, 420, 30)
    takes = list(shot.take_set.all())
    stacks = list(Stack.objects.filter(take__in=takes))
    finishes = list(Finish.objects.filter(stack__in=stacks))
    exports = [e for e in Export.objects.filter(finish__in=finishes) if e.ready]
    times = [
        f.measure["time"] for t in takes for f in t.frame_set.all() if f.measure and f.measure.get("time")
    ]
    marks = sorted({strip.x(t) for t in times if strip.start <= t <= strip.end}) if strip else []
    return Entry(
        shot=shot,
        strip=strip,
        marks=marks,
        takes=takes,
        stacks=stacks,
        finishes=finishes,
        exports=exports,
        opened_with=opened_with(LessonForm(instance=shot)),
    )


def ledger(request: HttpRequest) -> HttpResponse:
    """Every shot with what came of it."""
    shots = Shot.objects.filter(owner=request.user).select_related("site", "phone")
    loose = Take.objects.filter(owner=request.user, shot=None)
    return render(
        request,
        "ledger/ledger.html",
        {"entries": [_entry(s) for s in shots[:60]], "loose": loose, **head("Ledger")},
    )


def ledger_csv(request: HttpRequest) -> HttpResponse:
    """The ledger as CSV."""
    rows = ledger_rows(request.user)
    return HttpResponse(
        csv_text(COLUMNS, ([row[c] for c in COLUMNS] for row in rows)),
        content_type="text/csv; charset=utf-8",
        headers={"Content-Disposition": 'attachment; filename="vinter-ledger.csv"'},
    )


def ledger_json(request: HttpRequest) -> HttpResponse:
    """The ledger as JSON."""
    return HttpResponse(
        json.dumps(finite(ledger_rows(request.user)), indent=1, ensure_ascii=False),
        content_type="application/json",
        headers={"Content-Disposition": 'attachment; filename="vinter-ledger.json"'},
    )
