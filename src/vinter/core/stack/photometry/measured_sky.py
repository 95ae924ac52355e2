"""How bright the sky was, measured in a solved picture: its stars tell what a magnitude is, the sky between
them how bright it was, and the model of towns and air what that means for the zenith."""

from dataclasses import dataclass, replace
from itertools import pairwise

import numpy as np
import numpy.typing as npt

from vinter.core.sky import ephemeris as eph
from vinter.core.sky.brightness import ray_airmass, to_magnitudes, to_nanolamberts
from vinter.core.sky.catalogue import stars_to, to_horizon
from vinter.core.sky.diffuse_light import band_light, diffuse
from vinter.core.sky.learned_air import AIR_ERROR, FIT_FLOOR, USUAL_AIR
from vinter.core.sky.site import Site
from vinter.core.stack.plate_solve import Solution

F32 = npt.NDArray[np.float32]
Array = npt.NDArray[np.float64]
BRIGHTEST, FAINTEST = 2.5, 6.5  # V of the stars used
APERTURE, RING = 7.0, (9.0, 13.0)  # px about a star whose light is summed, and of its surroundings
CUT = 0.7  # share of full scale above which a star may be clipped
LEAST_STARS, LEAST_PATCHES = 40, 12
LOWEST_STAR, LOWEST_SKY = 15.0, 18.0  # degrees of altitude
PATCH = 24  # px a side of a piece of sky, whose median leaves stars out
MOST_BAND = 0.35  # share of a patch's light that may be the Milky Way's
DARKEST, BRIGHTEST_SKY, STEP = 22.3, 17.0, 0.05  # zeniths that are tried, mag/arcsec^2
FLOOR = 0.1  # mag: colour of the filter against V, the airglow of the night, the pattern of the towns
SUN_DOWN = -17.0  # degrees, above which twilight is in the sky


@dataclass(frozen=True, kw_only=True)
class MeasuredSky:
    """The zenith (V mag/arcsec^2) with its standard error, what the model gives for the site as it was
    planned, the air (mag an airmass) with its error, the sky's brightness by altitude (degrees,
    mag/arcsec^2), and how many stars and pieces of sky it comes from."""

    zenith: float
    error: float
    planned: float
    air: float
    air_error: float
    by_altitude: list[tuple[float, float]]
    stars: int
    patches: int


def measure_sky(rgb: F32, sky: F32, field: Solution, site: Site, unix: float) -> MeasuredSky | None:
    """The sky's brightness in a full-size linear picture (h, w, 3) with its share of sky (h, w); None
    without enough stars or sky, or with the Sun less than 17 degrees down.

    ``site.zenith`` must be given or modelled by its towns; moonlight is taken out by the model.
    """
    year, t = eph.year_ephemeris(eph.year_of(unix)), np.array([unix])
    if float(eph.altitude(year.sun(t), year.gast(t), site)[0]) > SUN_DOWN:
        return None
    green = np.ascontiguousarray(rgb[..., 1])
    zero = _zero_point(green, sky, field, site, unix)
    if zero is None:
        return None
    constant, air, air_error, lens, stars = zero
    xy, level = _patches(green, sky)
    if len(xy) < LEAST_PATCHES:
        return None
    away2 = _r2(xy, field)
    # arcsec^2 of a pixel: smaller towards the corner of a flat picture
    tangent = np.hypot(*((xy - np.array(field.middle)) / field.focal_px).T)
    area = field.scale_arcsec**2 / (1 + tangent**2) ** 1.5
    seen = -2.5 * np.log10(level / area) - constant - lens[0] * away2 - lens[1] * away2**2
    enu = field.directions(xy) @ to_horizon(site, unix).T
    altitude = np.degrees(np.arcsin(np.clip(enu[:, 2], -1, 1)))
    band = band_light(site, unix, enu, stars_apart=True).light
    nl = np.asarray(to_nanolamberts(seen))
    use = (altitude > LOWEST_SKY) & (band < MOST_BAND * nl)
    if use.sum() < LEAST_PATCHES:
        return None
    zenith, spread = _zenith(site, unix, enu[use], nl[use] - band[use])
    overhead = diffuse(site, unix, np.array([[0.0, 0.0, 1.0]])).light
    planned = float(to_magnitudes(overhead["natural"] + overhead["towns"])[0])
    edges = np.arange(LOWEST_SKY, 91.0, 8.0)
    rows = [
        (float((a + b) / 2), round(float(np.median(seen[inside])), 2))
        for a, b in pairwise(edges)
        if (inside := (altitude >= a) & (altitude < b) & use).sum() > 4
    ]
    return MeasuredSky(
        zenith=round(zenith, 2),
        error=round(float(np.hypot(FLOOR, spread)), 2),
        planned=round(planned, 2),
        air=round(air, 2),
        air_error=round(air_error, 2),
        by_altitude=rows,
        stars=stars,
        patches=int(use.sum()),
    )


def _r2(xy: Array, field: Solution) -> Array:
    """Squares of distances from the centre, 1 in the corner."""
    half = np.array([(field.width - 1) / 2, (field.height - 1) / 2])
    return np.asarray(((xy - half) ** 2).sum(axis=1) / (half**2).sum())


