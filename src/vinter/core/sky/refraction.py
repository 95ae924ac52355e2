"""How the air lifts what stands low. Light to load: processes of a pool need it as well."""

import numpy as np
import numpy.typing as npt

Array = npt.NDArray[np.float64]
LOWEST = -2.0  # degrees of true altitude, under which nothing is lifted


def refraction(altitude: Array | float) -> Array:
    """Refraction in degrees at a true altitude in degrees (Saemundsson 1986), zero below -2 degrees."""
    altitude = np.asarray(altitude, float)
    h = np.maximum(altitude, LOWEST)
    lift = 1.02 / np.tan(np.radians(h + 10.3 / (h + 5.11))) / 60
    return np.where(altitude < LOWEST, 0.0, np.maximum(lift, 0.0))


def lifted(vectors: Array, zenith: Array) -> Array:
    """Unit vectors (n, 3) as the air shows them: turned towards the zenith (3,) by the refraction."""
    return _raised(vectors, zenith, refraction(_altitude(vectors, zenith)))


def lowered(vectors: Array, zenith: Array) -> Array:
    """True directions (n, 3) of what the air shows at unit vectors; the inverse of ``lifted`` to 0.1 arcsec
    above the horizon."""
    seen = _altitude(vectors, zenith)
    true = seen
    for _ in range(4):
        true = seen - refraction(true)
    return _raised(vectors, zenith, true - seen)


def _altitude(vectors: Array, zenith: Array) -> Array:
    return np.asarray(np.degrees(np.arcsin(np.clip(vectors @ zenith, -1, 1))))


def _raised(vectors: Array, zenith: Array, by: Array) -> Array:
    """Unit vectors turned towards the zenith by degrees (n,)."""
    up = vectors @ zenith
    level = np.sqrt(np.maximum(1 - up * up, 1e-12))
    c, s = np.cos(np.radians(by)), np.sin(np.radians(by))
    # cos v + sin t, with t the unit tangent at v towards the zenith
    tangent = (zenith - up[:, None] * vectors) / level[:, None]
    return np.asarray(c[:, None] * vectors + s[:, None] * tangent)
