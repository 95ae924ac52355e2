"""The demo data: a made-up photographer with made-up phones and sites at real coordinates."""

from datetime import date

from django.contrib.auth import get_user_model

import vinter
from vinter.core.shot import plan_shot
from vinter.core.sky.nights import nights
from vinter.web.gear.models import Phone, own_shipped
from vinter.web.shots.models import Shot
from vinter.web.sites.models import Site

DEMO_NAME = "nerea"
SITES = (
    {"name": "Tide mill", "lat": 37.702, "lon": -8.772, "elevation": 6, "tz": "Europe/Lisbon", "zenith": 21.5, "extinction": 0.25,
     "favourite": True, "notes": "Disused tide mill on the estuary; the core stands over the water in June.",
     "cautions": "The dyke floods at spring tide: look up high water and leave an hour before. Soft mud beside the path."},
    {"name": "Sheepfold", "lat": -32.24, "lon": 20.03, "elevation": 420, "tz": "Africa/Johannesburg", "zenith": 21.9, "extinction": 0.18,
     "notes": "Stone sheepfold; the core passes overhead in winter.",
     "cautions": "Ask at the farm. No signal for 40 km: tell somebody when you will be back. Snakes under the stones."},
    {"name": "Suburban garden", "lat": 38.745, "lon": -9.22, "elevation": 90, "tz": "Europe/Lisbon", "zenith": 18.6, "extinction": 0.3,
     "notes": "For trying things out; the bad example.", "cautions": ""},
)


def seed() -> None:
    """Make the demo photographer and what belongs to her; safe to run again."""
    user, made = get_user_model().objects.get_or_create(username=DEMO_NAME, defaults={"first_name": "Nerea"})
    if made:
        user.set_unusable_password()
        user.save()
    own_shipped(user)
    for data in SITES:
        Site.objects.get_or_create(owner=user, name=data["name"], defaults=data)
    if not Shot.objects.filter(owner=user).exists():
        _first_shot(user)


def _first_shot(user: object) -> None:
    """One planned shot, so that the card and the shot page have something to show."""
    site = Site.objects.get(owner=user, name="Tide mill")
    phone = Phone.objects.get(owner=user, key="marlet-7")
    day = date(2027, 6, 9)
    night = nights(site.core(), day, day)[0]
    assert night.best is not None
    moment = night.best.best.t
    plan = plan_shot(site.core(), moment, phone.core().lens("main"), night)
    e = plan.exposure
    Shot.objects.create(owner=user, site=site, phone=phone, lens="main", title="Tide mill, core over the west gable", night=day,
                        moment=moment, iso=e.iso.chosen, shutter=e.shutter.chosen, frames=e.frames.count, plan=plan.data(),
                        version=vinter.__version__)


