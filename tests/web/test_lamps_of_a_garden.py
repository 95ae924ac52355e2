"""The street lamp before a garden, shot and stacked: it becomes a stray light of the site."""

import pytest
from desk import said
from django.urls import reverse

from vinter.web.shots.models import Shot
from vinter.web.sites.models import Site
from vinter.web.stacks.models import Stack
from vinter.web.takes.models import Take
from vinter.web.takes.tasks import shoot_take


@pytest.mark.long("frames of a garden are simulated and stacked")
@pytest.mark.django_db
def test_the_street_lamp_of_a_garden_is_found_where_it_stands(desk, shot, small_sensor, tools, worked):
    garden = Site.objects.get(owner=shot.owner, name="Suburban garden")
    shot.site, shot.frames, shot.iso, shot.shutter = garden, 5, 200, 6
    shot.save()
    take = Take.objects.create(
        owner=shot.owner,
        shot=Shot.objects.get(pk=shot.pk),
        kind=Take.SIMULATED,
        title="Over the hedge",
        simulation_overrides={"traffic": False},
    )
    assert take.burst().scene == "garden"
    shoot_take(take.pk, tools)
    desk.post(reverse("stack-new", args=[take.pk]))
    worked()
    one = Stack.objects.get()
    # the scene puts the lamp 28 degrees to the right of where the lens faces, 11.7 degrees high
    lamps = list(garden.straylight_set.all())
    right = [lamp for lamp in lamps if abs(lamp.azimuth - (shot.pose.azimuth + 28)) < 1.5]
    assert len(right) == 1 and right[0].stack == one.pk
    assert [row for row in one.report["lamps"] if abs(row["altitude"] - 11.7) < 1]
    # what else shines are lit windows, low down
    assert all(row["altitude"] < 12.5 for row in one.report["lamps"])
    page = said(desk.get(reverse("site", args=[garden.pk])))
    assert f"{right[0].azimuth:.0f}°" in page
