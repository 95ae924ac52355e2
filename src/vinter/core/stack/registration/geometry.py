"""Rays and pixels of a lens with one radial term, small rotations, and the air's lift."""

import numpy as np
import numpy.typing as npt

from vinter.core.camera.projection import radial_pixels, radial_rays
from vinter.core.sky.refraction import refraction

Array = npt.NDArray[np.float64]


def rays(xy: Array, focal: float, k1: float, centre: tuple[float, float]) -> Array:
    """Unit rays (n, 3) of distorted pixels (n, 2); four Newton steps do within a frame."""
    return radial_rays(xy, focal, k1, centre, steps=4)


def pixels(v: Array, focal: float, k1: float, centre: tuple[float, float]) -> Array:
    """Distorted pixels (n, 2) of rays (n, 3)."""
    return radial_pixels(v, focal, k1, centre)


def _moved_up(v: Array, zenith: Array, lift: Array) -> Array:
    """Rays moved towards the zenith by angles in radians."""
    up = zenith - v * (v @ zenith)[:, None]
    up /= np.maximum(np.linalg.norm(up, axis=1, keepdims=True), 1e-9)
    return np.asarray(v * np.cos(lift)[:, None] + up * np.sin(lift)[:, None])


def _height(v: Array, zenith: Array) -> Array:
    """Altitudes of rays in radians."""
    return np.asarray(np.arcsin(np.clip(v @ zenith, -1, 1)))


def _lift(altitude: Array) -> Array:
    """Refraction at a true altitude, both in radians; that of -1 degree below it."""
    return np.asarray(np.radians(refraction(np.maximum(np.degrees(altitude), -1.0))))


def lifted(v: Array, zenith: Array) -> Array:
    """Rays as the air shows them."""
    return _moved_up(v, zenith, _lift(_height(v, zenith)))


def lowered(v: Array, zenith: Array) -> Array:
    """Rays without the air; the inverse of ``lifted`` to 0.1 arcsec above 1 degree."""
    seen = _height(v, zenith)
    true = seen
    for _ in range(5):
        true = seen - _lift(true)
    return _moved_up(v, zenith, true - seen)


def turn(axis: Array, angle: float) -> Array:
    """Rotation (3, 3) by an angle about a unit axis."""
    k = np.array([[0, -axis[2], axis[1]], [axis[2], 0, -axis[0]], [-axis[1], axis[0], 0]])
    return np.asarray(np.eye(3) + np.sin(angle) * k + (1 - np.cos(angle)) * k @ k)


def as_rotation(h: Array, focal: float, centre: tuple[float, float]) -> Array:
    """The rotation nearest to a homography of a pinhole."""
    k = np.array([[focal, 0, centre[0]], [0, focal, centre[1]], [0, 0, 1]])
    u, _, vt = np.linalg.svd(np.linalg.inv(k) @ h @ k)
    return np.asarray(u @ vt * np.linalg.det(u @ vt))


def vector_of(r: Array) -> Array:
    """Axis times angle of a small rotation."""
    return np.array([r[2, 1] - r[1, 2], r[0, 2] - r[2, 0], r[1, 0] - r[0, 1]]) / 2


def small_turn(vector: Array) -> Array:
    """The rotation of an axis times an angle."""
    angle = float(np.linalg.norm(vector))
    return turn(vector / angle, angle) if angle > 1e-12 else np.eye(3)
