"""A shot from its first figures to its changes: every kind of picture, what it would give, and what is said
when
the sky, the lens or the preferences are no longer those it was planned with."""

import re
from datetime import date

import cv2
import numpy as np
import pytest
from desk import said
from django.urls import reverse

from vinter.core.planning.modes.registry import MODES
from vinter.web.gear.models import Phone
from vinter.web.nights.models import Preferences
from vinter.web.shots.models import Shot
from vinter.web.sites.models import Reading

pytestmark = pytest.mark.django_db
WHEN = 1812588300


def planned(desk, mill, **more):
    """Keep a shot as the form would send it, and give it back."""
    phone = Phone.objects.get(owner=mill.owner, key="marlet-7")
    given = {"t": WHEN, "lens": f"{phone.pk}:main", "use": "screen", "save": "1", **more}
    answer = desk.post(reverse("shot-new", args=[mill.pk]), given)
    assert answer.status_code == 302, said(answer)
    return Shot.objects.get(pk=int(answer.url.rstrip("/").split("/")[-1]))


def form_values(page):
    """What the fields of a page's form hold, as a browser would send them."""
    form = re.search(r'<form method="post"\s+class="grid gap-3".*?</form>', page, re.DOTALL).group(0)
    out = {}
    for tag in re.findall(r"<input[^>]*>", form):
        name, value = (re.search(rf'\b{key}="([^"]*)"', tag) for key in ("name", "value"))
        if name and name.group(1) not in ("csrfmiddlewaretoken",):
            out[name.group(1)] = value.group(1) if value else ""
    for name, body in re.findall(r'<select name="([^"]+)".*?>(.*?)</select>', form, re.DOTALL):
        chosen = re.search(r'value="([^"]*)" selected', body)
        out[name] = chosen.group(1) if chosen else ""
    return {k: v.replace("&quot;", '"').replace("&#x27;", "'") for k, v in out.items()}


@pytest.mark.parametrize("mode", [k for k, m in MODES.items() if not (m.target or m.needs_pass)])
def test_only_a_stack_shows_the_figures_of_a_stack(desk, mill, mode):
    phone, kind = Phone.objects.get(owner=mill.owner, key="marlet-7"), MODES[mode]
    for lens in ("ultra-wide", "main") if kind.needs_ground else ("ultra-wide", "tele", "main"):
        page = said(
            desk.get(
                reverse("shot-new", args=[mill.pk]),
                {"t": WHEN, "mode": mode, "lens": f"{phone.pk}:{lens}", "use": "screen"},
            )
        )
        assert f"{'Noise falls by' if kind.of_a_stack else kind.name}" in page
    assert ("One more minute gains" in page) == kind.of_a_stack
    assert ("15 or 30 seconds?" in page) == kind.of_a_frame
    assert ("Which lens, which resolution" in page) == kind.of_a_frame
    assert ("Tungsten preset" in page) == (kind.of_a_frame or kind.sequence)
    assert "ISO 0" not in page and "nan" not in page


def test_the_moon_points_at_the_moon_and_says_when_it_rises(desk, mill):
    answer = desk.get(reverse("shot-new", args=[mill.pk]), {"t": WHEN, "mode": "moon"})
    assert answer.status_code == 400 and "it rises at" in said(answer)
    early = 1812580200  # 9 June 2027, 22:50 UTC: the Moon is still up, and the core already
    one = planned(desk, mill, t=early, mode="moon", lens=f"{Phone.objects.get(key='marlet-7').pk}:tele")
    assert one.target == "moon" and one.wanted_target == "core" and one.shutter < 0.1
    page = said(desk.get(reverse("shot", args=[one.pk])))
    assert "Noise falls by" not in page and "1/" in page
    back = planned_change(desk, one, mode="stack")
    assert back.target == "core"


def planned_change(desk, one, **changes):
    address = reverse("shot-change", args=[one.pk])
    values = form_values(desk.get(address).content.decode())
    answer = desk.post(address, {**values, **changes, "save": "1"})
    assert answer.status_code == 302, said(answer)
    return Shot.objects.get(pk=one.pk)


