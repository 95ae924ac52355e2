"""Years of nights in memory: computed once however many ask, whatever evenings they filter, within a
bound."""

import threading
from datetime import date

import pytest
from desk import said
from django.conf import settings
from django.http import QueryDict
from django.urls import reverse

from vinter.core.sky.ranking import NightFilter
from vinter.core.sky.site import Site
from vinter.core.sky.targets import CORE, target
from vinter.core.sky.thresholds import Thresholds
from vinter.core.stage_cache import StageCache
from vinter.web.byte_cache import ByteCache
from vinter.web.nights import years
from vinter.web.nights.beforehand import LIKELY, prepare_years
from vinter.web.nights.query import PlanQuery
from vinter.web.nights.season import season

FARO = Site(lat=37.02, lon=-7.93, tz="Europe/Lisbon", zenith=20.9)
FIRST, LAST = date(2027, 1, 1), date(2027, 2, 28)


@pytest.fixture
def counted(monkeypatch, tmp_path):
    """A fresh cache, and the arguments of every computation."""
    calls, real = [], years.judged

    def judged(*arguments):
        calls.append(arguments)
        return real(*arguments)

    monkeypatch.setattr(years, "YEARS", ByteCache(settings.PLANNING_CACHE_BYTES))
    monkeypatch.setattr(years, "ON_DISK", StageCache(tmp_path / "years"))
    monkeypatch.setattr(years, "judged", judged)
    return calls


def query(**night_filter):
    return PlanQuery(CORE, Thresholds(), NightFilter(**night_filter), QueryDict(""))


def test_thirty_people_who_ask_at_once_wait_for_one_computation(counted):
    gate, got = threading.Barrier(30), []

    def ask():
        gate.wait()
        got.append(years.judged_nights(FARO, FIRST, LAST, CORE, Thresholds()))

    threads = [threading.Thread(target=ask) for _ in range(30)]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join()
    assert len(counted) == 1 and len(got) == 30 and all(found[0][0] is got[0][0][0] for found in got)
    assert len(got[0]) == 59  # January and February


def test_only_what_the_nights_depend_on_is_a_reason_to_compute(counted):
    ask = (FARO, FIRST, LAST)
    years.judged_nights(*ask, CORE, Thresholds())
    years.judged_nights(*ask, CORE, Thresholds(min_altitude=10.0))  # the usual one
    assert len(counted) == 1
    years.judged_nights(*ask, CORE, Thresholds(min_altitude=20.0))
    years.judged_nights(*ask, target("moon"), Thresholds())
    years.judged_nights(FARO, FIRST, date(2027, 1, 31), CORE, Thresholds())
    assert len(counted) == 3  # a year serves all its days


def test_another_filter_of_evenings_computes_nothing(counted, monkeypatch):
    from vinter.web.nights import season as room

    monkeypatch.setattr(room, "YEARS", years.YEARS)
    whole = season(FARO, 2027, query())
    friday = season(FARO, 2027, query(weekdays=(4,)))
    long = season(FARO, 2027, query(minutes=200.0))
    assert len(counted) == 1
    assert whole.left_out == 0 and friday.left_out == 365 - 53  # 2027 has 53 Fridays: it begins with one
    assert long.left_out > 0 and whole.png != friday.png
    assert {run.night.day.weekday() for run in friday.best} == {4}
    assert season(FARO, 2027, query()) is whole  # drawn once


@pytest.mark.long("many years of nights are worked out")
def test_all_years_together_stay_below_a_bound_in_memory_and_are_found_on_disk(counted, monkeypatch):
    assert settings.PLANNING_CACHE_BYTES <= 40 * 2**20
    monkeypatch.setattr(years, "YEARS", ByteCache(3 * 2**20))
    for latitude in range(30, 42):
        site = Site(lat=float(latitude), lon=-8.0, tz="Europe/Lisbon", zenith=21.0)
        years.judged_nights(site, FIRST, LAST, CORE, Thresholds())
        assert years.YEARS.held_bytes <= 3 * 2**20
    years.judged_nights(site, FIRST, LAST, CORE, Thresholds())
    assert len(counted) == 12  # the newest is still there
    years.judged_nights(
        Site(lat=30.0, lon=-8.0, tz="Europe/Lisbon", zenith=21.0), FIRST, LAST, CORE, Thresholds()
    )
    assert len(counted) == 12  # the oldest had gone from memory, and came from the disk
    monkeypatch.setattr(settings, "PLANNING_DISK_BYTES", 10)
    assert years.forget_old_years() > 0
    monkeypatch.setattr(years, "YEARS", ByteCache(3 * 2**20))
    years.judged_nights(site, FIRST, LAST, CORE, Thresholds())
    assert len(counted) == 13


def test_what_is_on_disk_is_the_year_that_was_computed_and_no_torn_file_is_believed(counted, monkeypatch):
    ask = (FARO, FIRST, LAST, CORE, Thresholds())
    first = years.judged_nights(*ask)
    monkeypatch.setattr(years, "YEARS", ByteCache(10**8))
    again = years.judged_nights(*ask)
    assert len(counted) == 1 and [(n.day, v.score, v.reasons) for n, v in again] == [
        (n.day, v.score, v.reasons) for n, v in first
    ]
    (kept,) = years.ON_DISK.folder.iterdir()
    kept.write_bytes(kept.read_bytes()[:-20])
    monkeypatch.setattr(years, "YEARS", ByteCache(10**8))
    years.judged_nights(*ask)
    assert len(counted) == 2
    # a judge that changed is asked anew
    monkeypatch.setattr(years, "YEARS", ByteCache(10**8))
    monkeypatch.setattr(years, "_code", lambda: "another")
    years.judged_nights(*ask)
    assert len(counted) == 3


@pytest.mark.django_db
def test_a_page_for_other_weekdays_asks_for_no_new_year(desk, mill, counted, monkeypatch):
    from vinter.web.nights import season as room

    monkeypatch.setattr(room, "YEARS", years.YEARS)
    address = reverse("season", args=[mill.pk, 2027])
    whole, weekend = desk.get(address), desk.get(address, {"weekday": ["4", "5"]})
    assert len(counted) == 1
    assert "Faded" not in said(whole) and "nights your filters leave out" in said(weekend)


@pytest.mark.long("two years of several sites are worked out")
@pytest.mark.django_db
def test_the_years_of_who_was_here_last_are_there_before_a_page_asks(counted, desk, nerea, stranger):
    prepare_years()
    sites = {site.core() for site in nerea.site_set.all()[:LIKELY]}
    assert {arguments[0] for arguments in counted} == sites and len(counted) == 2 * len(sites)
    assert desk.get("/").status_code == 200
    assert len(counted) == 2 * len(sites)


def test_a_year_that_fails_beforehand_is_logged_and_the_kernels_are_loaded_all_the_same(monkeypatch, caplog):
    from vinter.web import serve

    loaded = []

    def broken():
        raise RuntimeError("a site without a sky")

    monkeypatch.setattr("vinter.web.nights.beforehand.prepare_years", broken)
    monkeypatch.setattr(serve, "finishing", lambda: loaded.append("finish"))
    monkeypatch.setattr(serve.gc, "freeze", lambda: None)
    serve._warm([])
    assert loaded == ["finish"] and "no year was worked out beforehand" in caplog.text
