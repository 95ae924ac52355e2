"""How much darker a lens is towards its corners, measured from the stars of a solved picture against the
catalogue; without a field, from the same stars at several places of a burst (``drift``), or as Gear has it.

The sky's own glow cannot tell a dark corner from a dark sky; a star's light can. Three things dim it: the
lens, whose light falls by r squared, r to the fourth and a little r to the eighth from the centre; the air,
by airmass; and chance (colour, crowding, variability, the sky's noise), by which each star counts. The powers
are those of the light and not of its magnitudes: a lens whose barrel cuts the corners off loses about as much
light at every step outwards, which in magnitudes bends ever more steeply where the last stars stand.
A surface (the sky, the ground) is dimmed more than a star: towards the corner of a flat picture a pixel sees
a smaller piece of it, by the cube of the cosine of the angle from the axis. Phones even their files out for
surfaces, so in them stars may come out brighter in the corners.
Where the place is not known, neither is the altitude: each that a level camera may have had is tried, and the
answers are weighed by how well they fit.
"""

from collections.abc import Sequence
from dataclasses import dataclass
from enum import StrEnum

import numpy as np
import numpy.typing as npt
from scipy.spatial import cKDTree

from vinter.core.camera.phones import Lens
from vinter.core.frames.stars import Stars
from vinter.core.sky.brightness import ray_airmass
from vinter.core.sky.catalogue import stars_to, to_horizon
from vinter.core.sky.site import Site
from vinter.core.stack.photometry.fitting import (
    AIR_ERROR,
    LEAST_STARS,
    USUAL_AIR,
    SeenStars,
    fit_under,
    mag_lost,
    weighed,
)
from vinter.core.stack.photometry.neighbours import light_expected
from vinter.core.stack.plate_solve import Solution
from vinter.core.versions import Data

Array = npt.NDArray[np.float64]
F32 = npt.NDArray[np.float32]
FAINTEST, BRIGHTEST = 7.2, 1.5  # V of the stars used
NEIGHBOURS, BESIDE_PX = 9.0, 60.0  # V to which neighbours count; px beyond the frame
REACH_PX = 4.0
LOWEST = 20.0  # degrees of altitude, below which haze in layers counts
CORNER_FLOOR, AIR_FLOOR = 0.05, 0.03  # mag: star images that change over the field, colours, layers of air
PLACELESS_FLOOR = 0.08  # mag of the corner: a camera that was not level, stars behind haze
TILTS = np.radians(np.arange(-5.0, 90.0, 5.0))  # altitudes of the axis that a level camera may have had
THICKEST = 12.0  # airmasses, beyond which nothing is seen
TRUSTED = 0.25  # mag of the corner's error
MOST_GAIN = 4.0
DARKEST_CORNER = 2.5  # mag: nothing beyond is believed of a lens
STEPS = 40  # places from the centre to the corner, at which a fall-off is written by fewer terms


class Source(StrEnum):
    """What a fall-off was found from."""

    FIELD = "field"
    DRIFT = "drift"
    GEAR = "gear"


BY = {
    Source.FIELD: "",
    Source.DRIFT: ", by stars that drifted across the frames",
    Source.GEAR: ", as Gear has this lens",
}


@dataclass(frozen=True, kw_only=True)
class Vignetting:
    """Dimming of a surface, r = 1 in the corner: ``square`` r^2 + ``fourth`` r^4 in mag, or ``lost``, the
    shares of its light that go by r^2, r^4 and r^8; the corner's in mag with its standard error, negative
    where it is brighter; ``starlight`` what a star there loses; the air's dimming in mag an airmass with its
    error; scatter of a star in mag, the stars used, and the source."""

    square: float
    fourth: float
    corner: float
    corner_error: float
    starlight: float
    air: float = USUAL_AIR
    air_error: float = AIR_ERROR
    scatter: float = 0.0
    stars: int = 0
    source: Source = Source.FIELD
    lost: tuple[float, float, float] = (0.0, 0.0, 0.0)

    @property
    def two_terms(self) -> tuple[float, float]:
        """The r^2 and r^4 that come nearest to it over the picture and keep its corner, mag."""
        r2 = np.linspace(0, 1, STEPS)
        bend = r2**2 - r2
        fourth = float((self._dimming(r2) - self.corner * r2) @ bend / (bend @ bend))
        return self.corner - fourth, fourth

    def _dimming(self, r2: Array) -> Array:
        r2 = np.asarray(r2)
        return np.asarray(self.square * r2 + self.fourth * r2**2 + mag_lost(self.lost, r2))

    @property
    def trusted(self) -> bool:
        """Whether it is known to a quarter of a magnitude."""
        return self.corner_error < TRUSTED

    @property
    def significant(self) -> bool:
        """Whether the corners are known to differ from the centre, by two standard errors."""
        return self.trusted and abs(self.corner) > 2 * self.corner_error

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
        dimming = np.maximum(self._dimming(r2), 0)
        return np.asarray(np.minimum(10 ** (0.4 * dimming), MOST_GAIN), np.float32)