def test_a_shot_is_changed_and_keeps_what_was_not_touched(desk, mill):
    one = planned(desk, mill, iso=800, title="The wheel under the core", frames=30)
    changed = planned_change(desk, one, shutter=6, at="02:30")
    assert (changed.iso, changed.shutter, changed.frames) == (800, 6.0, 30)
    assert changed.title == "The wheel under the core" and changed.night == date(2027, 6, 9)
    assert changed.moment - one.moment == 45 * 60
    page = said(desk.get(reverse("shot", args=[one.pk])))
    assert "Your ISO 800 puts the sky" in page and "Your 6 s trail" in page and "02:30" in page
    plain = planned_change(desk, changed, iso="", shutter="", frames="")
    assert plain.manual_settings == {} and plain.iso != 800


def test_what_was_changed_in_another_window_is_said(desk, mill):
    one = planned(desk, mill)
    address = reverse("shot-change", args=[one.pk])
    values = form_values(desk.get(address).content.decode())
    planned_change(desk, one, iso=400)
    answer = desk.post(address, {**values, "title": "Mine", "save": "1"})
    assert answer.status_code == 409 and "Changed in another window" in said(answer)
    assert Shot.objects.get(pk=one.pk).title != "Mine"


def test_a_plan_says_what_has_changed_since_and_is_planned_again(desk, mill, nerea):
    one = planned(desk, mill, frames=40)
    assert "Plan it again" not in said(desk.get(reverse("shot", args=[one.pk])))
    for day in (1, 2, 3):
        Reading.objects.create(site=mill, day=date(2027, 5, day), zenith=21.3)
    Preferences.objects.update_or_create(owner=nerea, defaults={"thresholds": {"least_contrast": 30}})
    phone = one.phone
    phone.lenses["main"]["shutter_max"] = 8
    phone.save()
    page = said(desk.get(reverse("shot", args=[one.pk])))
    assert "Planned with a zenith of 21.50 mag/arcsec², now 21.30." in page
    assert "Planned with its longest shutter, s 30, now 8." in page
    assert "was 25, now 30" in page
    assert desk.post(reverse("shot-again", args=[one.pk])).status_code == 302
    again = Shot.objects.get(pk=one.pk)
    assert again.outdated == [] and again.shutter == 8 and again.frames == 40
    assert again.plan["at"]["brightness"] < one.plan["at"]["brightness"]


def test_resolution_and_clip_on_travel_into_plan_card_and_frames(desk, mill):
    one = planned(desk, mill, resolution="full")
    assert one.core_lens.width == 2 * 4032 and one.core_lens.pitch == 1.0
    assert one.burst(1).lens.width == 8064 and one.shutter < planned(desk, mill).shutter
    wide = planned(desk, mill, clip_on=0.6)
    assert wide.core_lens.f35 == pytest.approx(14.4) and "clip-on" in wide.gear
    assert "Clip-on lens" in said(desk.get(reverse("pack", args=[wide.pk])))
    answer = desk.post(
        reverse("shot-new", args=[mill.pk]),
        {"t": WHEN, "lens": f"{one.phone_id}:tele", "use": "screen", "resolution": "full", "save": "1"},
    )
    assert answer.status_code == 400 and "bins no pixels" in said(answer)


def test_all_takes_of_a_site_have_one_ground(desk, mill):
    """So fields of an arch fit each other, and the expected picture shows what the take will."""
    first, second = planned(desk, mill), planned(desk, mill)
    assert first.burst(1).ground_seed == second.burst(7).ground_seed is not None
    assert first.burst(1).seed != second.burst(7).seed


def test_a_time_lapse_keeps_its_interval_in_the_simulated_phone(desk, mill):
    one = planned(desk, mill, mode="timelapse", o_interval=20, o_hours=0.5)
    burst = one.burst(1)
    assert burst.shutter + burst.gap == pytest.approx(20) and burst.count == 90


