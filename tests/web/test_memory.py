"""The memory: what frames told becomes what the next plan uses; nights in the ledger; the demo's past."""

import json
import re
from datetime import date, time

import pytest
from django.urls import reverse

from vinter.web.demo.past import PAST, add_past
from vinter.web.ledger.records import evenings_of, last_time, told
from vinter.web.shots.models import Shot
from vinter.web.sites.models import Reading, StrayLight
from vinter.web.stacks.gear import lens_offer
from vinter.web.stacks.learning import learn_site
from vinter.web.stacks.models import Stack
from vinter.web.stacks.plate import circumstances
from vinter.web.takes.models import Take

pytestmark = pytest.mark.django_db


def said(answer):
    return " ".join(answer.content.decode().split())


@pytest.fixture
def measured(small_take, shot):
    """A stack of her take whose frames told that the sky was 0.4 mag brighter than thought; what a meter
    said is older than two years."""
    Reading.objects.update(day=date(2025, 1, 1))
    sky = {"zenith": 21.1, "error": 0.12, "planned": 21.5, "stars": 140, "air": 0.24}
    report = {
        "version": 2,
        "reference": "a",
        "frames": [{"file": "a", "used": True, "time": shot.moment}],
        "frames_used": 5,
        "noise_gain": 2.2,
        "sky": sky,
    }
    return Stack.objects.create(owner=shot.owner, take=small_take, frames=[], report=report, version="x")


def test_the_next_plan_uses_the_sky_that_was_measured_and_says_so_and_it_can_be_refused(desk, measured, mill):
    before = mill.core().zenith
    own = measured.take.shot
    own.planned_with = own.inputs()
    own.save()
    learn_site(measured)
    learn_site(measured)  # stacked again: still one reading
    reading = Reading.objects.get(site=mill, source="frames")
    assert (reading.zenith, reading.day) == (21.1, date(2027, 6, 9)) and "140 stars" in reading.note
    assert mill.core().zenith == 21.1 != before
    page = said(desk.get(reverse("site", args=[mill.pk])))
    assert "measured from your own frames, 9 Jun 2027" in page and "± 0.12" in page
    # a shot planned before says what is different now, and is planned again with it
    shot = Shot.objects.get(pk=own.pk)
    assert any("21.1" in text for text in shot.outdated)
    planned = shot.plan["at"]["brightness"]
    desk.post(reverse("shot-again", args=[shot.pk]))
    shot = Shot.objects.get(pk=shot.pk)
    assert shot.plan["at"]["brightness"] < planned - 0.2 and shot.outdated == []
    # refused: the meter counts again
    desk.post(reverse("site-known-delete", args=["reading", reading.pk]))
    assert mill.core().zenith == before


def test_a_meters_reading_of_the_last_two_years_wins_and_the_page_says_so(desk, measured, mill):
    Reading.objects.update(day=date(2026, 9, 12))
    learn_site(measured)
    assert mill.core().zenith == 21.5
    page = re.sub(r"\s+", " ", said(desk.get(reverse("night", args=[mill.pk, "2027-07-05"]))))
    assert "Your meter's 21.5 of 12 Sep 2026 counts for two years" in page and "This plan uses it" not in page


def test_a_sky_measured_too_roughly_is_no_reading(measured, mill):
    measured.report["sky"]["error"] = 0.35
    learn_site(measured)
    assert not Reading.objects.filter(site=mill, source="frames").exists()


def test_last_time_is_told_where_the_next_night_is_planned(desk, measured, mill):
    shot = measured.take.shot
    shot.lesson = "Come half an hour earlier"
    shot.save()
    assert last_time(mill)["lesson"] == shot.lesson
    assert last_time(mill, before=shot.night) is None
    for address in (
        reverse("night", args=[mill.pk, "2027-07-05"]),
        reverse("shot-new", args=[mill.pk]) + "?t=1814927400",
    ):
        page = said(desk.get(address))
        assert "Last time here, 9 Jun 2027:" in page and "“Come half an hour earlier”" in page, address
        assert "5 of 5 frames kept" in page and "2.2× less noise" in page
        assert "The sky measured 21.1 ± 0.1" in page and "This plan uses it" not in page  # no reading of it
    learn_site(measured)
    assert "This plan uses it" in said(desk.get(reverse("night", args=[mill.pk, "2027-07-05"])))
    assert "Last time here" not in said(desk.get(reverse("night", args=[mill.pk, "2027-05-05"])))


