"""Heavy computation in a pool: once however many ask, a page that waits says so, a dead process is
replaced."""

import os
import signal
import threading
import time

import pytest
from desk import said
from django.urls import reverse

from vinter.core.errors import BadInput
from vinter.core.stage_cache import StageCache
from vinter.web import compute
from vinter.web.byte_cache import ByteCache
from vinter.web.compute import ComputePool, StillComputing, computed, remembered
from vinter.web.nights import years


def slowly(seconds, mark):
    """Append a line to a file, then take some time."""
    with open(mark, "a") as file:
        file.write("x\n")
    time.sleep(seconds)
    return os.getpid()


def killed(mark):
    """Die the first time, answer the second."""
    if not os.path.exists(mark):
        open(mark, "w").close()
        os.kill(os.getpid(), signal.SIGKILL)
    return "alive"


def refused():
    raise BadInput("a.dng: no frame")


@pytest.fixture(scope="module")
def processes():
    """A real pool of one process."""
    pool = ComputePool(1)
    pool.start()
    yield pool
    pool._pool.shutdown(cancel_futures=True)


@pytest.fixture
def pool(processes, settings, monkeypatch):
    settings.COMPUTE_PROCESSES = 1
    monkeypatch.setattr(compute, "POOL", processes)
    return processes


def test_thirty_who_ask_for_one_thing_have_it_computed_once_elsewhere(pool, tmp_path):
    got = []
    threads = [
        threading.Thread(target=lambda: got.append(computed("one", slowly, 0.3, str(tmp_path / "m"))))
        for _ in range(30)
    ]
    [t.start() for t in threads]
    [t.join() for t in threads]
    assert len(got) == 30 and len(set(got)) == 1 and got[0] != os.getpid()
    assert (tmp_path / "m").read_text() == "x\n" and pool.busy == 0


def test_who_does_not_wait_finds_it_later(pool, tmp_path):
    cache, mark = ByteCache(10**6), str(tmp_path / "m")
    with pytest.raises(StillComputing):
        remembered(cache, "k", slowly, 0.6, mark, seconds=0.05)
    deadline = time.monotonic() + 20
    while cache.peek("k") is None and time.monotonic() < deadline:
        time.sleep(0.05)
    assert remembered(cache, "k", slowly, 0.6, mark, seconds=0.05) == cache.peek("k")
    assert (tmp_path / "m").read_text() == "x\n"


def test_errors_come_through_and_a_process_that_dies_is_replaced(pool, tmp_path):
    with pytest.raises(BadInput, match="no frame"):
        computed("r", refused)
    assert computed("d", killed, str(tmp_path / "dead")) == "alive"
    assert computed("e", killed, str(tmp_path / "dead")) == "alive"


@pytest.mark.django_db
def test_a_cold_season_says_it_is_coming_and_then_comes(desk, mill, pool, monkeypatch, settings, tmp_path):
    monkeypatch.setattr(years, "YEARS", ByteCache(10**8))
    monkeypatch.setattr(years, "ON_DISK", StageCache(tmp_path))  # other tests keep years there too
    monkeypatch.setattr("vinter.web.nights.season.YEARS", years.YEARS)
    monkeypatch.setattr(remembered, "__kwdefaults__", {"seconds": 0.0})
    monkeypatch.setattr(years.judged_year, "__defaults__", (0.0,))
    address = reverse("season", args=[mill.pk, 2031])
    first = desk.get(address, headers={"Accept": "text/html"})
    assert first.status_code == 202 and first["Refresh"] == "1" and "Working it out" in said(first)
    assert desk.get(reverse("season-table", args=[mill.pk, 2031])).status_code == 503
    deadline = time.monotonic() + 30
    while (answer := desk.get(address, headers={"Accept": "text/html"})).status_code == 202:
        assert time.monotonic() < deadline
        time.sleep(0.1)
    assert answer.status_code == 200 and "2031" in said(answer)
    there = years.judged_year(mill.core(), 2031, *_usual())
    settings.COMPUTE_PROCESSES = 0
    here = years.compute_year(mill.core(), 2031, *_usual())
    assert [v.score for _, v in there.judged] == [v.score for _, v in here.judged]
    assert (there.tones == here.tones).all()


def _usual():
    from vinter.core.sky.targets import CORE
    from vinter.core.sky.thresholds import Thresholds

    return CORE, Thresholds()
