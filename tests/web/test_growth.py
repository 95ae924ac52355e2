"""Years of nights: as many queries as for four of them, a page at a time, found again by words."""

import importlib.util
import json
import re
from pathlib import Path

import pytest
from desk import body
from django.db import connection
from django.test.utils import CaptureQueriesContext
from django.urls import reverse

from vinter.web.ledger.records import evenings_of, told
from vinter.web.shots.models import Shot

LISTS = ("ledger", "takes", "shots", "stacks", "finishes", "space", "sites")
MOST_QUERIES, MOST_BYTES = 30, 400_000


@pytest.fixture
def grow():
    path = Path(__file__).parents[2] / "bench" / "growth.py"
    spec = importlib.util.spec_from_file_location("bench_growth", path)
    module = importlib.util.module_from_spec(spec)
    spec.loader.exec_module(module)
    return module.grow


def opened(desk, name, **query):
    with CaptureQueriesContext(connection) as seen:
        answer = desk.get(reverse(name), query)
    assert answer.status_code == 200, name
    return len(seen), answer.content.decode()


def test_pages_ask_the_database_no_more_often_after_years(desk, past, grow):
    few = {page: opened(desk, page)[0] for page in LISTS}
    grow(past, 20, sites=33)
    for page in LISTS:
        queries, text = opened(desk, page)
        # a page holds more nights than four, at more sites; their number itself costs nothing
        assert queries <= min(few[page] + 4, MOST_QUERIES), page
        assert len(text.encode()) < MOST_BYTES, page


def test_the_ledger_shows_a_page_of_nights_and_counts_all(desk, past, grow):
    grow(past, 8)
    evenings, nights = evenings_of(past), told(evenings_of(past))
    assert [(e.day, e.site) for e in evenings] == [(n.day, n.site) for n in nights] and len(evenings) > 24
    # counted without reading a frame as when each frame is read
    for evening, night in zip(evenings, nights, strict=True):
        assert (evening.frames, evening.light_s) == (
            night.frames,
            sum(w.got.light_s for w in night.works if w.got),
        )
    first, last = opened(desk, "ledger")[1], opened(desk, "ledger", page=99)[1]
    assert first.count("<article") == 12 and f"1–12 of {len(evenings)}" in first
    assert 'rel="next"' in first and 'rel="next"' not in last and 'rel="prev"' in last
    assert f'id="night-{evenings[0].day}' in first and f'id="night-{evenings[-1].day}' in last
    assert len(json.loads(body(desk.get(reverse("ledger-json"))))) == sum(len(n.works) for n in nights)


def test_a_list_is_sorted_by_any_of_its_columns_both_ways(desk, past, grow):
    grow(past, 4)
    own = Shot.objects.filter(owner=past)

    def listed(**query):
        return [int(pk) for pk in re.findall(r"/shots/(\d+)/", opened(desk, "shots", **query)[1])]

    up = sorted(own, key=lambda s: (s.site.name, -s.pk))
    assert listed(sort="site") == [s.pk for s in up][:24]
    assert listed(sort="-iso")[0] in {s.pk for s in own if s.iso == max(o.iso for o in own)}
    assert listed(sort="night") == listed(sort="-night")[::-1] or own.count() > 24
    assert listed(sort="owner__password") == listed()  # only by what is shown
    page = opened(desk, "shots", sort="site", q=up[0].site.name)[1]
    assert 'name="sort" value="site"' in page and "site ↑" in page and "sort=-site" in page
    for name in ("takes", "stacks", "finishes"):
        assert "sort=" in opened(desk, name)[1]


def test_a_list_is_searched_by_every_word(desk, past, grow):
    grow(past, 10)
    shot = Shot.objects.filter(owner=past).order_by("night").first()
    same_site = Shot.objects.filter(owner=past, site=shot.site, night__year=shot.night.year).count()
    text = opened(desk, "shots", q=f"{shot.site.name} {shot.night.year}")[1]
    assert f"{same_site} found" in text and f"/shots/{shot.pk}/" in text
    assert "0 found" in opened(desk, "shots", q="nowhere at all")[1]
    for name in ("takes", "stacks", "finishes"):
        assert " found" in opened(desk, name, q="mill")[1]
    # the search stays when the page is turned
    assert "q=e&amp;page=2" in opened(desk, "takes", q="e")[1]