def test_a_night_holds_what_was_planned_set_got_and_learned(desk, measured, nerea):
    learn_site(measured)
    page = said(desk.get(reverse("ledger")))
    for words in (
        "Planned",
        "Set, by the files",
        "Got",
        "Learned",
        "5 used · 2.2× less noise",
        "sky measured",
    ):
        assert words in page, words
    night = told(evenings_of(nerea))[0]
    got = night.works[0].got
    assert (got.frames, got.kept) == (5, 5) and night.frames == 5 and got.width_px > 1
    frame = measured.take.frame_set.first()
    frame.decision = "drop"
    frame.measure = {**frame.measure, "reasons": ["stars trailed"]}
    frame.save()
    assert told(evenings_of(nerea))[0].works[0].got.reasons == [("stars trailed", 1)]
    assert "1 left: stars trailed" in said(desk.get(reverse("ledger")))
    assert "Tide mill</span>" not in said(desk.get(reverse("ledger"), {"year": 2020}))
    assert "Nothing here yet" in said(desk.get(reverse("ledger"), {"site": 10**9}))


def test_frames_without_a_plan_are_a_night_too(desk, small_take, nerea):
    small_take.shot = None
    small_take.title = "Last year's folder"
    small_take.save()
    days = [n.day for n in told(evenings_of(nerea)) if n.site is None]
    assert len(days) == 1
    page = said(desk.get(reverse("ledger")))
    assert "not planned" in page and "Last year&#x27;s folder" in page and "no site known" in page


@pytest.mark.long("the whole past is read and every page of it opened")
def test_the_demo_opens_with_a_past(desk, nerea):
    assert sum(p.stat().st_size for p in PAST.iterdir()) < 12e6
    found = json.loads((PAST / "past.json").read_text())
    assert [len(row["takes"]) for row in found] == [1, 3, 1, 1]
    add_past(nerea)
    add_past(nerea)  # once
    assert Take.objects.filter(owner=nerea).count() == 6 and Stack.objects.filter(owner=nerea).count() == 2
    nights = [n for n in told(evenings_of(nerea)) if n.day.year == 2026]
    assert len(nights) == 4 and sum(len(n.finishes) for n in nights) == 3
    page = said(desk.get(reverse("ledger")))
    assert "Never 30 s with this lens" in page and "left: " in page
    for stack in Stack.objects.filter(owner=nerea):
        assert desk.get(reverse("stack", args=[stack.pk])).status_code == 200
        for finish in stack.finish_set.all():
            assert desk.get(reverse("finish", args=[finish.pk])).status_code == 200
            assert desk.get(reverse("finish-picture", args=[finish.pk])).status_code == 200
    for take in Take.objects.filter(owner=nerea):
        assert desk.get(reverse("take", args=[take.pk])).status_code == 200
    # the mill's sky was measured, and the failures say why they failed
    assert Reading.objects.filter(source="frames").count() == 1
    trailed = Take.objects.get(title__startswith="Thirty seconds")
    assert all(f.suggestion != "keep" for f in trailed.frame_set.all())


def test_originals_come_again_from_their_seed(nerea, shot, tools, monkeypatch):
    """A take whose originals are gone is shot again, byte for byte, also under new names."""
    from dataclasses import replace

    from vinter.web.takes.models import Frame
    from vinter.web.takes.tasks import restore_originals
    from vinter.web.takes.work import shoot_frame

    small = replace(shot.core_lens, width=400, height=300, pitch=shot.core_lens.pitch * 10)
    take = Take.objects.create(owner=nerea, shot=shot, kind=Take.SIMULATED, title="Gone", seed=3)
    burst = replace(take.burst(), lens=small, count=2)
    monkeypatch.setattr(Take, "burst", lambda self: burst)
    take.folder.mkdir(parents=True, exist_ok=True)
    names = [shoot_frame(burst, i, take.folder) for i in range(2)]
    before = [(take.folder / n).read_bytes() for n in names]
    frames = [
        Frame.objects.create(take=take, name=n, stored=stored, size=1, digest=n)
        for n, stored in zip(names, (names[0], "anew.dng"), strict=True)
    ]
    for n in names:
        (take.folder / n).unlink()
    restore_originals(take, frames, tools)
    assert [f.path.read_bytes() for f in frames] == before
    take.kind = Take.UPLOADED
    frames[0].path.unlink()
    restore_originals(take, frames, tools)
    assert not frames[0].path.is_file()  # what was brought cannot be made up


def test_the_guide_and_the_steps(client, stranger, desk):
    page = said(desk.get(reverse("guide")))
    assert "NPF rule" in page and "Know the phone" in page and page.count("<dt>") > 15
    assert "Set up once" in said(desk.get("/"))


