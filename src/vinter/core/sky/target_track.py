"""Where Sun, Moon and target stand and how bright the sky is at the target, along a run of times."""

from dataclasses import dataclass, fields
from typing import Any

import numpy as np
import numpy.typing as npt

from vinter.core.errors import BadInput
from vinter.core.sky import ephemeris as eph
from vinter.core.sky.brightness import (
    SkyParts,
    extinction_costs,
    moonlight,
    natural,
    ray_airmass,
    to_nanolamberts,
    twilight,
)
from vinter.core.sky.eclipse import light_left
from vinter.core.sky.ephemeris import Array
from vinter.core.sky.galaxy import POLE_DEC, POLE_RA, arch_top
from vinter.core.sky.glow import town_light
from vinter.core.sky.site import Site
from vinter.core.sky.targets import CORE, Target, lean, place, position

PERFECT_NL = 56.4  # nL of a 21.95 mag/arcsec^2 zenith, for the reference contrast
OUTSHINES = 1000.0  # contrast of a target that outshines the sky
STAND_IN = 21.5  # mag/arcsec^2, a faint stretch of the band
PERFECT_LOSS = 0.172  # magnitudes of extinction in that reference

NEAR_SHADOW = 2.5  # degrees of phase angle, beyond which the Moon is in no shadow


@dataclass(frozen=True, kw_only=True)
class Track:
    """Arrays of one length over Unix seconds ``t``; angles in degrees, brightness parts in nL.

    ``ground`` is the altitude of the horizon profile below the target, 0 where the horizon is flat.
    """

    t: Array
    sun_alt: Array
    sun_az: Array
    moon_alt: Array
    moon_az: Array
    phase: Array
    alt: Array
    az: Array
    tilt: Array
    natural: Array
    towns: Array
    moon: Array
    twilight: Array
    ground: Array
    extinction: float
    spread: Array
    what: Target

    @property
    def parts(self) -> SkyParts:
        """The sky at the target in its parts."""
        return SkyParts(self.natural, self.towns, self.moon, self.twilight, self.spread)

    @property
    def illuminated(self) -> Array:
        """Illuminated fraction of the Moon, 0 to 1."""
        return np.asarray((1 + np.cos(np.radians(self.phase))) / 2)

    @property
    def costs(self) -> dict[str, Array]:
        """Magnitudes lost to towns, Moon, twilight, altitude and haze."""
        return {**self.parts.costs(), **extinction_costs(self.alt, self.extinction)}

    @property
    def seen(self) -> npt.NDArray[np.bool_]:
        """Whether the target stands above the horizon and the ground."""
        return np.asarray(self.alt > np.maximum(self.ground, 0))

    @property
    def worth(self) -> Array:
        """What a minute gives a camera, in minutes under a perfect sky with the target at the zenith; 0 when
        it is down or behind the ground.

        Signal to noise squared against the whole sky (natural, towns, Moon, twilight), with the target dimmed
        by height and haze: it grows in proportion to time. Of a target that outshines the sky only its
        dimming counts.
        """
        dimmed = 10 ** (-0.4 * (self.extinction * ray_airmass(self.alt) - PERFECT_LOSS))
        against = PERFECT_NL / self.parts.total if self.what.dark else 1.0
        return np.where(self.seen, dimmed**2 * against, 0.0)

    @property
    def contrast(self) -> Array | None:
        """The target's own light, dimmed, over the sky's; None for what shines by itself."""
        return None if self.what.surface is None else self.contrast_over(self.parts.total)

    def contrast_over(self, sky: Array) -> Array:
        """The target's own light, dimmed, over that of a sky in nL; a faint stretch of the band stands in for
        what has no light of its own. Of a target that outshines the sky it is a large number."""
        if not self.what.dark:
            return np.where(self.seen, OUTSHINES, 0.0)
        own = to_nanolamberts(STAND_IN if self.what.surface is None else self.what.surface)
        return np.where(self.seen, own * 10 ** (-0.4 * self.extinction * ray_airmass(self.alt)) / sky, 0.0)

    def take(self, index: npt.NDArray[np.intp] | slice) -> "Track":
        """The same track at some of its times."""
        cut: dict[str, Any] = {
            f.name: v[index] if isinstance(v := getattr(self, f.name), np.ndarray) else v
            for f in fields(self)
        }
        return Track(**cut)


def track(
    site: Site, year: int, t: Array, what: Target = CORE, direction: tuple[Array, Array] | None = None
) -> Track:
    """Track of a target at Unix times within the ephemeris of ``year``.

    ``direction`` fixes altitude and azimuth (degrees) instead of following the target.
    """
    e = eph.year_ephemeris(year)
    gast, sun, moon = e.gast(t), e.sun(t), e.moon(t)
    sun_alt, sun_az, _ = eph.horizontal(sun, gast, site)
    moon_alt, moon_az, _ = eph.horizontal(moon, gast, site)
    alt, az = direction if direction is not None else position(site, year, t, what)
    phase = eph.phase_angle(sun, moon)
    towns = town_light(site)
    k = site.extinction
    dark = natural(alt, k) * towns.natural_share
    ground = site.horizon.at(az) if site.horizon else np.zeros_like(alt)
    return Track(
        t=t,
        sun_alt=sun_alt,
        sun_az=sun_az,
        moon_alt=moon_alt,
        moon_az=moon_az,
        phase=phase,
        alt=alt,
        az=az,
        tilt=lean(site, year, t, what, alt, az),
        natural=dark,
        towns=towns.at(alt, az),
        moon=moonlight(alt, az, moon_alt, moon_az, phase, k) * _uneclipsed(sun, moon, phase),
        twilight=twilight(alt, az, sun_alt, sun_az),
        ground=ground,
        extinction=k,
        spread=towns.spread(alt, az, dark),
        what=what,
    )


def _uneclipsed(sun: Array, moon: Array, phase: Array) -> Array:
    """Share of the Moon's light that the Earth's shadow leaves it."""
    out = np.ones(len(phase))
    near = phase < NEAR_SHADOW
    if near.any():
        out[near] = light_left(sun[near], moon[near])
    return out


def arch(site: Site, unix: float) -> tuple[float, float]:
    """Altitude and azimuth (degrees) of the highest point of the band at a Unix time."""
    pole_alt, pole_az = place(site, eph.year_of(unix), np.array([float(unix)]), (POLE_RA, POLE_DEC))
    alt, az = arch_top(pole_alt, pole_az)
    return float(alt[0]), float(az[0])


def sky_at(site: Site, unix: float, altitude: float, azimuth: float) -> Track:
    """The sky at one time in one direction (degrees): a track of length 1."""
    if altitude < 0:
        raise BadInput(f"altitude {altitude:g} is below the horizon, where there is no sky")
    t = np.array([float(unix)])
    return track(
        site, eph.year_of(unix), t, direction=(np.array([float(altitude)]), np.array([float(azimuth)]))
    )
