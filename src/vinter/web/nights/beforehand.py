"""What planning pages ask for first, worked out before they ask."""

from contextlib import suppress

from django.contrib.auth.models import User
from django.db.models import F
from django.utils import timezone

from vinter.core.errors import BadInput
from vinter.core.sky.targets import CORE
from vinter.web.compute import PATIENT_SECONDS, StillComputing
from vinter.web.nights.almanac import almanac
from vinter.web.nights.models import preferences_of
from vinter.web.nights.years import judged_year
from vinter.web.sites.models import Site

LIKELY = 3  # people, and sites of each


def prepare_years() -> None:
    """Have this year and the next, with their events, of the sites of whoever was here last."""
    this = timezone.localdate().year
    for user in User.objects.filter(is_active=True).order_by(F("last_login").desc(nulls_last=True))[:LIKELY]:
        limits = preferences_of(user).limits()
        for site in Site.objects.filter(owner=user)[:LIKELY]:
            for year in (this, this + 1):
                with suppress(StillComputing, BadInput):
                    judged_year(site.core(), year, CORE, limits, PATIENT_SECONDS)
                    almanac(site.core(), year)
