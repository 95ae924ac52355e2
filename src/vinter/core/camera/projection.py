"""From directions over the horizon to pixels of a lens and back: pinhole with one radial term."""

from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from vinter.core.camera.phones import Lens

Array = npt.NDArray[np.float64]


@dataclass(frozen=True)
class Pose:
    """Where the lens points: azimuth and altitude of the axis, roll clockwise, degrees."""

    azimuth: float
    altitude: float
    roll: float = 0.0


@dataclass(frozen=True)
class View:
    """An upright picture: size and focal length in pixels, radial term k1 over squared tangents, pose."""

    width: int
    height: int
    focal_px: float
    k1: float
    pose: Pose

    @property
    def centre(self) -> tuple[float, float]:
        """Pixel coordinates of the optical axis; the centre of the first pixel is (0, 0)."""
        return (self.width - 1) / 2, (self.height - 1) / 2

    @property
    def axes(self) -> Array:
        """Rows: right, down and forward of the camera in (east, north, up)."""
        az, alt, roll = np.radians([self.pose.azimuth, self.pose.altitude, self.pose.roll])
        forward = np.array([np.cos(alt) * np.sin(az), np.cos(alt) * np.cos(az), np.sin(alt)])
        right = np.array([np.cos(az), -np.sin(az), 0.0])
        down = np.cross(forward, right)
        c, s = np.cos(roll), np.sin(roll)
        return np.stack([c * right + s * down, -s * right + c * down, forward])


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
    c = enu @ view.axes.T
    front = c[..., 2] > 0.05
    depth = np.where(front, c[..., 2], 1.0)
    u, v = c[..., 0] / depth, c[..., 1] / depth
    r2 = u * u + v * v
    # a barrel lens folds back far outside the frame; what lies there is not in the picture
    front &= 1 + 3 * view.k1 * r2 > 0.1
    scale = view.focal_px * (1 + view.k1 * r2)
    cx, cy = view.centre
    return cx + u * scale, cy + v * scale, front


def unproject(view: View, x: Array, y: Array) -> Array:
    """Unit vectors (..., 3) east, north, up of pixels; Newton on the radial term, error under 1e-6 px."""
    cx, cy = view.centre
    u, v = (np.asarray(x) - cx) / view.focal_px, (np.asarray(y) - cy) / view.focal_px
    rd = np.hypot(u, v)
    r = rd.copy()
    for _ in range(8):
        r = r - (r * (1 + view.k1 * r * r) - rd) / (1 + 3 * view.k1 * r * r)
    scale = np.where(rd > 0, r / np.where(rd > 0, rd, 1), 1.0)
    rays = np.stack([u * scale, v * scale, np.ones_like(u)], axis=-1)
    rays /= np.linalg.norm(rays, axis=-1, keepdims=True)
    return np.asarray(rays @ view.axes)
