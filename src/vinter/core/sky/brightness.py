"""Brightness of the sky in one direction: natural, Moon, twilight and towns, summed in nanolamberts."""

from dataclasses import dataclass

import numpy as np

from vinter.core.sky.ephemeris import Array, separation

NATURAL_ZENITH = 21.95  # V mag/arcsec^2; +-0.25 over the solar cycle
NIGHT_IN_TWILIGHT = 21.7  # mag/arcsec^2 of the dark sky contained in the measured twilight curve
# mag/arcsec^2, lower limits of classes 1 to 8
CLASS_LIMITS = (21.76, 21.6, 21.3, 20.8, 20.3, 19.25, 18.5, 18.0)
CLASS_MIDDLES = (
    21.87,
    21.68,
    21.45,
    21.05,
    20.55,
    19.8,
    18.9,
    18.25,
    17.5,
)  # what a class read off a map stands for
# One standard deviation of each model, magnitudes.
LAW_ALTITUDE, RAY_ALTITUDE = (
    20.0,
    8.0,
)  # degrees of the Moon: the scattering law's airmass holds above, a ray's below
NL_OF_MAG = 0.4 * np.log(10)  # relative change of light for one magnitude
SHAPE_EXTINCTION = 0.25  # mag/airmass, of the air whose twilight is spread over the sky
SIGMA = {"natural": 0.20, "moon": 0.25, "twilight": 0.30, "towns": 0.40}


def to_nanolamberts(mag: Array | float) -> Array:
    """Nanolamberts of a V surface brightness in mag/arcsec^2."""
    return np.asarray(34.08 * np.exp(20.7233 - 0.92104 * np.asarray(mag, float)))


def to_magnitudes(nanolamberts: Array | float) -> Array:
    """V mag/arcsec^2 of a surface brightness in nanolamberts."""
    return np.asarray((20.7233 - np.log(np.asarray(nanolamberts, float) / 34.08)) / 0.92104)


def layer_airmass(altitude: Array | float) -> Array:
    """Airmass (1 - 0.96 sin^2 z)^-0.5 of an altitude in degrees, for light that comes from a glowing layer; 5
    at the horizon and below."""
    zenith_angle = np.radians(90 - np.clip(altitude, 0, 90))
    return np.asarray((1 - 0.96 * np.sin(zenith_angle) ** 2) ** -0.5)


def ray_airmass(altitude: Array | float) -> Array:
    """Airmass of a ray that comes through the air (starlight, planets, the galaxy, the Moon's disc) by its
    altitude in degrees, Kasten and Young 1989: 1 at the zenith, 5.6 at 10 degrees, 38 at the horizon and
    below."""
    h = np.clip(altitude, 0, 90)
    return np.asarray(1 / (np.sin(np.radians(h)) + 0.50572 * (h + 6.07995) ** -1.6364))


def beam_airmass(altitude: Array | float) -> Array:
    """Airmass of moonlight by the Moon's altitude in degrees: that of the scattering law above 20 degrees,
    below it goes over to that of a ray from outside, 40 at the horizon (Rozenberg 1966)."""
    above = np.clip(altitude, 0, 90)
    height = np.sin(np.radians(above))
    ray = 1 / (height + 0.025 * np.exp(-11 * height))
    low = np.clip((LAW_ALTITUDE - above) / (LAW_ALTITUDE - RAY_ALTITUDE), 0, 1)
    return np.asarray(layer_airmass(above) + (ray - layer_airmass(above)) * low * low * (3 - 2 * low))


def natural(altitude: Array | float, extinction: float) -> Array:
    """Airglow, zodiacal light and faint stars, nL (Schaefer)."""
    x = layer_airmass(altitude)
    return np.asarray(to_nanolamberts(NATURAL_ZENITH) * (0.4 + 0.6 * x) * 10 ** (-0.4 * extinction * (x - 1)))


def phase_dimming(phase: Array | float) -> Array:
    """Magnitudes the Moon is fainter than at full, by phase angle in degrees (0 at full Moon; Krisciunas and
    Schaefer 1991, equation 9, without the opposition surge)."""
    a = np.abs(phase)
    return np.asarray(0.026 * a + 4e-9 * a**4)


