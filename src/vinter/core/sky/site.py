"""A place to stand, as the sky sees it."""

from dataclasses import dataclass
from zoneinfo import ZoneInfo

from vinter.core.errors import BadInput
from vinter.core.sky.horizon import Horizon

CLEAN_EXTINCTION = 0.172  # mag per airmass on a clean mountain; low sites have 0.25 to 0.30


@dataclass(frozen=True, kw_only=True)
class Site:
    """Latitude and longitude in degrees (north, east positive), elevation in m, an IANA time zone.

    ``zenith`` is the brightness of the moonless zenith in V mag/arcsec^2, or None to take it from
    the town model; ``zenith_error`` its standard error where it is not a reading's. ``extinction`` is in
    magnitudes per airmass.
    """

    lat: float
    lon: float
    tz: str = "UTC"
    elevation: float = 0.0
    zenith: float | None = None
    zenith_error: float | None = None
    extinction: float = 0.25
    name: str = ""
    horizon: Horizon | None = None

    def __post_init__(self) -> None:
        checks = (
            (-90 <= self.lat <= 90, f"latitude {self.lat} is not within -90 to 90 degrees"),
            (-180 <= self.lon <= 180, f"longitude {self.lon} is not within -180 to 180 degrees"),
            (-500 <= self.elevation <= 9000, f"elevation {self.elevation} is not within -500 to 9000 m"),
            (
                self.zenith is None or 15 <= self.zenith <= 22.3,
                f"zenith brightness {self.zenith} is not within 15 to 22.3 mag/arcsec^2",
            ),
            (
                0.05 <= self.extinction <= 1.5,
                f"extinction {self.extinction} is not within 0.05 to 1.5 mag/airmass",
            ),
        )
        for good, message in checks:
            if not good:
                raise BadInput(message)
        _ = self.zone

    @property
    def zone(self) -> ZoneInfo:
        """The site's time zone; BadInput when the name is unknown."""
        try:
            return ZoneInfo(self.tz)
        except (KeyError, ValueError, OSError) as error:
            raise BadInput(f"time zone {self.tz!r} is not known") from error
