"""How much darker a lens is towards its corners, measured from the stars of a solved picture against the
catalogue.

The sky's own glow cannot tell a dark corner from a dark sky; a star's light can. Three things dim it: the
lens, by r squared and r to the fourth from the centre; the air, by airmass; and chance (colour, crowding,
variability), which falls with the number. A surface (the sky, the ground) is dimmed more than a star: towards
the corner of a flat picture a pixel sees a smaller piece of it, by the cube of the cosine of the angle from
the axis. Phones even their files out for surfaces, so in them stars may come out brighter in the corners.
"""

from dataclasses import dataclass

import numpy as np
import numpy.typing as npt
from scipy.spatial import cKDTree

from vinter.core.sky.brightness import ray_airmass
from vinter.core.sky.catalogue import stars_to, to_horizon
from vinter.core.sky.site import Site
from vinter.core.stack.plate_solve import Solution
from vinter.core.versions import Data

Array = npt.NDArray[np.float64]
F32 = npt.NDArray[np.float32]
FAINTEST, BRIGHTEST = 6.3, 1.5  # V of the stars used
REACH_PX = 4.0
LEAST_STARS = 60
LOWEST = 20.0  # degrees of altitude, below which haze in layers counts
USUAL_AIR, AIR_ERROR = 0.22, 0.08  # mag an airmass at a good site, and its spread from night to night
CORNER_FLOOR, AIR_FLOOR = (
    0.05,
    0.03,
)  # mag: star images that change over the field, colours, the shape of the air
MOST_GAIN = 4.0
DARKEST_CORNER = 2.5  # mag: nothing beyond is believed of a lens


@dataclass(frozen=True, kw_only=True)
class Vignetting:
    """Dimming of a surface in mag: ``square`` r^2 + ``fourth`` r^4 with r = 1 in the corner; the corner's
    with its standard error, negative where it is brighter; ``starlight`` what a star there loses; the air's
    dimming in mag an airmass with its error; scatter of a star in mag, and the stars used."""

    square: float
    fourth: float
    corner: float
    corner_error: float
    starlight: float
    air: float
    air_error: float
    scatter: float
    stars: int

    @property
    def significant(self) -> bool:
        """Whether the corners are known to differ from the centre: by two standard errors, known to a quarter
        of a magnitude."""
        return abs(self.corner) > 2 * self.corner_error and self.corner_error < 0.25

    @property
    def to_even(self) -> bool:
        """Whether they are to be evened out: darker, and by no more than a lens darkens them."""
        return self.significant and 0 < self.corner < DARKEST_CORNER

    def gains(self, size: tuple[int, int]) -> F32:
        """By how much every pixel (height, width) must be multiplied, at most four times."""
        width, height = size
        y, x = np.mgrid[:height, :width].astype(np.float32)
        r2 = ((x - (width - 1) / 2) ** 2 + (y - (height - 1) / 2) ** 2) / (
            ((width - 1) / 2) ** 2 + ((height - 1) / 2) ** 2
        )
        dimming = np.maximum(self.square * r2 + self.fourth * r2 * r2, 0)
        return np.asarray(np.minimum(10 ** (0.4 * dimming), MOST_GAIN), np.float32)


def corner_words(found: Data) -> str:
    """What is said of a stored fall-off: sky and stars told apart, each darker or brighter than in the
    centre, and whether it was evened out."""

    def signed(value: float) -> str:
        return f"{abs(value):.2f} mag {'darker' if value > 0 else 'brighter'}"

    corner, error = found["corner"], found["corner_error"]
    if not found["significant"]:
        return f"even: {signed(corner)} ± {error:.2f} mag, not more than its error allows"
    done = "evened out" if found["taken_out"] else "left as they are"
    stars = f"; stars there {signed(found['starlight'])}" if "starlight" in found else ""
    return f"{signed(corner)} ± {error:.2f} mag, {done}{stars}"


