"""The ledger: nights, what was planned, set and got, each step linked to the one before."""

import json

from django.http import HttpRequest, HttpResponse
from django.shortcuts import render

from vinter.core.finite import finite
from vinter.core.formats.spreadsheet import csv_text
from vinter.web.forms import row_number
from vinter.web.gear.models import Phone
from vinter.web.ledger.records import nights_of
from vinter.web.ledger.rows import COLUMNS, ledger_rows
from vinter.web.shots.models import Shot
from vinter.web.sites.models import Site
from vinter.web.workflow import head

MOST = 60  # nights on a page


def ledger(request: HttpRequest) -> HttpResponse:
    """Every night with what came of it."""
    chosen = {name: row_number(request.GET.get(name, "")) for name in ("site", "year", "phone")}
    nights = nights_of(request.user, chosen["site"], chosen["year"], chosen["phone"])
    out = [n for n in nights if any(w.take for w in n.works)]
    evenings = Shot.objects.filter(owner=request.user).values_list("night", flat=True)
    return render(
        request,
        "ledger/ledger.html",
        {
            "nights": nights[:MOST],
            "more": max(len(nights) - MOST, 0),
            "chosen": chosen,
            "out": len(out),
            "light_s": sum(n.light_s for n in out),
            "frames": sum(n.frames for n in out),
            "sites": Site.objects.filter(owner=request.user),
            "phones": Phone.objects.filter(owner=request.user),
            "years": sorted({e.year for e in evenings}, reverse=True),
            **head("Ledger"),
        },
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
