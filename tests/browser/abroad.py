"""Her shot as if it had been planned in another part of the world."""

from vinter.web.shots.models import Shot
from vinter.web.sites.models import Site

PLACES = {  # latitude, longitude, zone
    "mill": (37.7, -8.78, "Europe/Lisbon"),
    "sheepfold": (-32.3, 20.0, "Africa/Johannesburg"),
    "harbour": (44.4, -68.2, "America/New_York"),
    "lake": (-45.0, 170.0, "Pacific/Auckland"),
}


def at(place, nerea):
    """Her shot, as if it had been planned somewhere else."""
    shot = Shot.objects.get(owner=nerea)
    lat, lon, zone = PLACES[place]
    shot.site = Site.objects.create(owner=nerea, name=place, lat=lat, lon=lon, tz=zone, zenith=21.5)
    shot.save()
    return Shot.objects.get(pk=shot.pk)
