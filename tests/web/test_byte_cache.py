"""The cache of years: bounded by bytes, each thing made once however many ask for it."""

import threading
import time

import numpy as np
import pytest

from vinter.web.byte_cache import ByteCache, bytes_of


def test_the_least_recently_used_goes_when_the_bytes_run_out():
    cache = ByteCache(3_500_000)
    made = []

    def value(n):
        made.append(n)
        return [np.zeros(125_000)]  # a megabyte

    for n in (1, 2, 3, 1, 4, 1, 2):
        cache.get(n, lambda n=n: value(n))
    assert made == [1, 2, 3, 4, 2]  # 2 was the oldest when 4 came; 1 had been asked for again
    assert cache.held_bytes <= 3_500_000
    assert bytes_of({"a": np.zeros(1000)}) > 8000


def test_thirty_who_ask_at_once_wait_for_one():
    cache, made, got = ByteCache(10**6), [], []

    def slow():
        made.append(1)
        time.sleep(0.2)
        return "a year"

    threads = [threading.Thread(target=lambda: got.append(cache.get("k", slow))) for _ in range(30)]
    for t in threads:
        t.start()
    for t in threads:
        t.join()
    assert got == ["a year"] * 30 and made == [1]


def test_a_failure_reaches_all_who_wait_and_is_not_kept():
    cache = ByteCache(10**6)
    with pytest.raises(ZeroDivisionError):
        cache.get("k", lambda: 1 // 0)
    assert cache.get("k", lambda: "better") == "better"
