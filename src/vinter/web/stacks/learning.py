"""What a finished stack teaches of its site: the brightness of the sky, the air, the lamps that shine in."""

from vinter.core.sky.learned_air import learned_air
from vinter.core.sky.nights import evening_of
from vinter.core.sky.site_sky import FROM_FRAMES
from vinter.web.sites.models import Reading, Site
from vinter.web.stacks.models import Stack
from vinter.web.stacks.plate import field_time

MOST_ERROR = 0.2  # mag, beyond which a measured sky is not taken for a reading


def learn_site(one: Stack) -> None:
    """Take over what a stack with a solved field measured; each can be refused at the site."""
    if one.take.site is None or not one.report:
        return
    site = Site.objects.get(pk=one.take.site.pk)
    learn_sky(one, site)
    learn_air(site)
    for lamp in one.report.get("lamps", []):
        evening = evening_of(site.core(), field_time(one))
        words = f"shines in your frames of {evening:%-d %B %Y}, {lamp['altitude']:.0f}° high"
        site.add_light(lamp["azimuth"], words, one.pk)


def learn_sky(one: Stack, site: Site) -> None:
    """The sky that a stack's frames measured becomes a reading of its site, once; deleting it refuses it."""
    sky = (one.report or {}).get("sky")
    if not sky or sky["error"] > MOST_ERROR:
        return
    evening = evening_of(site.core(), field_time(one))
    note = f"from {sky['stars']} stars in {one.take.title}, ± {sky['error']:.2f}"
    Reading.objects.update_or_create(
        site=site,
        stack=one.pk,
        defaults={
            "day": evening,
            "zenith": sky["zenith"],
            "error": sky["error"],
            "source": FROM_FRAMES,
            "note": note[:200],
        },
    )


def learn_air(site: Site) -> None:
    """The air as the newest stack of each night of this site saw it, unless its owner refused."""
    before = site.learned.get("air", {})
    if before.get("refused"):
        return
    by_night: dict[object, tuple[float, float]] = {}
    for one in Stack.objects.filter(owner=site.owner_id).select_related("take__shot__site", "take__own_site"):
        sky = (one.report or {}).get("sky")
        if sky and "air_error" in sky and one.take.site == site:
            by_night.setdefault(evening_of(site.core(), field_time(one)), (sky["air"], sky["air_error"]))
    found = learned_air(list(by_night.values()), before.get("before", site.extinction))
    if found:
        site.take_air(found)