def vignetting_from(data: Data | None) -> Vignetting | None:
    """A fall-off from the data of a report."""
    if data is None:
        return None
    known = {name: data[name] for name in Vignetting.__dataclass_fields__ if name in data}
    first, second, third = known.get("lost", (0.0, 0.0, 0.0))
    source = Source(known.get("source", Source.FIELD))
    return Vignetting(**{**known, "source": source, "lost": (first, second, third)})


def flat_loss(tangent2: Array | float) -> Array:
    """By how many mag a pixel of a flat picture sees less sky than one on the axis, by the squared tangent of
    its angle from it: the cube of the cosine."""
    return np.asarray(3.75 * np.log10(1 + tangent2))


def of_gear(lens: Lens) -> Vignetting | None:
    """The fall-off that Gear has of a lens; None where it knows none."""
    square, fourth, error = lens.fall_off
    if not error:
        return None
    tangent2 = (lens.width**2 + lens.height**2) / 4 / lens.focal_px**2
    corner = square + fourth
    return Vignetting(
        square=square,
        fourth=fourth,
        corner=corner,
        corner_error=error,
        starlight=corner - float(flat_loss(tangent2)),
        source=Source.GEAR,
    )


def corner_words(found: Data) -> str:
    """What is said of a stored fall-off: sky and stars told apart, each darker or brighter than in the
    centre, and whether it was evened out."""

    def signed(value: float) -> str:
        return f"{abs(value):.2f} mag {'darker' if value > 0 else 'brighter'}"

    corner, error = found["corner"], found["corner_error"]
    if not found["significant"]:
        return f"even: {signed(corner)} ± {error:.2f} mag, not more than its error allows"
    done = ("evened out" if found["taken_out"] else "left as they are") + BY[
        found.get("source", Source.FIELD)
    ]
    stars = f"; stars there {signed(found['starlight'])}" if "starlight" in found else ""
    return f"{signed(corner)} ± {error:.2f} mag, {done}{stars}"


