"""Looking back: what was said and what came, the year with its nights, a night on a page, the timer's
times."""

import csv
import io
import json
import re
import time
from datetime import date

import pytest
from desk import body, said
from django.urls import reverse

from vinter.core.forecast import Forecast, Hour
from vinter.web.byte_cache import ByteCache
from vinter.web.conventions import Conventions, current
from vinter.web.field.models import FieldNote
from vinter.web.forecast.models import CachedForecast
from vinter.web.ledger.looking_back import forecast_nights, site_record, sky_nights, year_sheet
from vinter.web.ledger.records import evenings_of, told
from vinter.web.nights.drawing import draw
from vinter.web.shots.models import Shot
from vinter.web.sites.models import Site

pytestmark = pytest.mark.django_db


def clear_hours(start, clouds):
    return tuple(
        Hour(
            t=start - 7200 + 3600 * i,
            cloud_low=clouds,
            cloud_mid=0,
            cloud_high=0,
            humidity=0.5,
            dew_point=5,
            wind=2,
            temperature=15,
        )
        for i in range(12)
    )


def test_the_last_word_before_a_night_is_kept_and_later_ones_do_not_count(desk, shot, monkeypatch):
    night = shot.found_night()
    at = night.best.start - 5 * 3600
    monkeypatch.setattr(time, "time", lambda: at)
    cached, _ = CachedForecast.objects.get_or_create(site=shot.site)
    cached.store(Forecast(at, "test", clear_hours(night.best.start, 0.3)))
    desk.get(reverse("card", args=[shot.pk]))
    shot.refresh_from_db()
    first = shot.forecast_chance["chance"]
    assert 0.4 < first < 0.9
    cached.store(Forecast(at, "test", clear_hours(night.best.start, 0.9)))
    desk.get(reverse("card", args=[shot.pk]))
    shot.refresh_from_db()
    assert shot.forecast_chance["chance"] < first  # the newer word counts
    worse = shot.forecast_chance["chance"]
    monkeypatch.setattr(time, "time", lambda: night.best.end + 60)
    cached.store(Forecast(at, "test", clear_hours(night.best.start, 0.0)))
    desk.get(reverse("card", args=[shot.pk]))
    shot.refresh_from_db()
    assert shot.forecast_chance["chance"] == worse  # the night is over


def test_what_came_is_said_by_the_photographer_and_moves_the_next_chance(desk, shot, mill):
    Shot.objects.filter(pk=shot.pk).update(forecast_chance={"chance": 0.8, "error": 0.1, "at": 0})
    assert site_record(mill) is None
    opened = told(evenings_of(shot.owner))[0].works[0].lesson_opened
    desk.post(
        reverse("lesson", args=[shot.pk]),
        {"lesson": "Go later.", "sky_came": "clouded", "opened_with": opened},
    )
    shot.refresh_from_db()
    assert (shot.lesson, shot.sky_came) == ("Go later.", "clouded")
    record = site_record(mill)
    assert record.nights == 1 and record.shift < -0.3  # one night alone moves no chance yet
    assert record.corrected(0.8) == 0.8


def test_the_ledger_draws_the_past(desk, past):
    page = said(desk.get(reverse("ledger")))
    nights = evenings_of(past)
    assert len(forecast_nights(nights)) == 4 and "4 nights: said 72 %, came 75 %" in page
    (sky,) = sky_nights(nights)
    assert f"{sky.measured - sky.planned:+.2f}".replace("-", "−") in page
    assert "Clouded out" in page and "40 % clear was said" in page
    assert page.count('name="lesson"') == len({e.shot for n in nights for e in n.entries if e.shot})


def test_drawn_nights_are_kept_and_change_with_what_they_show(past, monkeypatch):
    """A strip is worked out once; another clock, horizon or wish draws it anew."""
    evenings, drawn = evenings_of(past)[:1], []
    monkeypatch.setattr("vinter.web.ledger.records.STRIPS", ByteCache(10**6))
    monkeypatch.setattr("vinter.web.ledger.records.draw", lambda *a: drawn.append(a) or draw(*a))
    first = told(evenings)[0].strip
    assert told(evenings)[0].strip == first and len(drawn) == 1
    token = current.set(Conventions(clock="12"))
    try:
        twelve = told(evenings)[0].strip
    finally:
        current.reset(token)
    assert len(drawn) == 2 and [x for x, _ in twelve.ticks] == [x for x, _ in first.ticks]
    assert twelve.ticks != first.ticks
    Site.objects.filter(pk=evenings[0].site.pk).update(horizon=[[0, 40], [180, 40]])
    assert told(evenings_of(past)[:1])[0].strip.ground != first.ground and len(drawn) == 3


