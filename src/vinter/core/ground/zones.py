"""The time zone of a place, found offline."""

from functools import cache
from typing import TYPE_CHECKING

from vinter.core.errors import BadInput

if TYPE_CHECKING:
    from timezonefinder import TimezoneFinder


@cache
def _finder() -> "TimezoneFinder":
    from timezonefinder import TimezoneFinder  # a third of a second, for few processes

    return TimezoneFinder()


def zone_at(lat: float, lon: float) -> str:
    """IANA name of the zone at a position in degrees; at sea the nautical one. Borders are right to some
    hundred metres."""
    if not (-90 <= lat <= 90 and -180 <= lon <= 180):
        raise BadInput(f"{lat:g}, {lon:g} is not on the map")
    return str(_finder().timezone_at(lat=lat, lng=lon) or "UTC")