def measure_vignetting(
    xy: Array, light: F32, solution: Solution, site: Site, unix: float
) -> Vignetting | None:
    """The fall-off of a surface from stars at pixels (n, 2) with their light (any linear unit), the sky that
    a pixel sees counted; None with too few of them.

    A robust least-squares fit; the air is held near what is usual, by its spread. Errors are those of the
    fit, with a floor for what the fit does not prepare.
    """
    vectors, v, _ = stars_to(FAINTEST)
    chosen = np.flatnonzero(v > BRIGHTEST)
    ra = np.degrees(np.arctan2(vectors[chosen, 1], vectors[chosen, 0]))
    dec = np.degrees(np.arcsin(np.clip(vectors[chosen, 2], -1, 1)))
    x, y, front = solution.pixels(np.c_[ra, dec])
    altitude = np.degrees(np.arcsin(np.clip((vectors[chosen] @ to_horizon(site, unix).T)[:, 2], -1, 1)))
    there = front & (altitude > LOWEST) & (x > 0) & (x < solution.width) & (y > 0) & (y < solution.height)
    chosen, at, altitude = chosen[there], np.c_[x[there], y[there]], altitude[there]
    if len(chosen) < LEAST_STARS or not len(xy):
        return None
    distance, nearest = cKDTree(xy).query(at, distance_upper_bound=REACH_PX)
    found = np.isfinite(distance)
    found[found] &= light[nearest[found]] > 0
    if found.sum() < LEAST_STARS:
        return None
    smaller = smaller_sky(solution, at[found])
    dim = -2.5 * np.log10(light[nearest[found]].astype(float)) - v[chosen[found]] + smaller
    half = np.array([(solution.width - 1) / 2, (solution.height - 1) / 2])
    r2 = ((at[found] - half) ** 2).sum(axis=1) / (half**2).sum()
    air = ray_airmass(altitude[found])
    corner = smaller_sky(solution, np.zeros((1, 2)))[0]
    return _fit(dim, r2, air, float(corner))


def smaller_sky(field: Solution, xy: Array) -> Array:
    """By how many magnitudes pixels (n, 2) see less sky than the one on the axis: 7.5 log10(sec theta) in a
    flat picture."""

    def seen(at: Array) -> Array:
        right, down = (field.rays(at + step) - field.rays(at - step) for step in ((0.5, 0), (0, 0.5)))
        return np.asarray(np.linalg.norm(np.cross(right, down), axis=1))

    return np.asarray(-2.5 * np.log10(seen(np.asarray(xy, float)) / seen(np.array([field.middle]))))


def _fit(dim: Array, r2: Array, air: Array, smaller: float) -> Vignetting | None:
    """Zero point, air, r^2 and r^4 of a surface (``smaller``: what a pixel in the corner sees less, mag),
    with outliers (blends, variables) left out; the air's usual value counts as a measure."""
    design = np.c_[np.ones(len(dim)), air, r2, r2**2]
    keep = np.ones(len(dim), bool)
    scatter = float(np.std(dim))
    best, cov = np.zeros(4), np.eye(4)
    for _ in range(8):
        weight = 1 / max(scatter, 0.03) ** 2
        normal = weight * design[keep].T @ design[keep]
        right = weight * design[keep].T @ dim[keep]
        normal[1, 1] += 1 / AIR_ERROR**2
        right[1] += USUAL_AIR / AIR_ERROR**2
        best, cov = np.linalg.solve(normal, right), np.linalg.inv(normal)
        off = np.abs(design @ best - dim)
        scatter = 1.4826 * float(np.median(off[keep]))
        keep = off < max(2.5 * scatter, 0.1)
        if keep.sum() < LEAST_STARS:
            return None
    corner = np.array([0, 0, 1, 1.0])
    errors = (
        float(np.hypot(np.sqrt(v), floor))
        for v, floor in ((corner @ cov @ corner, CORNER_FLOOR), (cov[1, 1], AIR_FLOOR))
    )
    return Vignetting(
        square=float(best[2]),
        fourth=float(best[3]),
        corner=float(corner @ best),
        corner_error=next(errors),
        starlight=float(corner @ best) - smaller,
        air=float(best[1]),
        air_error=next(errors),
        scatter=scatter,
        stars=int(keep.sum()),
    )
