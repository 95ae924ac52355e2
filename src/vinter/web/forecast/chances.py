"""What the forecast last read says of nights, without asking for a new one."""

import time

from vinter.core.forecast import USEFUL_DAYS, Outlook, outlook
from vinter.core.sky.nights import Night
from vinter.web.forecast.models import CachedForecast
from vinter.web.sites.models import Site


def cloud_over(site: Site, start: float, end: float) -> float:
    """Share of the sky under cloud between two Unix times, as last forecast; 0 where no forecast reaches."""
    cached = CachedForecast.objects.filter(site=site).first()
    forecast = cached.core() if cached else None
    hours = forecast.between(start, end) if forecast else []
    return sum(1 - h.clear for h in hours) / len(hours) if hours else 0.0


class Chances:
    """The chance of a clear sky for nights of one site; None where no forecast reaches."""

    def __init__(self, site: Site) -> None:
        cached = CachedForecast.objects.filter(site=site).first()
        self.forecast = cached.core() if cached else None

    def outlook(self, night: Night) -> Outlook | None:
        """Chance with its error, for the night's best window."""
        now, window = time.time(), night.best
        if (
            self.forecast is None
            or window is None
            or not now - 86400 < window.start < now + USEFUL_DAYS * 86400
        ):
            return None
        return outlook(self.forecast, window.start, window.end, now)

    def chance(self, night: Night) -> float | None:
        """The chance alone, 0 to 1."""
        found = self.outlook(night)
        return found.chance if found else None
