"""From directions to pixels of a lens and back: pinhole with one radial term k1, r' = r (1 + k1 r^2).

``radial_pixels`` and ``radial_rays`` are the one home of that law; views, plate solving and registration use
them.
"""

from dataclasses import dataclass, replace
from functools import cached_property

import numpy as np
import numpy.typing as npt

from vinter.core.camera.phones import Lens

Array = npt.NDArray[np.float64]


LEAST_DEPTH = 0.05  # depth of a unit ray along the axis: nothing nearer to the lens's plane is drawn
NEWTON_STEPS = 8  # steps: the error is under 1e-6 px for any lens whose frame does not fold back


def radial_pixels(rays: Array, focal_px: float, k1: float, centre: tuple[float, float]) -> Array:
    """Pixels (..., 2) of rays (..., 3) in front of a camera (right, down, forward; any length)."""
    u = rays[..., :2] / rays[..., 2:]
    return np.asarray(np.array(centre) + focal_px * u * (1 + k1 * (u * u).sum(axis=-1, keepdims=True)))


def radial_rays(
    xy: Array, focal_px: float, k1: float, centre: tuple[float, float], steps: int = NEWTON_STEPS
) -> Array:
    """Unit rays (..., 3; right, down, forward) of pixels (..., 2): the inverse of ``radial_pixels`` by
    Newton."""
    d = (xy - np.array(centre)) / focal_px
    distorted = np.hypot(d[..., 0], d[..., 1])
    r = distorted.copy()
    for _ in range(steps):
        r = r - (r * (1 + k1 * r * r) - distorted) / (1 + 3 * k1 * r * r)
    scale = np.where(distorted > 1e-12, r / np.maximum(distorted, 1e-12), 1.0)
    v = np.concatenate([d * scale[..., None], np.ones_like(d[..., :1])], axis=-1)
    return np.asarray(v / np.linalg.norm(v, axis=-1, keepdims=True))


RECTILINEAR, CYLINDRICAL, EQUAL_ANGLE = "rectilinear", "cylindrical", "equal-angle"
LAYOUTS = (RECTILINEAR, CYLINDRICAL, EQUAL_ANGLE)


def laid_out(rays: Array, focal_px: float, layout: str, centre: tuple[float, float]) -> Array:
    """Pixels (..., 2) of rays (..., 3; right, down, forward) in a drawn layout: rectilinear (a plane),
    cylindrical (about the axis that points down) or equal-angle (degrees both ways)."""
    right, down, forward = rays[..., 0], rays[..., 1], rays[..., 2]
    if layout == RECTILINEAR:
        return radial_pixels(rays, focal_px, 0.0, centre)
    level = np.hypot(right, forward)
    around = np.arctan2(right, forward)
    up = down / np.maximum(level, 1e-9) if layout == CYLINDRICAL else np.arctan2(down, level)
    return np.asarray(np.array(centre) + focal_px * np.stack([around, up], axis=-1))


def laid_out_rays(xy: Array, focal_px: float, layout: str, centre: tuple[float, float]) -> Array:
    """Unit rays (..., 3) of pixels (..., 2) of a drawn layout: the inverse of ``laid_out``."""
    if layout == RECTILINEAR:
        return radial_rays(xy, focal_px, 0.0, centre)
    around, up = np.moveaxis((xy - np.array(centre)) / focal_px, -1, 0)
    high = np.arctan(up) if layout == CYLINDRICAL else up
    flat = np.cos(high)
    return np.asarray(np.stack([flat * np.sin(around), np.sin(high), flat * np.cos(around)], axis=-1))


FISH_EYE = "fish-eye"  # the layout of a picture that a fish-eye lens made: angles from the axis as distances


def fish_pixels(rays: Array, focal_px: float, k: float, centre: tuple[float, float]) -> Array:
    """Pixels (..., 2) of unit rays (..., 3; right, down, forward) through a fish-eye lens: at
    focal (a + k a^3) px from the centre, where a is the angle from the axis in radians."""
    flat = np.hypot(rays[..., 0], rays[..., 1])
    angle = np.arctan2(flat, rays[..., 2])
    reach = focal_px * angle * (1 + k * angle * angle) / np.maximum(flat, 1e-12)
    return np.asarray(np.array(centre) + reach[..., None] * rays[..., :2])


