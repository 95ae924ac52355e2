"""What a night teaches the next plan: the sky from the stars' light, infinity from their width."""

from dataclasses import replace
from datetime import date

import numpy as np
import pytest
from desk import said
from django.urls import reverse

from vinter.core.camera.focus import FocusPoint, learned_infinity, next_tick, short_width
from vinter.core.camera.phones import phone as shipped
from vinter.core.frames.adaptive_moments import trail_length
from vinter.web.shots.models import Shot
from vinter.web.sites.models import Reading, Site
from vinter.web.stacks.learning import learn_site
from vinter.web.stacks.models import Stack
from vinter.web.stacks.tasks import run_stack
from vinter.web.takes.models import Take
from vinter.web.takes.tasks import shoot_take


def parabola(ticks, true, grows=1.7, sharp=2.6, noise=0.0, seed=0):
    rng = np.random.default_rng(seed)
    widths = np.sqrt(sharp**2 + grows * (np.array(ticks, float) - true) ** 2)
    return [FocusPoint(t, w + rng.normal(0, noise), 0.1) for t, w in zip(ticks, widths, strict=True)]


@pytest.mark.parametrize("true", [4.2, 5.0, 6.7])
def test_infinity_lies_where_the_parabola_of_widths_has_its_foot(true):
    found = learned_infinity(parabola([4, 5, 6, 7], true))
    assert found.ticks == pytest.approx(true, abs=0.05) and found.width == pytest.approx(2.6, abs=0.1)


def test_its_error_is_what_repeated_nights_scatter_by():
    got = [learned_infinity(parabola([3, 4, 5, 6], 4.0, noise=0.11, seed=s)) for s in range(200)]
    ticks = np.array([g.ticks for g in got if g])
    stated = np.median([g.error for g in got if g])
    assert len(ticks) > 150 and np.std(ticks) == pytest.approx(stated, rel=0.45)


def test_what_cannot_be_told_is_not_said():
    assert learned_infinity(parabola([5, 6], 4)) is None  # two ticks leave two answers
    assert learned_infinity(parabola([5, 6, 7], 4, grows=0.0)) is None  # widths that do not grow
    assert learned_infinity(parabola([5, 6, 7], 30)) is None  # far beyond what was tried
    assert learned_infinity([]) is None


@pytest.mark.parametrize(("true", "wanted"), [(3.0, 3), (3.9, 3), (7.6, 8)])
def test_infinity_is_claimed_only_between_ticks_that_were_tried(true, wanted):
    points = parabola([4, 5, 6, 7], true)
    assert learned_infinity(points) is None and next_tick(points) == wanted
    more = parabola([wanted - 1, *range(2, 10)], true)
    assert learned_infinity(more).ticks == pytest.approx(true, abs=0.05) and next_tick(more) is None


def test_the_end_mark_is_the_other_side_of_itself():
    assert learned_infinity(parabola([0, 1, 2, 3, 4], -0.3)).setting == 0
    assert learned_infinity(parabola([1, 2, 3, 4], -0.3)) is None
    assert next_tick(parabola([1, 2, 3, 4], -0.3)) == 0
    assert next_tick(parabola([0, 1, 2, 3], -2.0)) is None


def test_the_width_across_a_trail_is_that_of_the_round_star():
    for long in (1.0, 1.3, 2.2):
        mean = 3.0 * np.sqrt((1 + long**2) / 2)
        assert short_width(mean, long) == pytest.approx(3.0)
    assert trail_length(3.0, 1.0) == 0


@pytest.mark.long("two takes are simulated, stacked and learned from")
@pytest.mark.django_db
def test_two_takes_at_one_site_the_second_plan_knows_the_sky_and_the_tick(desk, shot, mill, tools):
    """A phone whose infinity its owner wrote down two ticks off, under a sky 0.4 mag brighter than the site's
    reading: after the first take the next plan uses what its frames told, and says why."""
    small = replace(shipped("marlet-7").lens("main"), width=2016, height=1512, focal=2.8, pitch=2.0)
    wrong = replace(small, infinity_ticks=6, measured="")
    shot.phone.store_lens(wrong)
    true, assumed = mill.core().zenith - 0.4, mill.core().zenith
    desk.post(reverse("shot-again", args=[shot.pk]))
    shot = Shot.objects.get(pk=shot.pk)
    shot.frames = 5
    shot.save()
    # the sky that is really there, while the site goes on believing its reading
    mill.zenith = true
    mill.reading_set.all().delete()
    mill.save()
    shot = Shot.objects.get(pk=shot.pk)
    take = Take.objects.create(
        owner=shot.owner,
        shot=shot,
        kind=Take.SIMULATED,
        title=shot.title,
        simulation_overrides={"traffic": False},
    )
    assert take.focused_at == 6 and take.focus_error == 2
    shoot_take(take.pk, tools)
    mill.zenith = None
    mill.save()
    Reading.objects.create(site=mill, day=date(2025, 5, 1), zenith=assumed, source="meter")

    # the stars of the burst and of test frames beside it found infinity
    ticks = sorted({6.0 if f.tick is None else f.tick for f in take.frame_set.all()})
    assert ticks == [3.0, 4.0, 5.0, 6.0, 7.0]
    phone = type(shot.phone).objects.get(pk=shot.phone_id)
    assert phone.core().lens("main").infinity_ticks == 4
    assert phone.learned["main"]["before"] == 6 and abs(phone.learned["main"]["ticks"] - 4) < 0.5

    desk.post(reverse("stack-new", args=[take.pk]))
    stack = Stack.objects.get()
    run_stack(stack.pk, tools)
    mill.refresh_from_db()
    assert mill.core().zenith == pytest.approx(true, abs=0.15)

    # a new plan, and the old one, say so
    page = said(desk.get(reverse("shot-new", args=[mill.pk]) + f"?t={shot.moment + 86400:.0f}"))
    assert "Infinity of the main lens lay at" in page
    assert "The sky measured" in page and "This plan uses it" in page
    assert "(set at 6): plans use it" in page
    old = Shot.objects.get(pk=shot.pk)
    assert any("its infinity, ticks 6, now 4" in text for text in old.outdated)
    assert any("zenith" in text for text in old.outdated)
    card = said(desk.get(reverse("card", args=[shot.pk])))
    assert "4 ticks" in card

    # the second take is shot where the first one taught, and its stars are sharp
    desk.post(reverse("shot-again", args=[shot.pk]))
    second = Take.objects.create(
        owner=shot.owner, shot=Shot.objects.get(pk=shot.pk), kind=Take.SIMULATED, title="2"
    )
    assert second.focused_at == 4 and second.focus_error == 0

    # refused: what was before counts again, and is not learned anew
    desk.post(reverse("lens-refuse", args=[phone.pk, "main"]))
    phone.refresh_from_db()
    assert phone.core().lens("main").infinity_ticks == 6
    desk.post(reverse("take-focus", args=[take.pk]), {"tick": "6"})
    phone.refresh_from_db()
    assert phone.core().lens("main").infinity_ticks == 6


