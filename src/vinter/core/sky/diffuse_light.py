"""Diffuse light of the sky in many directions at one moment: its sources and the Milky Way."""

from dataclasses import dataclass

import numpy as np

from vinter.core.sky import ephemeris as eph
from vinter.core.sky import galaxy
from vinter.core.sky.brightness import moonlight, natural, ray_airmass, twilight
from vinter.core.sky.catalogue import MAP_STEP, between_stars, milky_way, to_horizon
from vinter.core.sky.ephemeris import Array
from vinter.core.sky.glow import town_light
from vinter.core.sky.site import Site

SUN_BV = 0.65
# Colour of each source as B-V; 0.65 is neutral.
COLOUR = {"natural": 0.75, "towns": 1.35, "moon": 0.8, "twilight": 0.15}


@dataclass(frozen=True)
class Diffuse:
    """Diffuse light over directions: nanolamberts by source, and the Milky Way's own colour."""

    light: dict[str, Array]
    band: Array
    band_colour: Array

    @property
    def total(self) -> Array:
        """All sources together, nL."""
        return np.asarray(sum(self.light.values()) + self.band)


def diffuse(site: Site, unix: float, enu: Array) -> Diffuse:
    """Diffuse light towards unit vectors (n, 3); below the horizon that of the horizon."""
    altitude = np.degrees(np.arcsin(np.clip(enu[:, 2], -1, 1)))
    azimuth = np.degrees(np.arctan2(enu[:, 0], enu[:, 1])) % 360
    year = eph.year_of(unix)
    e, t = eph.year_ephemeris(year), np.array([unix])
    sun, moon, gast = e.sun(t), e.moon(t), e.gast(t)
    sun_alt, sun_az, _ = eph.horizontal(sun, gast, site)
    moon_alt, moon_az, _ = eph.horizontal(moon, gast, site)
    k = site.extinction
    towns = town_light(site)
    light = {
        "natural": natural(altitude, k) * towns.natural_share,
        "towns": towns.at(altitude, azimuth),
        "moon": moonlight(altitude, azimuth, moon_alt, moon_az, eph.phase_angle(sun, moon), k),
        "twilight": twilight(altitude, azimuth, sun_alt, sun_az),
    }
    band = band_light(site, unix, enu)
    return Diffuse(light, band.light, band.colour)


@dataclass(frozen=True)
class Band:
    """The Milky Way over directions (n,): nL after the air, its B-V, and red light of nebulae (nL)."""

    light: Array
    colour: Array
    red: Array


def band_light(site: Site, unix: float, enu: Array, stars_apart: bool = False) -> Band:
    """The Milky Way towards unit vectors (n, 3); without the light of catalogue stars when those are drawn by
    themselves."""
    g = enu @ (galaxy.galactic_axes() @ to_horizon(site, unix).T).T
    b = np.degrees(np.arcsin(np.clip(g[:, 2], -1, 1)))
    l = np.degrees(np.arctan2(g[:, 1], g[:, 0]))
    where = [(90 - b) / MAP_STEP - 0.5, (l + 180) / MAP_STEP - 0.5]
    bright, colour = milky_way()
    rest, red = between_stars()
    altitude = np.degrees(np.arcsin(np.clip(enu[:, 2], -1, 1)))
    through = 10 ** (-0.4 * site.extinction * ray_airmass(altitude))

    light = (rest if stars_apart else bright).at(*where)
    return Band(light * through, np.asarray(colour.at(*where)), red.at(*where) * through)


def milky_way_at(vectors: Array) -> Array:
    """Linear sRGB (n, 3) of the Milky Way's whole light towards ICRS unit vectors (n, 3), nL in green."""
    g = vectors @ galaxy.galactic_axes().T
    b = np.degrees(np.arcsin(np.clip(g[:, 2], -1, 1)))
    l = np.degrees(np.arctan2(g[:, 1], g[:, 0]))
    where = [(90 - b) / MAP_STEP - 0.5, (l + 180) / MAP_STEP - 0.5]
    bright, colour = milky_way()
    light, bv = bright.at(*where), colour.at(*where) - SUN_BV
    return np.asarray(
        light[:, None] * np.stack([10 ** (0.26 * bv), np.ones_like(bv), 10 ** (-0.34 * bv)], axis=1)
    )
