"""How far Vinter was off: what forecasts said against the skies that came, what plans assumed of the sky's
brightness against what frames measured."""

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import date

import numpy as np

PRIOR_NIGHTS = 4.0  # of a forecast that is right, that a record is weighed against
LEAST, MOST = 0.03, 0.97  # chances, beyond which no record of few nights speaks
SKY_SCATTER = 0.1  # mag/arcsec^2, by which single nights differ at least


@dataclass(frozen=True)
class ForecastNight:
    """A night with the chance of a clear sky that was said before it (0 to 1), and how much of it came (0 to
    1)."""

    day: date
    said: float
    came: float


@dataclass(frozen=True)
class SkyNight:
    """A night with the zenith's brightness it was planned with and what frames measured, mag/arcsec^2."""

    day: date
    planned: float
    measured: float
    error: float

    @property
    def off(self) -> float:
        """By how much the sky was darker than planned."""
        return self.measured - self.planned


@dataclass(frozen=True)
class ForecastRecord:
    """Nights, the mean of what was said and of what came, and the shift of the chance's log-odds that
    follows."""

    nights: int
    said: float
    came: float
    shift: float

    def corrected(self, chance: float) -> float:
        """A chance as the record would have it."""
        return _share(_odds(chance) + self.shift)


@dataclass(frozen=True)
class SkyRecord:
    """Nights, by how much the sky was darker than planned in the mean (mag/arcsec^2), and its error."""

    nights: int
    off: float
    error: float

    @property
    def significant(self) -> bool:
        """Whether it is more than chance."""
        return abs(self.off) > 2 * self.error


def _odds(share: float) -> float:
    held = min(max(share, LEAST), MOST)
    return float(np.log(held / (1 - held)))


def _share(odds: float) -> float:
    return float(1 / (1 + np.exp(-odds)))


def forecast_record(nights: Sequence[ForecastNight]) -> ForecastRecord | None:
    """The record of a site's forecasts; few nights move a chance little: they are weighed against
    ``PRIOR_NIGHTS`` on which the forecast was right. None without a night."""
    if not nights:
        return None
    said, came = (float(np.mean([getattr(n, name) for n in nights])) for name in ("said", "came"))
    weight = len(nights) / (len(nights) + PRIOR_NIGHTS)
    return ForecastRecord(len(nights), said, came, weight * (_odds(came) - _odds(said)))


def sky_record(nights: Sequence[SkyNight]) -> SkyRecord | None:
    """How far plans were off the measured sky, weighed by the errors; None without a night."""
    if not nights:
        return None
    errors = np.hypot([n.error for n in nights], SKY_SCATTER)
    weight = 1 / errors**2
    off = float(np.average([n.off for n in nights], weights=weight))
    return SkyRecord(len(nights), off, float(weight.sum() ** -0.5))