@pytest.mark.django_db
def test_ticks_of_own_test_frames_are_said_on_the_sheet(desk, small_take):
    frames = list(small_take.frame_set.all())[:2]
    for frame in frames:
        frame.frame_type = "test"
        frame.save()
    page = said(desk.get(reverse("take", args=[small_take.pk])))
    assert "Focused at 4 ticks back" in page
    fields = {f"frame-{f.pk}": str(3 + k) for k, f in enumerate(frames)}
    desk.post(reverse("take-focus", args=[small_take.pk]), {"tick": "5", **fields})
    small_take.refresh_from_db()
    assert small_take.focused_at == 5
    assert [small_take.frame_set.get(pk=f.pk).tick for f in frames] == [3, 4]
    wrong = desk.post(reverse("take-focus", args=[small_take.pk]), {"tick": "many"})
    assert wrong.status_code == 400


def _stack_of_a_night(shot, name, night_seconds, air, error, lamps=()):
    take = Take.objects.create(owner=shot.owner, shot=shot, kind=Take.UPLOADED, title=name)
    report = {
        "version": 2,
        "reference": "a",
        "frames": [{"file": "a", "used": True, "time": shot.moment + night_seconds}],
        "sky": {"zenith": 21.5, "error": 0.5, "planned": 21.5, "stars": 90, "air": air, "air_error": error},
        "lamps": [{"azimuth": az, "altitude": 1.2, "pixels": 90} for az in lamps],
    }
    return Stack.objects.create(owner=shot.owner, take=take, frames=[], report=report, version="x")


@pytest.mark.django_db
def test_the_air_of_a_site_is_learned_from_its_nights_used_said_and_put_back(desk, shot, mill):
    typed = mill.extinction
    learn_site(_stack_of_a_night(shot, "first", 0, 0.345, 0.05))
    assert Site.objects.get(pk=mill.pk).extinction == typed  # one night could be an odd one
    for k in range(1, 4):
        again = _stack_of_a_night(shot, f"night {k}", 86400 * k, 0.35, 0.05)
        learn_site(again)
    learn_site(again)
    now = Site.objects.get(pk=mill.pk)
    assert now.core().extinction == pytest.approx(0.38, abs=0.03) != typed  # less of what fits lean on
    page = said(desk.get(reverse("site", args=[mill.pk])))
    assert f"Learned: the air takes {now.extinction:.2f} ±" in page and "4 nights" in page
    desk.post(reverse("site-air-refuse", args=[mill.pk]))
    assert Site.objects.get(pk=mill.pk).extinction == typed
    learn_site(again)
    assert Site.objects.get(pk=mill.pk).extinction == typed  # refused for good
    assert "Learned: the air" not in said(desk.get(reverse("site", args=[mill.pk])))


@pytest.mark.django_db
def test_lamps_that_frames_show_are_noted_once_and_not_again_when_taken_away(desk, shot, mill):
    mill.straylight_set.all().delete()
    one = _stack_of_a_night(shot, "lamps", 0, 0.22, 0.085, lamps=(175.0, 214.0))
    learn_site(one)
    learn_site(one)
    lamps = list(mill.straylight_set.all())
    assert [lamp.azimuth for lamp in lamps] == [175.0, 214.0]
    page = said(desk.get(reverse("site", args=[mill.pk])))
    assert "shines in your frames of 9 June 2027" in page
    desk.post(reverse("site-known-delete", args=["light", lamps[0].pk]))
    learn_site(_stack_of_a_night(shot, "later", 86400, 0.22, 0.085, lamps=(176.0, 300.0)))
    assert [lamp.azimuth for lamp in mill.straylight_set.all()] == [214.0, 300.0]
