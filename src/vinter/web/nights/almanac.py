"""The year's other events at a site, kept in memory."""

from dataclasses import dataclass

from vinter.core.sky.almanac import Event, events
from vinter.core.sky.ephemeris import check_year
from vinter.core.sky.site import Site
from vinter.web.byte_cache import ByteCache, Sized, bytes_of
from vinter.web.compute import StillComputing, remembered

ALMANACS = ByteCache(8 * 2**20)


@dataclass(frozen=True, kw_only=True)
class Almanac(Sized):
    """The events of a calendar year at a site."""

    events: list[Event]


def compute_almanac(site: Site, year: int) -> Almanac:
    """For a process of the pool."""
    found = events(site, year)
    return Almanac(events=found, known_bytes=bytes_of(found))


def almanac(site: Site, year: int) -> list[Event]:
    """The events of a year. StillComputing when a page would wait too long for them."""
    check_year(year)
    return remembered(ALMANACS, ("almanac", site, year), compute_almanac, site, year).events


def almanac_if_known(site: Site, year: int) -> list[Event]:
    """The events of a year if they are there at once; none, and they are worked out meanwhile, else."""
    try:
        found = remembered(ALMANACS, ("almanac", site, year), compute_almanac, site, year, seconds=0.05)
    except StillComputing:
        return []
    return found.events
