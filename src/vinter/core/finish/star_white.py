"""What the stars say of white: catalogue colours of matched stars against the colours a picture has of
them."""

from dataclasses import dataclass

import numpy as np
import numpy.typing as npt
from scipy.spatial import cKDTree

from vinter.core.sky.brightness import ray_airmass
from vinter.core.sky.catalogue import stars_to
from vinter.core.stack.plate_solve import Solution

F32 = npt.NDArray[np.float32]
Array = npt.NDArray[np.float64]
SUN_BV = 0.65
FAINTEST = 8.0
REACH_PX = 2.5
APERTURE, RING = 4, (7, 10)  # px about a star whose light is summed, and of its surroundings
CUT = 0.7  # share of full scale above which a star may be clipped
LEAST_STARS, LEAST_SNR = 25, 12.0
LOWEST = 12.0  # degrees of altitude, under which the air reddens what it shows
USUAL_REDDENING = 0.15  # change of a colour's logarithm per airmass that a fit leans on
FAR = 2.5  # standard deviations beyond which a star (blended, variable) is left out


@dataclass(frozen=True, kw_only=True)
class StarWhite:
    """Camera colours (red and blue over green) of a star like the Sun, their standard errors in magnitudes,
    and the stars they come from."""

    red: float
    blue: float
    red_error: float
    blue_error: float
    stars: int

    @property
    def neutral(self) -> Array:
        """Camera colours (3,) of a Sun-like star, green 1."""
        return np.array([self.red, 1.0, self.blue])

    @property
    def error(self) -> float:
        """The larger of the two errors, mag."""
        return max(self.red_error, self.blue_error)


def star_white(rgb: F32, sky: F32, field: Solution, found: Array) -> StarWhite | None:
    """The camera colours of a Sun-like star in a solved full-size picture with stars ``found`` at places
    (n, 2); None with too few stars.

    The logarithm of red (blue) over green is fitted as a straight line of B-V and, where the heights are
    known, of the air they shine through, robustly; its value at the Sun's B-V and through the air of the
    middling star is the answer. Stars that may be cut, that are low, or in the ground are left out.
    """
    if len(found) < LEAST_STARS:
        return None
    vectors, _, bv = stars_to(FAINTEST)
    x, y, front = field.places(vectors)
    margin = RING[1] + 2
    inside = front & (x > margin) & (y > margin) & (x < field.width - margin) & (y < field.height - margin)
    at, colours = np.c_[x, y][inside], bv[inside]
    air: Array | None = None
    away, which = cKDTree(found).query(at, distance_upper_bound=REACH_PX)
    near = np.isfinite(away)
    places, colours = found[which[near]], colours[near]
    if field.zenith and len(places):
        altitude = field.altitudes(places)
        high = altitude > LOWEST
        places, colours, air = places[high], colours[high], ray_airmass(altitude[high])
    light, error, fine = _light(rgb, sky, places)
    use = fine & (light > LEAST_SNR * error).all(axis=1)
    if use.sum() < LEAST_STARS:
        return None
    light, error, colours = light[use], error[use], colours[use]
    air = None if air is None else air[use]
    red, red_error = _at_sun(np.log(light[:, 0] / light[:, 1]), colours, _spread(light, error, 0), air)
    blue, blue_error = _at_sun(np.log(light[:, 2] / light[:, 1]), colours, _spread(light, error, 2), air)
    return StarWhite(
        red=float(np.exp(red)),
        blue=float(np.exp(blue)),
        red_error=float(red_error * 1.0857),
        blue_error=float(blue_error * 1.0857),
        stars=int(use.sum()),
    )


def _spread(light: Array, error: Array, c: int) -> Array:
    """Relative error of a colour's light over green's, with a floor for blends and star shapes."""
    return np.asarray(np.hypot(np.hypot(error[:, c] / light[:, c], error[:, 1] / light[:, 1]), 0.03))


def _light(rgb: F32, sky: F32, places: Array) -> tuple[Array, Array, npt.NDArray[np.bool_]]:
    """Light (n, 3) of stars less their surroundings, its errors, and which can be trusted."""
    reach = RING[1]
    gy, gx = np.mgrid[-reach : reach + 1, -reach : reach + 1]
    light, errors = np.zeros((len(places), 3)), np.ones((len(places), 3))
    fine = np.zeros(len(places), bool)
    for i, (x, y) in enumerate(places):
        cx, cy = round(float(x)), round(float(y))
        part = np.s_[cy - reach : cy + reach + 1, cx - reach : cx + reach + 1]
        patch = rgb[part]
        if patch.shape[:2] != gx.shape or sky[part].min() < 0.98 or patch.max() > CUT:
            continue
        radius = np.hypot(gx - (x - cx), gy - (y - cy))
        ring = patch[(radius > RING[0]) & (radius < RING[1])]
        weight = np.clip(APERTURE + 0.5 - radius, 0, 1)
        level = np.median(ring, axis=0)
        noise = 1.4826 * np.median(np.abs(ring - level), axis=0) + 1e-9
        light[i] = ((patch - level) * weight[..., None]).sum(axis=(0, 1))
        # of a demosaiced picture neighbours are not independent: twice the noise of independent ones
        errors[i] = 2 * noise * np.sqrt((weight**2).sum())
        fine[i] = (light[i] > 0).all()
    return light, errors, fine


def _at_sun(ratio: Array, bv: Array, spread: Array, air: Array | None) -> tuple[float, float]:
    """Value of a robust plane of B-V and airmass at the Sun's and at the median airmass, and its error."""
    through = np.zeros(len(bv)) if air is None else air - np.median(air)
    design = np.c_[np.ones(len(bv)), bv - SUN_BV, through]
    keep = np.ones(len(bv), bool)
    best, cov, scatter = np.zeros(3), np.eye(3), 1.0
    for _ in range(8):
        weight = 1 / spread[keep] ** 2
        normal = design[keep].T @ (design[keep] * weight[:, None]) + np.diag(
            [0.0, 1e-3, 1 / USUAL_REDDENING**2]
        )
        best = np.linalg.solve(normal, design[keep].T @ (weight * ratio[keep]))
        cov = np.linalg.inv(normal)
        off = (ratio - design @ best) / spread
        scatter = max(1.4826 * float(np.median(np.abs(off[keep]))), 0.5)
        keep = np.abs(off) < FAR * scatter
        if keep.sum() < LEAST_STARS // 2:
            break
    return float(best[0]), float(np.sqrt(cov[0, 0]) * max(scatter, 1.0))