def moonlight(
    altitude: Array, azimuth: Array, moon_alt: Array, moon_az: Array, phase: Array, extinction: float
) -> Array:
    """Scattered moonlight, nL (Krisciunas and Schaefer 1991, error 8 to 23 %), with the true airmass of a
    Moon near the horizon. Angles in degrees.

    phase is the Sun-Moon-Earth angle, 0 at full Moon; zero when the Moon is down.
    """
    a = np.abs(phase)
    surge = np.where(a < 7, 1 + 0.35 * (1 - a / 7), 1.0)
    intensity = surge * 10 ** (-0.4 * (3.84 + phase_dimming(phase)))
    rho = np.maximum(separation(altitude, azimuth, moon_alt, moon_az), 0.25)
    mie = np.maximum(6.2e7 / rho**2, 10 ** (6.15 - rho / 40))  # both laws fall; they cross at 9.4 degrees
    scatter = 10**5.36 * (1.06 + np.cos(np.radians(rho)) ** 2) + mie
    light = scatter * intensity * 10 ** (-0.4 * extinction * beam_airmass(moon_alt))
    return np.where(
        np.asarray(moon_alt) > 0, light * (1 - 10 ** (-0.4 * extinction * layer_airmass(altitude))), 0.0
    )


def _twilight_zenith(depression: Array) -> Array:
    """Twilight above the night sky at the zenith, nL (Patat 2006, continued by 0.97 mag/deg below -12)."""
    d = np.clip(depression, 5, 12)
    curve = 11.84 + 1.518 * (d - 5) - 0.057 * (d - 5) ** 2
    excess = to_nanolamberts(curve) - to_nanolamberts(NIGHT_IN_TWILIGHT)
    brighter = 1.518 * np.minimum(np.maximum(depression, 0) - 5, 0)
    fainter = 0.97 * np.maximum(depression - 12, 0)
    return np.asarray(excess * 10 ** (-0.4 * (brighter + fainter)))


def twilight(altitude: Array, azimuth: Array, sun_alt: Array, sun_az: Array) -> Array:
    """Twilight, nL: the measured zenith curve, shaped over the sky by Schaefer's dependence on direction.

    The shape is that of one air: with the site's own extinction the law would make clean air the brighter
    one.
    """
    depression = -np.asarray(sun_alt)
    z = 90 - np.clip(altitude, 0, 90)
    to_sun = np.maximum(separation(altitude, azimuth, sun_alt, sun_az), 10.0)
    clear = 10 ** (-0.4 * SHAPE_EXTINCTION)
    shape = (
        10 ** (0.4 * z / (360 * SHAPE_EXTINCTION))
        * (90 + depression)
        / to_sun
        * (1 - clear ** layer_airmass(altitude))
        / (1 - clear)
    )
    return _twilight_zenith(depression) * shape


@dataclass(frozen=True)
class SkyParts:
    """Brightness of the sky in its parts, each an array in nanolamberts; ``spread`` is one standard deviation
    of natural light and towns together, nL, where it is known better than part by part."""

    natural: Array
    towns: Array
    moon: Array
    twilight: Array
    spread: Array | None = None

    @property
    def total(self) -> Array:
        """Sum of the parts, nL."""
        return self.natural + self.towns + self.moon + self.twilight

    @property
    def brightness(self) -> Array:
        """Total in V mag/arcsec^2."""
        return to_magnitudes(self.total)

    @property
    def uncertainty(self) -> Array:
        """One standard deviation of the total, magnitudes: the parts' errors added in quadrature."""
        night = (SIGMA["natural"] * self.natural) ** 2 + (SIGMA["towns"] * self.towns) ** 2
        if self.spread is not None:
            night = (self.spread / NL_OF_MAG) ** 2
        bright = (SIGMA["moon"] * self.moon) ** 2 + (SIGMA["twilight"] * self.twilight) ** 2
        return np.asarray(np.sqrt(night + bright) / self.total)

    def costs(self) -> dict[str, Array]:
        """Magnitudes lost to towns, then Moon, then twilight; they add up to total against natural."""
        level, out = self.natural, {}
        for name, part in (("towns", self.towns), ("moon", self.moon), ("twilight", self.twilight)):
            out[name] = np.asarray(2.5 * np.log10((level + part) / level))
            level = level + part
        return out


def extinction_costs(altitude: Array, extinction: float, clean: float = 0.172) -> dict[str, Array]:
    """Magnitudes the band itself loses: by standing low in clean air, and by the site's haze on top."""
    x = ray_airmass(altitude)
    return {"altitude": clean * (x - 1), "haze": np.maximum(extinction - clean, 0) * x}


def sky_class(zenith: float) -> int:
    """Class 1 to 9 of a zenith brightness in mag/arcsec^2, by the conventional lower limits."""
    return 1 + sum(bool(zenith < limit) for limit in CLASS_LIMITS)