def test_the_card_has_a_framing_shot_and_the_pack_list_its_gear(desk, mill):
    one = planned(desk, mill, mode="tracked")
    card = said(desk.get(reverse("card", args=[one.pk])))
    assert "Framing shot first" in card and "s, ISO 6400" in card
    assert "Star tracker" in said(desk.get(reverse("pack", args=[one.pk])))
    assert "Framing shot first" in said(desk.get(reverse("timer", args=[one.pk])))
    leaned = planned(desk, mill, mode="leaned")
    pack = said(desk.get(reverse("pack", args=[leaned.pk])))
    assert "Tripod and clamp" not in pack and "Something soft" in pack


def picture(desk, one, **what):
    answer = desk.get(reverse("expected-picture", args=[one.pk]), what)
    assert answer.status_code == 200 and answer["Content-Type"] == "image/jpeg"
    return cv2.imdecode(np.frombuffer(answer.content, np.uint8), cv2.IMREAD_GRAYSCALE).astype(float)


def grain(grey):
    """Scatter between neighbours in the upper half, where the sky is."""
    sky = grey[: grey.shape[0] // 2]
    return float(np.median(np.abs(sky[:, 1:] - sky[:, :-1])))


def test_the_expected_picture_is_smoother_with_more_frames_and_paler_under_the_moon(desk, mill):
    one = planned(desk, mill)
    page = said(desk.get(reverse("shot", args=[one.pk])))
    assert "What this plan would give" in page and "times above the noise of the finished picture" in page
    single, stack = picture(desk, one, show="frame"), picture(desk, one, show="stack", frames=60)
    assert single.shape == stack.shape == (600, 800) and grain(stack) < 0.6 * grain(single)
    part = picture(desk, one, show="stack", pixels="on")
    assert part.shape == (426, 640)
    moonlit = said(desk.get(reverse("expected", args=[one.pk]), {"days": 9}))
    assert "lost to the Moon" in moonlit and "18 June 2027" in moonlit
    assert desk.get(reverse("expected", args=[one.pk]), {"days": 99}).status_code == 400


def test_who_has_no_phone_is_led_to_one(desk, mill):
    Shot.objects.all().delete()
    Phone.objects.all().delete()
    page = desk.get(reverse("shot-new", args=[mill.pk]), {"t": WHEN})
    assert page.status_code == 200 and "Which phone will shoot it?" in said(page)
    skyline = desk.get(reverse("skyline", args=[mill.pk]))
    assert skyline.status_code == 200 and "Which phone will shoot it?" in said(skyline)


def test_a_clamp_that_presses_a_button_is_said_on_phone_and_card(desk, mill):
    one = planned(desk, mill)
    address = reverse("phone-clamp", args=[one.phone_id])
    given = {"width": 78, "narrowest": 60, "widest": 90, "jaw_from": 60, "jaw_to": 85, "buttons": "70-80"}
    assert "It fits" not in said(desk.get(reverse("phone", args=[one.phone_id])))
    assert desk.post(address, given).status_code == 302
    assert "press a side button" in said(desk.get(reverse("phone", args=[one.phone_id])))
    assert "press a side button" in said(desk.get(reverse("card", args=[one.pk])))
    assert desk.post(address, {**given, "buttons": "100-110"}).status_code == 302
    assert "It fits" in said(desk.get(reverse("phone", args=[one.phone_id])))
    refused = desk.post(address, {**given, "buttons": "seventy"})
    assert refused.status_code == 400 and "not a band" in said(refused)


def test_stations_pass_to_the_second_without_a_date(desk, mill):
    assert "passes" in said(desk.get(reverse("station", args=[mill.pk]))).lower()


def test_places_are_found_by_name_and_time_zone(desk, mill):
    page = said(desk.get(reverse("places"), {"place": "odemira"}))
    assert "Odemira" in page and "km" in page and "add a site here" in page
    assert "Calvinia" in said(desk.get(reverse("places"), {"place": "CALVINIA"}))
    assert "No place" in said(desk.get(reverse("places"), {"place": "qqqqqq"}))
    zone = desk.get(reverse("map-zone"), {"tz": "Africa/Johannesburg"}).json()
    assert -35 < zone["lat"] < -22 and 16 < zone["lon"] < 33
    assert desk.get(reverse("map-zone"), {"tz": "Moon/Tycho"}).json() == {}