def _zero_point(
    green: F32, sky: F32, field: Solution, site: Site, unix: float
) -> tuple[float, float, float, tuple[float, float], int] | None:
    """What turns light into magnitudes: the constant, the air with its error, the lens's fall-off (r^2,
    r^4), and the stars used; robust least squares with the air held near what is usual."""
    vectors, v, _ = stars_to(FAINTEST)
    bright = v > BRIGHTEST
    vectors, v = vectors[bright], v[bright]
    up = (vectors @ to_horizon(site, unix).T)[:, 2]
    x, y, front = field.places(vectors)
    reach = RING[1] + 2
    ok = front & (up > np.sin(np.radians(LOWEST_STAR)))
    ok &= (x > reach) & (y > reach) & (x < field.width - reach) & (y < field.height - reach)
    at, v, up = np.c_[x, y][ok], v[ok], up[ok]
    light = np.array([_aperture(green, sky, *place) for place in at])
    fine = light > 0
    if fine.sum() < LEAST_STARS:
        return None
    dim = -2.5 * np.log10(light[fine]) - v[fine]
    r2 = _r2(at[fine], field)
    mass = np.asarray(ray_airmass(np.degrees(np.arcsin(up[fine]))), float)
    design = np.c_[np.ones(len(dim)), mass, r2, r2**2]
    hold = np.diag([0.0, 1 / AIR_ERROR**2, 1.0, 1.0])
    right = np.array([0.0, USUAL_AIR / AIR_ERROR**2, 0.0, 0.0])
    keep, scatter = np.ones(len(dim), bool), 0.2
    best, cov = np.zeros(4), np.eye(4)
    for _ in range(10):
        weight = 1 / max(scatter, 0.03) ** 2
        normal = weight * design[keep].T @ design[keep] + hold
        best = np.linalg.solve(normal, weight * design[keep].T @ dim[keep] + right)
        cov = np.linalg.inv(normal)
        off = np.abs(dim - design @ best)
        scatter = 1.4826 * float(np.median(off[keep]))
        keep = off < max(2.5 * scatter, 0.08)
    if keep.sum() < LEAST_STARS // 2:
        return None
    return (
        float(best[0]),
        float(best[1]),
        float(np.hypot(np.sqrt(cov[1, 1]), FIT_FLOOR)),
        (float(best[2]), float(best[3])),
        int(keep.sum()),
    )


def _aperture(green: F32, sky: F32, x: float, y: float) -> float:
    """Light of a star within a circle less its surroundings; 0 where it cannot be trusted."""
    reach = int(RING[1]) + 1
    cx, cy = round(x), round(y)
    part = np.s_[cy - reach : cy + reach + 1, cx - reach : cx + reach + 1]
    patch = green[part]
    if patch.shape != (2 * reach + 1, 2 * reach + 1) or sky[part].min() < 0.98 or patch.max() > CUT:
        return 0.0
    gy, gx = np.mgrid[-reach : reach + 1, -reach : reach + 1]
    radius = np.hypot(gx - (x - cx), gy - (y - cy))
    level = float(np.median(patch[(radius > RING[0]) & (radius < RING[1])]))
    weight = np.clip(APERTURE + 0.5 - radius, 0, 1)
    return float(((patch - level) * weight).sum())


def _patches(green: F32, sky: F32) -> tuple[Array, Array]:
    """Centres (n, 2) of pieces of pure sky, and their median level."""
    h, w = (n // PATCH * PATCH for n in green.shape)

    def cut(values: F32) -> F32:
        pieces = values[:h, :w].reshape(h // PATCH, PATCH, w // PATCH, PATCH).transpose(0, 2, 1, 3)
        return np.asarray(pieces.reshape(h // PATCH * (w // PATCH), -1))

    level, pure = np.median(cut(green), axis=1), cut(sky).min(axis=1) > 0.98
    row, column = np.divmod(np.arange(len(level)), w // PATCH)
    xy = np.c_[(column + 0.5) * PATCH - 0.5, (row + 0.5) * PATCH - 0.5]
    use = pure & (level > 0)
    return np.asarray(xy[use], float), np.asarray(level[use], float)


def _zenith(site: Site, unix: float, enu: Array, nl: Array) -> tuple[float, float]:
    """The zenith at which the model's sky is as bright as what was measured (nL) in directions (n, 3), and
    the standard error of that by how the pieces agree."""
    some = np.linspace(0, len(enu) - 1, min(len(enu), 400)).astype(int)
    enu, nl = enu[some], np.maximum(nl[some], 1e-3)
    zeniths = np.arange(BRIGHTEST_SKY, DARKEST + STEP / 2, 0.35)

    def off(zenith: float) -> Array:
        parts = diffuse(replace(site, zenith=zenith), unix, enu).light
        return np.asarray(-2.5 * np.log10(nl / np.asarray(sum(parts.values()))))

    differences = np.array([float(np.median(off(float(z)))) for z in zeniths])
    # a darker zenith makes the model darker: the difference falls
    order = np.argsort(differences)
    zenith = float(np.interp(0.0, differences[order], zeniths[order]))
    left = off(zenith)
    return zenith, float(1.4826 * np.median(np.abs(left - np.median(left))) / np.sqrt(max(len(left) / 40, 1)))
