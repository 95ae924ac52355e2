"""Where forecasts come from: one small interface, and the one that asks a service over HTTP."""

import urllib.error
import urllib.parse
import urllib.request
from datetime import datetime
from typing import Protocol

from django.conf import settings
from pydantic import BaseModel, Field, ValidationError

from vinter.core.errors import BadInput
from vinter.core.forecast import MOST_HOURS, Forecast, Hour
from vinter.core.json_input import read_json

PATIENCE = 4.0  # s to wait for the provider
LARGEST = 2 * 2**20  # bytes of an answer


class ForecastFailed(Exception):
    """The forecast could not be had; says why in a sentence."""


class Provider(Protocol):
    """Anything that gives a forecast for a place."""

    name: str

    def fetch(self, lat: float, lon: float) -> Forecast:
        """The newest forecast; ForecastFailed when there is none to be had."""


class _Answer(BaseModel):
    issued: datetime
    hours: list[dict[str, float]] = Field(min_length=1, max_length=MOST_HOURS)


class HttpProvider:
    """Asks a service that answers GET with lat and lon by JSON: issued (ISO time) and hours (see
    core/forecast.py)."""

    def __init__(self, url: str, habit: str = "") -> None:
        self.name, self.url, self.habit = "forecast service", url, habit

    def fetch(self, lat: float, lon: float) -> Forecast:
        """One request, with limits on time and size."""
        query = urllib.parse.urlencode(
            {"lat": lat, "lon": lon, **({"habit": self.habit} if self.habit else {})}
        )
        try:
            with urllib.request.urlopen(f"{self.url}?{query}", timeout=PATIENCE) as response:
                text = response.read(LARGEST)
        except TimeoutError as error:
            raise ForecastFailed(f"The forecast service did not answer within {PATIENCE:.0f} s.") from error
        except urllib.error.HTTPError as error:
            raise ForecastFailed(f"The forecast service failed (it answered {error.code}).") from error
        except (OSError, ValueError) as error:
            reason = getattr(error, "reason", error)
            if isinstance(reason, TimeoutError):
                raise ForecastFailed(
                    f"The forecast service did not answer within {PATIENCE:.0f} s."
                ) from error
            raise ForecastFailed(f"The forecast service could not be reached ({reason}).") from error
        try:
            answer = _Answer.model_validate(read_json(text, self.url))
            hours = tuple(sorted((Hour(**h) for h in answer.hours), key=lambda h: h.t))
        except (ValidationError, ValueError, TypeError, BadInput) as error:
            raise ForecastFailed("The forecast service answered something that is not a forecast.") from error
        return Forecast(answer.issued.timestamp(), self.name, hours)


def provider(habit: str = "") -> Provider | None:
    """The provider the settings name; None where there is none."""
    return HttpProvider(settings.FORECAST_URL, habit) if settings.FORECAST_URL else None