def measure_vignetting(
    stars: Stars, light: F32, solution: Solution, site: Site | None = None, unix: float | None = None
) -> Vignetting | None:
    """The fall-off of a surface from stars of a picture with their light (``star_light``; 0 says nothing),
    the sky that a pixel sees counted; None with too few of them.

    A robust least-squares fit. Over a known site at a known time the air counts by airmass, held near what is
    usual by its spread; else every altitude that the camera may have had is tried. What neighbours add to a
    star's light is foretold by the catalogue. Errors are those of the fit, with a floor for what the fit does
    not prepare.
    """
    vectors, v, _ = stars_to(NEIGHBOURS)
    ra = np.degrees(np.arctan2(vectors[:, 1], vectors[:, 0]))
    dec = np.degrees(np.arcsin(np.clip(vectors[:, 2], -1, 1)))
    x, y, front = solution.pixels(np.c_[ra, dec])
    about = np.flatnonzero(
        front
        & (np.abs(x - solution.width / 2) < solution.width / 2 + BESIDE_PX)
        & (np.abs(y - solution.height / 2) < solution.height / 2 + BESIDE_PX)
    )
    vectors, v, places = vectors[about], v[about], np.c_[x, y][about]
    chosen = (v > BRIGHTEST) & (v < FAINTEST) & (places > 0).all(axis=1)
    chosen &= (places < (solution.width, solution.height)).all(axis=1)
    airmass = None
    if site is not None and unix is not None:
        altitude = np.degrees(np.arcsin(np.clip((vectors @ to_horizon(site, unix).T)[:, 2], -1, 1)))
        chosen &= altitude > LOWEST
        airmass = ray_airmass(np.maximum(altitude, LOWEST))
    which = np.flatnonzero(chosen)
    if len(which) < LEAST_STARS or not len(stars):
        return None
    distance, nearest = cKDTree(stars.xy).query(places[which], distance_upper_bound=REACH_PX)
    found = np.isfinite(distance)
    found[found] &= light[nearest[found]] > 0
    which, nearest = which[found], nearest[found]
    sigma = float(np.median(stars.fwhm[nearest])) / 2.355 if len(nearest) else 1.0
    expected = light_expected(places, 10 ** (-0.4 * v), which, sigma)
    alone = np.isfinite(expected)
    which, at = which[alone], places[which[alone]]
    if len(which) < LEAST_STARS:
        return None
    half = np.array([(solution.width - 1) / 2, (solution.height - 1) / 2])
    less = smaller_sky(solution, at)
    seen = SeenStars(
        dim=-2.5 * np.log10(light[nearest[alone]] / expected[alone]) + less,
        bare=-2.5 * np.log10(expected[alone]) - less,
        r2=((at - half) ** 2).sum(axis=1) / (half**2).sum(),
    )
    corner = float(smaller_sky(solution, np.zeros((1, 2)))[0])
    if airmass is not None:
        return _fit(seen, [airmass[which]], corner, CORNER_FLOOR)
    return _fit(seen, possible_airmasses(solution.rays(at)), corner, PLACELESS_FLOOR)


def possible_airmasses(rays: Array) -> list[Array]:
    """Airmass of rays (n, 3; x right, y down, z ahead) for every way that a camera held level or on its side
    may have been tilted."""
    out = []
    for up in ((0.0, -1.0, 0.0), (1.0, 0.0, 0.0), (-1.0, 0.0, 0.0)):
        for tilt in TILTS:
            zenith = np.cos(tilt) * np.array(up) + np.sin(tilt) * np.array([0.0, 0.0, 1.0])
            altitude = np.degrees(np.arcsin(np.clip(rays @ zenith, -1, 1)))
            out.append(np.minimum(ray_airmass(np.maximum(altitude, 0.5)), THICKEST))
    return out


def smaller_sky(field: Solution, xy: Array) -> Array:
    """By how many magnitudes pixels (n, 2) see less sky than the one on the axis: 7.5 log10(sec theta) in a
    flat picture."""

    def seen(at: Array) -> Array:
        right, down = (field.rays(at + step) - field.rays(at - step) for step in ((0.5, 0), (0, 0.5)))
        return np.asarray(np.linalg.norm(np.cross(right, down), axis=1))

    return np.asarray(-2.5 * np.log10(seen(np.asarray(xy, float)) / seen(np.array([field.middle]))))


def _fit(seen: SeenStars, airs: Sequence[Array], smaller: float, floor: float) -> Vignetting | None:
    """Zero point and fall-off of a surface (``smaller``: what a pixel in the corner sees less, mag) and the
    air, for every course of it that is possible."""
    tried = [fit for air in airs if (fit := fit_under(seen, air))]
    if not tried:
        return None
    # they are compared by the noise of the best: a course of the air that leaves more is less likely
    noise = min(tried, key=lambda fit: fit.scatter).noise
    fit = weighed([fit for air in airs if (fit := fit_under(seen, air, noise))] or tried)
    lost = fit.best[:-1]
    corner = float(mag_lost(lost, np.ones(1))[0])
    return Vignetting(
        square=0.0,
        fourth=0.0,
        lost=(float(lost[0]), float(lost[1]), float(lost[2])),
        corner=corner,
        corner_error=float(np.hypot(fit.corner_error, floor)),
        starlight=corner - smaller,
        air=float(fit.best[-1]),
        air_error=float(np.hypot(np.sqrt(fit.cov[-1, -1]), AIR_FLOOR)),
        scatter=fit.scatter,
        stars=fit.stars,
    )
