"""The ledger: nights, what was planned, set and got, each step linked to the one before."""

import json
from collections.abc import Iterator

from django.http import Http404, HttpRequest, HttpResponse, StreamingHttpResponse
from django.shortcuts import render
from django.template.loader import render_to_string

from vinter.core.finite import finite
from vinter.core.formats.spreadsheet import csv_lines
from vinter.web.compute import StillComputing
from vinter.web.field.views import STANDALONE_POLICY
from vinter.web.forms import read_day, row_number
from vinter.web.gear.models import Phone
from vinter.web.ledger.looking_back import (
    YearSheet,
    forecast_chart,
    forecast_nights,
    sky_chart,
    sky_nights,
    year_sheet,
)
from vinter.web.ledger.night_page import night_page
from vinter.web.ledger.records import Evening, evenings_of, told
from vinter.web.ledger.rows import COLUMNS, ledger_rows
from vinter.web.owned import person
from vinter.web.paging import page_of
from vinter.web.shots.models import SKIES, Shot
from vinter.web.sites.models import Site
from vinter.web.workflow import head

NIGHTS = 12  # nights on a page


def ledger(request: HttpRequest) -> HttpResponse:
    """Every night with what came of it."""
    chosen = {name: row_number(request.GET.get(name, "")) for name in ("site", "year", "phone")}
    evenings = evenings_of(person(request), chosen["site"], chosen["year"], chosen["phone"])
    out = [n for n in evenings if any(e.take for e in n.entries)]
    page = page_of(request, evenings, NIGHTS)
    planned = Shot.objects.filter(owner=person(request)).values_list("night", flat=True)
    return render(
        request,
        "ledger/ledger.html",
        {
            "nights": told(list(page)),
            "page": page,
            "chosen": chosen,
            "forecasts": forecast_chart(forecast_nights(evenings)),
            "skies": sky_chart(sky_nights(evenings)),
            "sheet": _sheet(evenings, chosen["site"], chosen["year"]),
            "skies_came": SKIES,
            "out": len(out),
            "light_s": sum(n.light_s for n in out),
            "frames": sum(n.frames for n in out),
            "sites": Site.objects.filter(owner=person(request)),
            "phones": Phone.objects.filter(owner=person(request)),
            "years": sorted({day.year for day in planned}, reverse=True),
            **head("Ledger"),
        },
    )


def _sheet(nights: list[Evening], site: int | None, year: int | None) -> YearSheet | None:
    """The year at a site, by choice or of the newest night out; None while it is being computed, or without
    one."""
    shot = [n for n in nights if n.site and n.frames]
    if not shot:
        return None
    where = next((n.site for n in shot if n.site and n.site.pk == site), shot[0].site)
    assert where is not None
    of_it = [n for n in shot if n.site == where]
    try:
        return year_sheet(where, year or of_it[0].day.year, nights)
    except StillComputing:
        return None


def night(request: HttpRequest, pk: int, day: str) -> HttpResponse:
    """One night told on a page of its own that needs nothing else: to show, to print, to send."""
    when = read_day(day)
    found = [n for n in evenings_of(person(request), site=pk, year=when.year) if n.day == when]
    if not found:
        raise Http404("no such night")
    text = render_to_string("ledger/night.html", night_page(told(found)[0]))
    headers = {"Content-Security-Policy": STANDALONE_POLICY}
    if "file" in request.GET:
        headers["Content-Disposition"] = f'attachment; filename="vinter-night-{when}.html"'
    return HttpResponse(text, headers=headers)


def ledger_csv(request: HttpRequest) -> StreamingHttpResponse:
    """The ledger as CSV, sent as it is read."""
    rows = ledger_rows(person(request))
    return StreamingHttpResponse(
        csv_lines(COLUMNS, ([row[c] for c in COLUMNS] for row in rows)),
        content_type="text/csv; charset=utf-8",
        headers={"Content-Disposition": 'attachment; filename="vinter-ledger.csv"'},
    )


def _array(texts: Iterator[str]) -> Iterator[str]:
    """Values that were written one by one, as one JSON array."""
    before = "["
    for text in texts:
        yield f"{before}\n{text}"
        before = ","
    yield "[]" if before == "[" else "\n]"


def ledger_json(request: HttpRequest) -> StreamingHttpResponse:
    """The ledger as JSON, sent as it is read."""
    texts = (json.dumps(finite(row), indent=1, ensure_ascii=False) for row in ledger_rows(person(request)))
    return StreamingHttpResponse(
        _array(texts),
        content_type="application/json",
        headers={"Content-Disposition": 'attachment; filename="vinter-ledger.json"'},
    )