@pytest.mark.parametrize(("error", "readings"), [(0.19, 1), (0.3, 0)])
def test_a_sky_that_was_measured_vaguely_is_no_reading(measured, mill, error, readings):
    measured.report["sky"]["error"] = error
    learn_site(measured)
    assert Reading.objects.filter(site=mill, source="frames").count() == readings


def test_a_lamp_that_burns_over_midnight_is_on_on_both_sides_of_it(mill):
    late = StrayLight(site=mill, azimuth=10, start=time(22), end=time(2))
    assert [late.on_at(time(h)) for h in (21, 22, 23, 0, 1, 2, 12)] == [
        False,
        True,
        True,
        True,
        True,
        False,
        False,
    ]
    early = StrayLight(site=mill, azimuth=10, start=time(21), end=time(23))
    assert [early.on_at(time(h)) for h in (20, 21, 22, 23, 1)] == [False, True, True, False, False]


def test_the_focal_length_that_stars_show_is_offered_to_gear(desk, measured):
    lens = measured.take.phone.core().lens("main")
    size = (lens.width, lens.height)
    turn = [[1.0, 0.0, 0.0], [0.0, 1.0, 0.0], [0.0, 0.0, 1.0]]
    measured.report |= {
        "field": {
            "rotation": turn,
            "focal_px": lens.focal_px * 1.01,
            "k1": -0.01,
            "width": size[0],
            "height": size[1],
            "matched": 240,
            "rms_px": 0.3,
            "centre": [0.0, 0.0],
            "scale_arcsec": 73.0,
            "constellations": [],
            "targets": [],
        }
    }
    measured.save()
    offer = lens_offer(measured)
    assert offer.after.f35 == pytest.approx(lens.f35 * 1.01, abs=0.01)
    assert desk.post(reverse("stack-lens", args=[measured.pk])).status_code == 302
    kept = type(measured.take.phone).objects.get(pk=measured.take.phone.pk).core().lens("main")
    assert kept.f35 == pytest.approx(offer.after.f35) and "240 stars" in kept.measured
    again = Stack.objects.get(pk=measured.pk)
    assert lens_offer(again) is None
    assert desk.post(reverse("stack-lens", args=[measured.pk])).status_code == 400


def test_corners_that_a_field_showed_are_kept_with_the_lens_and_used_where_no_field_is(desk, small_stack):
    fall = {
        "square": 0.35, "fourth": 0.24, "corner": 0.59, "corner_error": 0.07, "starlight": 0.2, "stars": 240,
        "significant": True, "taken_out": True, "source": "field", "air": 0.22, "air_error": 0.03,
    }  # fmt: skip
    lens = small_stack.take.phone.core().lens("main")
    turn = [[1.0, 0.0, 0.0], [0.0, 1.0, 0.0], [0.0, 0.0, 1.0]]
    small_stack.report |= {
        "corners": fall,
        "field": {
            "rotation": turn, "focal_px": lens.focal_px, "k1": -0.01, "width": lens.width,
            "height": lens.height, "matched": 240, "rms_px": 0.3, "centre": [0.0, 0.0], "scale_arcsec": 73.0,
            "constellations": [], "targets": [],
        },
    }  # fmt: skip
    small_stack.save()
    page = said(desk.get(reverse("stack", args=[small_stack.pk])))
    assert "Corners of this lens in Gear: not known" in page and "Keep 0.59 mag with it" in page
    assert circumstances(small_stack).fall_offs == []
    assert desk.post(reverse("stack-lens", args=[small_stack.pk])).status_code == 302
    kept = type(small_stack.take.phone).objects.get(pk=small_stack.take.phone.pk)
    assert kept.core().lens("main").fall_off == (0.35, 0.24, 0.07)
    assert "corners are 0.59 ± 0.07 mag darker" in said(desk.get(reverse("phone", args=[kept.pk])))
    again = Stack.objects.get(pk=small_stack.pk)
    assert lens_offer(again) is None
    assert [f.corner for f in circumstances(again).fall_offs] == [pytest.approx(0.59)]
    again.report["corners_by_drift"] = fall | {"corner": 0.5, "source": "drift"}
    assert [f.corner for f in circumstances(again).fall_offs] == [0.5, pytest.approx(0.59)]

    # by hand: as it stands nothing changes, 0 forgets it
    address = reverse("lens", args=[kept.pk, "main"])
    form = desk.get(address).context["form"]
    given = {name: value for name, value in form.initial.items() if name in form.fields}
    for corners, wanted in ((0.59, (0.35, 0.24, 0.07)), (0.4, (0.24, 0.16, 0.15)), (0, (0, 0, 0))):
        assert desk.post(address, {**given, "corners": corners}).status_code == 302
        kept.refresh_from_db()
        assert kept.core().lens("main").fall_off == pytest.approx(wanted)
