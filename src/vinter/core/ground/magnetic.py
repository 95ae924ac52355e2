"""What a compass shows: the Earth's field turns it from true north by the declination of place and year."""

from dataclasses import dataclass
from datetime import UTC, datetime
from functools import lru_cache

from vinter.core.errors import BadInput

MODEL, FIRST, LAST = "WMM 2025", 2025.0, 2030.0  # the model's years
DRIFT = 0.15  # degrees a year, by which a declination beyond them may be off more
YEAR_SECONDS = 365.25 * 86400


@dataclass(frozen=True)
class Declination:
    """Degrees by which a compass points east of true north, with the model's error, and the year it is
    for."""

    degrees: float
    error: float
    year: float

    def compass(self, azimuth: float) -> float:
        """What a compass shows towards a true azimuth (degrees, 0 to 360)."""
        return (azimuth - self.degrees) % 360

    def true(self, shown: float) -> float:
        """The true azimuth of what a compass shows (degrees, 0 to 360)."""
        return (shown + self.degrees) % 360

    @property
    def words(self) -> str:
        """The declination with its error, the model and the year."""
        side = "east" if self.degrees >= 0 else "west"
        return (
            f"declination {abs(self.degrees):.1f}° {side} ± {self.error:.1f}°, {MODEL}, for {int(self.year)}"
        )


def declination(lat: float, lon: float, elevation: float = 0.0, unix: float | None = None) -> Declination:
    """The declination at a place (degrees, m) and time (Unix s; none: the midpoint of the model's years), by
    the World Magnetic Model of 2025; beyond its years its ends count, with an error that grows. BadInput for
    no place."""
    if not (-90 <= lat <= 90 and -180 <= lon <= 180):
        raise BadInput(f"{lat:g}, {lon:g} is not on the map")
    year = 2027.5 if unix is None else _year(unix)
    return _modelled(round(lat, 3), round(lon, 3), round(elevation, -2), round(year, 1))


def _year(unix: float) -> float:
    start = datetime.fromtimestamp(unix, UTC).year
    return start + (unix - datetime(start, 1, 1, tzinfo=UTC).timestamp()) / YEAR_SECONDS


@lru_cache(maxsize=512)
def _modelled(lat: float, lon: float, elevation: float, year: float) -> Declination:
    from pygeomag import GeoMag

    within = min(max(year, FIRST), LAST - 0.01)
    found = GeoMag().calculate(glat=lat, glon=lon, alt=elevation / 1000, time=within)
    error = float(found.calculate_uncertainty().d) + DRIFT * abs(year - within)
    return Declination(float(found.d), error, year)
