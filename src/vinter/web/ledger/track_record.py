"""How far Vinter was off: what forecasts said against the skies that came, what plans assumed of the sky's
brightness against what frames measured."""

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import date

import numpy as np
import numpy.typing as npt

BIAS_SPREAD = 0.7  # log-odds, spread of the bias of forecasts over sites: a record is weighed against it
SURE_FROM = 1.8  # standard errors from which a bias is used: below them it costs more than it gains
LEAST, MOST = 0.03, 0.97  # chances, held there when a bias is sought: no single night outweighs all others
STEPS = 20  # steps of Newton's method towards the shift
SKY_SCATTER = 0.1  # mag/arcsec^2, by which single nights differ at least
SKY_SHARED = 0.1  # mag/arcsec^2, error of a phone's zero point, which all its nights share


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
    """Nights, the mean of what was said and of what came, and the shift of a chance's log-odds that follows,
    with its error."""

    nights: int
    said: float
    came: float
    shift: float
    error: float

    @property
    def significant(self) -> bool:
        """Whether the nights show a bias that is worth using."""
        return abs(self.shift) > SURE_FROM * self.error

    def corrected(self, chance: float) -> float:
        """A chance (0 to 1) as the record would have it: the chance itself as long as no bias shows; 0 and 1
        stay."""
        if not self.significant or not 0 < chance < 1:
            return chance
        return float(_share(np.log(chance / (1 - chance)) + self.shift))


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


def _share(odds: npt.ArrayLike) -> npt.NDArray[np.float64]:
    return np.asarray(1 / (1 + np.exp(-np.asarray(odds, float))))


def forecast_record(nights: Sequence[ForecastNight]) -> ForecastRecord | None:
    """The record of a site's forecasts: the shift of all their log-odds that makes what came most likely,
    weighed against biases of ``BIAS_SPREAD`` (the mode of the posterior, its error the curvature there). None
    without a night."""
    if not nights:
        return None
    said, came = (np.array([getattr(n, name) for n in nights], float) for name in ("said", "came"))
    held = np.clip(said, LEAST, MOST)
    odds = np.log(held / (1 - held))
    shift = 0.0
    for _ in range(STEPS):
        likely = _share(odds + shift)
        curvature = float((likely * (1 - likely)).sum()) + BIAS_SPREAD**-2
        shift += (float((came - likely).sum()) - shift / BIAS_SPREAD**2) / curvature
    return ForecastRecord(len(nights), float(said.mean()), float(came.mean()), shift, curvature**-0.5)


def sky_record(nights: Sequence[SkyNight]) -> SkyRecord | None:
    """How far plans were off the measured sky, weighed by the errors, with the error that all nights share;
    None without a night."""
    if not nights:
        return None
    errors = np.hypot([n.error for n in nights], SKY_SCATTER)
    weight = 1 / errors**2
    off = float(np.average([n.off for n in nights], weights=weight))
    return SkyRecord(len(nights), off, float(np.hypot(weight.sum() ** -0.5, SKY_SHARED)))
