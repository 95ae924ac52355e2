"""How much the air of a site takes away, learned from the stars of several nights."""

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

USUAL_AIR, AIR_ERROR = 0.22, 0.08  # mag an airmass that one picture's fit leans on, and its spread
FIT_FLOOR = 0.03  # mag an airmass: what a picture's error holds beside its fit's
NIGHT_TO_NIGHT = 0.04  # mag an airmass, by which the air of one site differs
KNOWN = 0.04  # mag an airmass: error from which the air of a site counts as known
LEAST_CHANGE = 0.02  # mag an airmass, under which nothing is changed


@dataclass(frozen=True)
class LearnedAir:
    """Extinction of a site in mag an airmass with its standard error, and the nights it comes from."""

    value: float
    error: float
    nights: int

    @property
    def words(self) -> str:
        """Said in one phrase."""
        many = "one night" if self.nights == 1 else f"{self.nights} nights"
        return f"{self.value:.2f} ± {self.error:.2f} mag an airmass from the stars of {many}"


def learned_air(nights: Sequence[tuple[float, float]], before: float) -> LearnedAir | None:
    """The air of a site from (extinction, standard error) of its nights, in mag an airmass, each as
    ``measure_sky`` gives them; None while it is not known well, or is as it was taken before.

    What each fit leaned on is taken out again, so that many poor nights do not add up to the usual value.
    """
    values, weights = [], []
    for air, error in nights:
        own = 1 / max(error**2 - FIT_FLOOR**2, 1e-6)
        alone = own - 1 / AIR_ERROR**2
        if alone <= 0.05 / AIR_ERROR**2:
            continue  # that night's stars stood at one height and told nothing
        values.append((air * own - USUAL_AIR / AIR_ERROR**2) / alone)
        weights.append(1 / (1 / alone + FIT_FLOOR**2 + NIGHT_TO_NIGHT**2))
    if not values:
        return None
    value = float(np.average(values, weights=weights))
    error = float(np.sqrt(1 / np.sum(weights)))
    if error > KNOWN or abs(value - before) < max(LEAST_CHANGE, error) or not 0.05 < value < 0.8:
        return None
    return LearnedAir(round(value, 2), round(error, 2), len(values))
