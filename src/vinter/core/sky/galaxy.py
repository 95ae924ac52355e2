"""Geometry of the galaxy over a horizon: coordinates, tilt of the band at the core, top of the arch."""

import numpy as np

from vinter.core.sky.ephemeris import Array

POLE_RA, POLE_DEC, NODE_L = 192.85948, 27.12825, 122.93192  # north galactic pole and node, J2000 degrees


def unit(lon: Array | float, lat: Array | float) -> Array:
    """Unit vectors (..., 3) of longitudes and latitudes in degrees."""
    a, d = np.radians(lon), np.radians(lat)
    return np.stack(np.broadcast_arrays(np.cos(d) * np.cos(a), np.cos(d) * np.sin(a), np.sin(d)), axis=-1)


def to_equatorial(l: Array | float, b: Array | float) -> tuple[Array, Array]:
    """ICRS right ascension and declination (degrees) of galactic longitude and latitude (degrees)."""
    b0, d0 = np.radians(b), np.radians(POLE_DEC)
    turn = np.radians(NODE_L - np.asarray(l, float))
    sin_dec = np.sin(d0) * np.sin(b0) + np.cos(d0) * np.cos(b0) * np.cos(turn)
    y = np.cos(b0) * np.sin(turn)
    x = np.cos(d0) * np.sin(b0) - np.sin(d0) * np.cos(b0) * np.cos(turn)
    return (POLE_RA + np.degrees(np.arctan2(y, x))) % 360, np.degrees(np.arcsin(np.clip(sin_dec, -1, 1)))


def galactic_axes() -> Array:
    """Rotation (3, 3) from ICRS unit vectors to galactic ones."""
    rows = [to_equatorial(0.0, 0.0), to_equatorial(90.0, 0.0), (np.array(POLE_RA), np.array(POLE_DEC))]
    return np.stack([unit(ra, dec) for ra, dec in rows])


def band_tilt(alt0: Array, az0: Array, alt3: Array, az3: Array) -> Array:
    """Lean of the band at the core from the vertical, degrees, right positive; 0 is upright.

    Taken from galactic longitude 0 (alt0, az0) to 3 degrees (alt3, az3).
    """
    across = ((az3 - az0 + 180) % 360 - 180) * np.cos(np.radians(alt0))
    return np.asarray(np.degrees(np.arctan2(across, alt3 - alt0)))


def arch_top(pole_alt: Array, pole_az: Array) -> tuple[Array, Array]:
    """Altitude and azimuth (degrees) of the highest point of the band from the north galactic pole's."""
    opposite = np.where(pole_alt > 0, pole_az + 180, pole_az) % 360
    return 90 - np.abs(pole_alt), opposite