def test_the_year_has_its_nights_marked(past, mill):
    sheet = year_sheet(mill, 2026, evenings_of(past))
    days = {m["day"] for m in sheet.shot}
    assert days == {date(2026, 6, 13), date(2026, 8, 11)}
    june = next(m for m in sheet.shot if m["day"].month == 6)
    assert june["x"] == pytest.approx((163.5 / 365) * sheet.width, abs=1)
    # ink at the new Moons of summer, none at its full Moons or in winter
    inked = {round(c["x"] / (sheet.width / 365)) for c in sheet.columns}
    new_moon, winter = (date(2026, 6, 15) - date(2026, 1, 1)).days, range(330, 365)
    assert new_moon in inked and not inked & set(winter)


def test_a_night_is_told_on_one_page_that_asks_for_nothing(desk, past, mill):
    answer = desk.get(reverse("ledger-night", args=[mill.pk, "2026-06-13"]) + "?file")
    text = answer.content.decode()
    assert (
        "attachment" in answer["Content-Disposition"]
        and "default-src 'none'" in answer["Content-Security-Policy"]
    )
    page = said(answer)
    for words in ("Saturday 13 June 2026", "10 kept", "forecast: 82 % clear", "Ten minutes more"):
        assert words in page
    assert text.count("data:image/jpeg;base64,") == 2
    addresses = re.findall(r'(?:src|href)="([^"]+)"|url\(([^)]+)\)', text)
    assert addresses and all((a or b).startswith("data:") for a, b in addresses)
    assert str(mill.lat) not in page  # the place only as its owner calls it
    assert desk.get(reverse("ledger-night", args=[mill.pk, "2026-06-14"])).status_code == 404


def test_somebody_elses_night_does_not_exist(client, stranger, past, mill):
    client.force_login(stranger)
    assert client.get(reverse("ledger-night", args=[mill.pk, "2026-06-13"])).status_code == 404


def test_the_tables_say_planned_set_and_measured(desk, past):
    rows = json.loads(body(desk.get(reverse("ledger-json"))))
    mill = next(r for r in rows if r["title"] == "Core over the mill, low water")
    assert mill["iso"] == mill["iso_set"] == 1600 and mill["frames_kept"] == 10 and mill["light_s"] == 100
    assert mill["sky_measured_mag_arcsec2"] == pytest.approx(21.48, abs=0.02) and mill["sky_came"] == "clear"
    table = list(csv.DictReader(io.StringIO(body(desk.get(reverse("ledger-csv"))).decode())))
    assert len(table) == len(rows) and table[0].keys() == rows[0].keys()
    arch = [r for r in rows if r["title"] == "The band over the fold"]
    assert len(arch) == 3 and sum(row["frames_kept"] for row in arch) == 18  # one row a take
    assert len({row["first_frame"] for row in arch}) == 3


def sent(desk, shot, *notes, now=None):
    """Notes of a phone; each (key, kind, data), written a minute ago."""
    rows = [{"key": k, "kind": kind, "at": time.time() - 60, "data": data} for k, kind, data in notes]
    return desk.post(
        reverse("field-notes", args=[shot.pk]),
        json.dumps({"now": now or time.time(), "notes": rows}),
        content_type="application/json",
    )


def test_the_timers_burst_goes_into_the_ledger(desk, small_take, shot):
    burst = {"start": shot.moment, "end": shot.moment + 300, "frames": 28}
    assert sent(desk, shot, ("a", "timed", burst)).json() == {"taken": ["a"]}
    page = said(desk.get(reverse("ledger")))
    assert re.search(r"timer \d\d:\d\d–\d\d:\d\d, 28", page)
    for wrong in ({"start": "nan", "end": 1, "frames": 1}, {"start": 1, "end": 2, "frames": 0}, {}):
        assert sent(desk, shot, ("b", "timed", wrong)).json() == {"taken": ["b"]}  # it is not sent again
    assert Shot.objects.get(pk=shot.pk).timed == burst and FieldNote.objects.count() == 1


