"""What was last read of the forecast for a site, and what went wrong since."""

from dataclasses import asdict

from django.db import models
from django.utils import timezone

from vinter.core.forecast import Forecast, Hour
from vinter.web.sites.models import Site


class CachedForecast(models.Model):
    """The newest forecast of a site. A failed request leaves the hours as they were and notes the failure."""

    site = models.OneToOneField(Site, models.CASCADE, related_name="forecast")
    issued = models.FloatField(null=True)
    source = models.CharField(max_length=200, default="")
    hours = models.JSONField(default=list)
    asked = models.DateTimeField(null=True)
    failure = models.CharField(max_length=300, default="", blank=True)

    def __str__(self) -> str:
        return f"forecast for {self.site}"

    def core(self) -> Forecast | None:
        """The forecast for the core; None when nothing was ever read."""
        if self.issued is None:
            return None
        return Forecast(self.issued, self.source, tuple(Hour(**h) for h in self.hours))

    def store(self, forecast: Forecast) -> None:
        """Store a forecast in place of the one before."""
        self.issued, self.source, self.failure = forecast.issued, forecast.source, ""
        self.hours = [asdict(h) for h in forecast.hours]
        self.asked = timezone.now()
        self.save()

    def fail(self, words: str) -> None:
        """Note that asking failed."""
        self.failure, self.asked = words[:300], timezone.now()
        self.save()
