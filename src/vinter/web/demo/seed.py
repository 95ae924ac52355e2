"""The demo data: a made-up photographer with made-up phones and sites at real coordinates."""

from datetime import date, time

from django.contrib.auth import get_user_model
from django.contrib.auth.models import User

import vinter
from vinter.core.planning.shot import plan_shot
from vinter.core.sky.nights import nights
from vinter.web.demo.past import add_past
from vinter.web.gear.models import Phone, own_shipped
from vinter.web.nights.models import Preferences
from vinter.web.shots.models import Shot
from vinter.web.sites.models import Reading, Site, StrayLight

DEMO_NAME = "nerea"
SITES = (
    {
        "name": "Tide mill",
        "lat": 37.702,
        "lon": -8.772,
        "elevation": 6,
        "tz": "Europe/Lisbon",
        "zenith": 21.5,
        "extinction": 0.25,
        "favourite": True,
        "drive": 115,
        "access": "Gravel track from the village, park before the gate, ten minutes on foot along the dyke.",
        "permission": "Open ground; the mill itself is private, stay outside.",
        "notes": "Disused tide mill on the estuary; the core stands over the water in June.",
        "hazards": ["water", "private"],
        "cautions": "The dyke floods at spring tide: look up high water and leave an hour before. Soft mud "
        "beside the path.",
    },
    {
        "name": "Sheepfold",
        "lat": -32.24,
        "lon": 20.03,
        "elevation": 420,
        "tz": "Africa/Johannesburg",
        "zenith": 21.9,
        "extinction": 0.18,
        "access": "Farm track, high clearance.",
        "permission": "Ask at the farm before dusk.",
        "notes": "Stone sheepfold; the core passes overhead in winter.",
        "hazards": ["no_signal", "animals"],
        "cautions": "No signal for 40 km: tell somebody when you will be back. Snakes under the stones.",
    },
    {
        "name": "Suburban garden",
        "lat": 38.745,
        "lon": -9.22,
        "elevation": 90,
        "tz": "Europe/Lisbon",
        "zenith": 18.6,
        "extinction": 0.3,
        "home": True,
        "notes": "For trying things out; the bad example.",
        "cautions": "",
    },
)
# Azimuth and altitude in degrees: low water to the west, a wooded bank to the east, the mill's gable in the
# south-west.
MILL_HORIZON = [
    [0, 1.5],
    [25, 2],
    [50, 3.5],
    [80, 5],
    [100, 6],
    [125, 4],
    [150, 1.5],
    [170, 0.8],
    [196, 0.8],
    [198, 6.5],
    [205, 9.5],
    [212, 6.5],
    [214, 0.8],
    [250, 0.4],
    [290, 0.4],
    [330, 1],
]


def seed(past: bool = False) -> None:
    """Make the demo photographer and what belongs to her, with her past nights when asked; safe to run
    again."""
    user, made = get_user_model().objects.get_or_create(username=DEMO_NAME, defaults={"first_name": "Nerea"})
    if made:
        user.set_unusable_password()
        user.save()
    own_shipped(user)
    for data in SITES:
        Site.objects.get_or_create(owner=user, name=data["name"], defaults=data)
    Preferences.objects.get_or_create(owner=user, defaults={"drive_limit": 120})
    _what_is_known(Site.objects.get(owner=user, name="Tide mill"))
    if not Shot.objects.filter(owner=user).exists():
        _first_shot(user)
    if past:
        add_past(user)


def _what_is_known(mill: Site) -> None:
    """A drawn horizon, a meter's readings and a lamp at the tide mill."""
    if not mill.horizon:
        mill.horizon = MILL_HORIZON
        mill.save(update_fields=["horizon"])
    if not mill.reading_set.exists():
        for day, zenith in ((date(2026, 6, 14), 21.46), (date(2026, 8, 9), 21.52), (date(2026, 9, 12), 21.5)):
            Reading.objects.create(site=mill, day=day, zenith=zenith, note="on the dyke, clear, no Moon")
    if not mill.straylight_set.exists():
        StrayLight.objects.create(
            site=mill, azimuth=28, start=time(21), end=time(1), words="Lamp of the café terrace"
        )


def _first_shot(user: User) -> None:
    """One planned shot, so that the card and the shot page have something to show."""
    site = Site.objects.get(owner=user, name="Tide mill")
    phone = Phone.objects.get(owner=user, key="marlet-7")
    day = date(2027, 6, 9)
    night = nights(site.core(), day, day)[0]
    assert night.best is not None
    moment = night.best.best.t
    plan = plan_shot(site.core(), moment, phone.core().lens("main"), night)
    e = plan.exposure
    Shot.objects.create(
        owner=user,
        site=site,
        phone=phone,
        lens="main",
        title="Tide mill, core over the west gable",
        night=day,
        moment=moment,
        iso=e.iso.chosen,
        shutter=e.shutter.chosen,
        frames=e.frames.count,
        plan=plan.data(),
        version=vinter.__version__,
    )