def test_what_is_sent_twice_is_stored_once_and_a_wrong_clock_is_put_right(desk, shot, stranger):
    note, aim = {"words": "Fog from the river at two."}, {"name": "Antares", "azimuth": 17.2, "altitude": 0.4}
    for _ in range(2):
        answer = sent(desk, shot, ("n1", "note", note), ("n2", "aim", aim), ("n3", "lesson", note))
        assert answer.json() == {"taken": ["n1", "n2", "n3"]}
    assert FieldNote.objects.filter(shot=shot).count() == 3
    assert Shot.objects.get(pk=shot.pk).lesson == "Fog from the river at two."
    page = said(desk.get(reverse("ledger")))
    assert "Fog from the river at two." in page and "compass 17.2° off, by Antares" in page
    # a phone whose clock is a day behind: its minute is put right
    desk.post(
        reverse("field-notes", args=[shot.pk]),
        json.dumps({"now": time.time() - 86400, "notes": [
            {"key": "late", "kind": "note", "at": time.time() - 86400 - 300, "data": {"words": "x"}}]}),
        content_type="application/json",
    )  # fmt: skip
    assert FieldNote.objects.get(key="late").at == pytest.approx(time.time() - 300, abs=30)


def test_a_tapped_skyline_its_landmarks_and_lamps_reach_the_site_once(desk, shot):
    site = shot.site
    site.horizon, site.landmarks = [[0.0, 4.0], [180.0, 9.0], [300.0, 2.0]], [["chapel", 1.0, 1.0]]
    site.save()
    line = {"points": [[170, 3], [190.5, 6.5]]}
    seen = {"name": "chapel", "azimuth": 176.2, "altitude": 7.5}
    lamp = {"name": "yard lamp", "azimuth": 12.0, "altitude": 1.0}
    for _ in range(2):
        sent(desk, shot, ("s1", "horizon", line), ("s2", "landmark", seen), ("s3", "lamp", lamp))
    site.refresh_from_db()
    assert site.horizon == [[0.0, 4.0], [170.0, 3.0], [190.5, 6.5], [300.0, 2.0]]
    assert site.landmarks == [["chapel", 176.2, 7.5]]
    assert [row.azimuth for row in site.straylight_set.filter(words="yard lamp")] == [12.0]
    # seen anew a little aside it is the same lamp; far off it is another of that name
    sent(desk, shot, ("s4", "lamp", {**lamp, "azimuth": 17.5}), ("s5", "lamp", {**lamp, "azimuth": 250.0}))
    lamps = site.straylight_set.filter(words="yard lamp").order_by("azimuth")
    assert [row.azimuth for row in lamps] == [17.5, 250.0]
    page = desk.get(reverse("point", args=[shot.pk])).content.decode()
    assert '["chapel", 176.2, 7.5]' in page  # to aim at


@pytest.mark.parametrize(
    "points",
    [[], [[1, 2]], [[1, 2], [3]], [[1, 2], [3, 99]], [[1, 2], ["x", 3]], "line", [[1, 2]] * 600, None],
)
def test_a_skyline_that_is_none_changes_nothing(desk, shot, points):
    before = shot.site.horizon
    sent(desk, shot, ("w", "horizon", {"points": points}))
    shot.site.refresh_from_db()
    assert shot.site.horizon == before and FieldNote.objects.count() == 0


@pytest.mark.parametrize(
    "text",
    [
        b"", b"[]", b"{", b'{"notes": 3}', b'{"notes": [3, {"key": 1}]}',
        b'{"notes": [{"key": "a", "kind": "note", "at": NaN, "data": {}}]}',
        b'{"now": Infinity, "notes": [{"key": "b", "kind": "note", "at": 1e400, "data": {"words": "y"}}]}',
        b'{"notes": [{"key": "c", "kind": "nothing", "at": 1, "data": []}]}', b"[" * 50_000,
    ],
)  # fmt: skip
def test_what_is_no_note_is_answered_and_nothing_is_stored(desk, shot, text):
    answer = desk.post(reverse("field-notes", args=[shot.pk]), text, content_type="application/json")
    assert answer.status_code in (200, 400) and FieldNote.objects.count() == 0
