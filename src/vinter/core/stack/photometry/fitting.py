"""A fall-off fitted to what stars lose by a lens and by the air: least squares in which each star counts by
its noise, and what is usual of lenses and of the air by its spread."""

from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np
import numpy.typing as npt
from scipy.optimize import nnls

Array = npt.NDArray[np.float64]
LEAST_STARS = 60
USUAL_AIR, AIR_ERROR = 0.22, 0.08  # mag an airmass at a good site, and its spread from night to night
POWERS = np.array([1, 2, 4])  # of r squared, by which light is lost
EIGHTH_ERROR = 0.07  # share of the light that is usual of r^8 in the corner
LEAST_LEFT, MOST_LOST = 0.05, 0.93  # shares of the light that a fit believes of any place
STARS_OF_A_GROUP, LEAST_NOISE = 30, 0.03  # whose noise is told; mag of the noise of any star
ROUNDS = 8
MAG = 2.5 / np.log(10)  # of a factor e


def mag_lost(lost: Sequence[float] | Array, r2: Array) -> Array:
    """Dimming in mag at squared distances (any shape; corner 1) of light that goes by r^2, r^4, r^8."""
    first, second, third = (float(share) for share in lost)
    gone = r2 * (first + r2 * (second + r2 * r2 * third))
    return np.asarray(-MAG * np.log(np.maximum(1 - gone, LEAST_LEFT)))


@dataclass(frozen=True)
class Fit:
    """A fall-off fitted under one course of the air, or the mean of several: its terms and, last, the air's
    (mag an airmass), their covariances, how the corner's dimming (mag) grows with each term of the fall-off,
    the misfit (chi squared; what is known beforehand counts), the scatter of a star (mag), how many were used
    and the noise of each (n; mag)."""

    best: Array
    cov: Array
    growth: Array
    misfit: float
    scatter: float
    stars: int
    noise: Array

    @property
    def corner_error(self) -> float:
        """Standard error of the corner's dimming, mag."""
        return float(np.sqrt(self.growth @ self.cov[:-1, :-1] @ self.growth))


def weighed(fits: Sequence[Fit]) -> Fit:
    """The mean of fits, each by its likelihood; what they differ by is part of the error."""
    misfits = np.array([fit.misfit for fit in fits])
    weight = np.exp(-(misfits - misfits.min()) / 2)
    weight /= weight.sum()
    best = np.asarray(sum(w * fit.best for w, fit in zip(weight, fits, strict=True)))
    cov = np.asarray(
        sum(
            w * (fit.cov + np.outer(fit.best - best, fit.best - best))
            for w, fit in zip(weight, fits, strict=True)
        )
    )
    likeliest = fits[int(np.argmin(misfits))]
    return replace(likeliest, best=best, cov=cov)


@dataclass(frozen=True)
class SeenStars:
    """Stars: what each lost, were its light a surface's (mag); its magnitude without that; and the squared
    distance from the middle, 1 in the corner."""

    dim: Array
    bare: Array
    r2: Array


def fit_under(seen: SeenStars, air: Array, known: Array | None = None) -> Fit | None:
    """The fit under one course of the air (airmass of every star), with outliers (blends, variables) left
    out; what is usual of the air and of r^8 counts as a measure. ``known`` is the noise of a star, mag."""
    gone = seen.r2[:, None] ** POWERS
    usual = np.array([0.0, 0.0, 0.0, USUAL_AIR, 0.0])
    surety = np.array([0.0, 0.0, EIGHTH_ERROR**-2, AIR_ERROR**-2, 0.0])
    best = usual.copy()
    best[4] = np.median(seen.dim - USUAL_AIR * air)
    noise = np.full(len(air), float(np.std(seen.dim))) if known is None else known
    keep = np.ones(len(air), bool)
    for _ in range(ROUNDS):
        left = np.maximum(1 - gone @ best[:3], LEAST_LEFT)
        grows = np.c_[MAG * gone / left[:, None], air, np.ones(len(air))]
        short = seen.dim + MAG * np.log(left) - best[3] * air - best[4]
        weight = keep / noise**2
        normal = (grows * weight[:, None]).T @ grows + np.diag(surety)
        best = best + np.linalg.solve(normal, grows.T @ (weight * short) + surety * (usual - best))
        best[:3] *= min(1.0, MOST_LOST / max(float(best[:3].sum()), MOST_LOST))
        told = mag_lost(best[:3], seen.r2) + best[3] * air + best[4]
        off = np.abs(seen.dim - told)
        if known is None:
            noise = _noise(off, seen.bare + told)
        keep = off < np.maximum(2.5 * noise, 0.1)
        if keep.sum() < LEAST_STARS:
            return None
    return Fit(
        best=best[:4],
        cov=np.linalg.inv(normal)[:4, :4],
        growth=np.full(3, MAG / (1 - float(best[:3].sum()))),
        misfit=float((np.minimum(off / noise, 2.5) ** 2).sum() + (surety * (best - usual) ** 2).sum()),
        scatter=1.4826 * float(np.median(off[keep])),
        stars=int(keep.sum()),
        noise=noise,
    )


def _noise(off: Array, magnitude: Array) -> Array:
    """Noise of every star, mag, from what is left of a fit and the magnitude (any zero) that it foretells:
    colours, crowding and variability the same for all, and that of the sky, which counts by the light."""
    order = np.argsort(magnitude)
    fainter = 10 ** (0.8 * (magnitude - magnitude.max()))  # squared, against the faintest
    square = (1.4826 * _medians(off[order])) ** 2
    rows = np.c_[np.ones(len(square)), _medians(fainter[order])]
    share = 1 / np.maximum(square, LEAST_NOISE**2)
    alike, by_light = nnls(rows * share[:, None], square * share)[0]
    return np.asarray(np.sqrt(np.maximum(alike, LEAST_NOISE**2) + by_light * fainter))


def _medians(values: Array) -> Array:
    """Medians of groups of about STARS_OF_A_GROUP of values that follow one another; there are three at
    least."""
    many = max(3, len(values) // STARS_OF_A_GROUP)
    size, larger = divmod(len(values), many)
    first, rest = values[: larger * (size + 1)], values[larger * (size + 1) :]
    parts = (first.reshape(larger, size + 1), rest.reshape(-1, size))
    return np.concatenate([np.median(part, axis=1) for part in parts if part.size])