def fish_rays(xy: Array, focal_px: float, k: float, centre: tuple[float, float]) -> Array:
    """Unit rays (..., 3) of pixels (..., 2): the inverse of ``fish_pixels`` by Newton; what lies beyond the
    lens's reach is laid on its edge."""
    d = (np.asarray(xy, float) - np.array(centre)) / focal_px
    seen = np.hypot(d[..., 0], d[..., 1])
    edge = min(np.pi, float(np.sqrt(0.9 / (-3 * k)))) if k < 0 else np.pi
    angle = np.minimum(seen, edge)
    for _ in range(NEWTON_STEPS):
        slope = 1 + 3 * k * angle * angle
        angle = np.clip(angle - (angle * (1 + k * angle * angle) - seen) / slope, 0, edge)
    across = np.sin(angle) / np.maximum(seen, 1e-12)
    return np.concatenate([d * across[..., None], np.cos(angle)[..., None]], axis=-1)


def in_front(rays: Array, k1: float, least: float = LEAST_DEPTH) -> npt.NDArray[np.bool_]:
    """Which unit rays (..., 3) a lens shows: those in front of it, short of where a barrel lens folds
    back."""
    depth = np.where(rays[..., 2] > least, rays[..., 2], 1.0)
    r2 = (rays[..., 0] / depth) ** 2 + (rays[..., 1] / depth) ** 2
    return np.asarray((rays[..., 2] > least) & (1 + 3 * k1 * r2 > 0.1))


@dataclass(frozen=True)
class Pose:
    """Where the lens points: azimuth and altitude of the axis, roll clockwise, degrees."""

    azimuth: float
    altitude: float
    roll: float = 0.0


@dataclass(frozen=True)
class View:
    """An upright picture: size and focal length in pixels, radial term k1 over squared tangents, pose.

    A part of a picture has its first pixel at (``left``, ``top``) of the ``whole`` (width, height).
    """

    width: int
    height: int
    focal_px: float
    k1: float
    pose: Pose
    left: int = 0
    top: int = 0
    whole: tuple[int, int] | None = None

    @property
    def centre(self) -> tuple[float, float]:
        """Pixel coordinates of the optical axis; the centre of the first pixel is (0, 0)."""
        width, height = self.whole or (self.width, self.height)
        return (width - 1) / 2 - self.left, (height - 1) / 2 - self.top

    @property
    def corner_px(self) -> float:
        """Distance of a corner of the whole picture from the axis, px."""
        width, height = self.whole or (self.width, self.height)
        return float(np.hypot((width - 1) / 2, (height - 1) / 2))

    def part(self, left: int, top: int, width: int, height: int) -> "View":
        """A part of this whole picture."""
        return replace(self, left=left, top=top, width=width, height=height, whole=(self.width, self.height))

    @cached_property
    def axes(self) -> Array:
        """Rows: right, down and forward of the camera in (east, north, up)."""
        az, alt, roll = np.radians([self.pose.azimuth, self.pose.altitude, self.pose.roll])
        forward = np.array([np.cos(alt) * np.sin(az), np.cos(alt) * np.cos(az), np.sin(alt)])
        right = np.array([np.cos(az), -np.sin(az), 0.0])
        down = np.cross(forward, right)
        c, s = np.cos(roll), np.sin(roll)
        axes = np.stack([c * right + s * down, -s * right + c * down, forward])
        axes.flags.writeable = False
        return axes


def view_of(lens: Lens, pose: Pose, portrait: bool = False) -> View:
    """The upright view of a lens held level (landscape) or upright (portrait)."""
    width, height = (lens.height, lens.width) if portrait else (lens.width, lens.height)
    corner2 = ((width / 2) ** 2 + (height / 2) ** 2) / lens.focal_px**2
    return View(width, height, lens.focal_px, lens.distortion / corner2, pose)


def east_north_up(altitude: Array, azimuth: Array) -> Array:
    """Unit vectors (..., 3) east, north, up of horizontal directions in degrees."""
    alt, az = np.radians(altitude), np.radians(azimuth)
    return np.stack([np.cos(alt) * np.sin(az), np.cos(alt) * np.cos(az), np.sin(alt)], axis=-1)


def project(view: View, enu: Array) -> tuple[Array, Array, npt.NDArray[np.bool_]]:
    """Pixel x and y of unit vectors (n, 3), and whether each lies in front of the lens."""
    rays = enu @ view.axes.T
    front = in_front(rays, view.k1)
    rays[..., 2] = np.where(rays[..., 2] > LEAST_DEPTH, rays[..., 2], 1.0)
    xy = radial_pixels(rays, view.focal_px, view.k1, view.centre)
    return xy[..., 0], xy[..., 1], front


def unproject(view: View, x: Array, y: Array) -> Array:
    """Unit vectors (..., 3) east, north, up of pixels; error under 1e-6 px."""
    xy = np.stack([np.asarray(x, float), np.asarray(y, float)], axis=-1)
    return np.asarray(radial_rays(xy, view.focal_px, view.k1, view.centre) @ view.axes)
