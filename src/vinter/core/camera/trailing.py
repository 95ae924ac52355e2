"""How long before the stars trail: the divisor rules, the aperture-pitch rule, and the drift itself."""

from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from vinter.core.constants import ARCSEC_PER_RADIAN, SIDEREAL_ARCSEC

Array = npt.NDArray[np.float64]

INNER = 0.8  # share of width and height that counts as the middle of a frame
ARCSEC_PER_UM_MM = ARCSEC_PER_RADIAN / 1000  # arcsec per pixel = this * pitch (um) / focal (mm)


def rule_divisor(f35: float, divisor: float = 500) -> float:
    """Seconds by the divisor rule; f35 is the equivalent focal length in mm."""
    return divisor / f35


def npf_simple(aperture: float, pitch: float, focal: float) -> float:
    """Seconds by the short aperture-pitch rule (pitch um, true focal mm)."""
    return (35 * aperture + 30 * pitch) / focal


def npf_full(aperture: float, pitch: float, focal: float, declination: float, k: float = 1) -> float:
    """Seconds by the full aperture-pitch rule at a declination in degrees; k = 1 pinpoint, 2, 3 looser."""
    cosine = max(float(np.cos(np.radians(declination))), 1e-3)
    return k * (16.856 * aperture + 0.0997 * focal + 13.713 * pitch) / (focal * cosine)


def drift(pitch: float, focal: float, declination: float) -> float:
    """Drift of a star on the axis in px/s."""
    return float(SIDEREAL_ARCSEC * np.cos(np.radians(declination)) / (ARCSEC_PER_UM_MM * pitch / focal))


@dataclass(frozen=True)
class DriftMap:
    """Drift in px/s on a grid over the frame (rows y, columns x, pixel coordinates), and its worst place."""

    x: Array
    y: Array
    rate: Array

    @property
    def worst(self) -> float:
        """Fastest drift in the frame, px/s."""
        return float(self.rate.max())

    @property
    def inner(self) -> float:
        """Fastest drift in the middle 80 % of width and height, px/s: the extreme corners left out."""
        across, down = (np.linspace(-1, 1, len(v)) for v in (self.x, self.y))
        rim = np.linspace(-INNER, INNER, 33)
        spread = np.array([np.interp(rim, across, row) for row in self.rate])
        return float(max(np.interp(rim, down, column).max() for column in spread.T))

    @property
    def worst_place(self) -> str:
        """Where it is, in words."""
        row, column = np.unravel_index(int(np.argmax(self.rate)), self.rate.shape)
        rows, columns = self.rate.shape
        vertical = "top" if row < rows / 3 else "bottom" if row >= 2 * rows / 3 else "middle"
        side = "left" if column < columns / 3 else "right" if column >= 2 * columns / 3 else "centre"
        return f"{vertical} {side}"


def drift_map(focal_px: float, width: int, height: int, pole: Array, steps: int = 9) -> DriftMap:
    """Drift over a frame whose camera sees the celestial pole along ``pole`` (right, down, forward).

    A rectilinear picture: image velocity of v under rotation omega x v. Lens distortion (2 % at
    most) is left out.
    """
    x, y = np.linspace(0, width - 1, steps), np.linspace(0, height - 1, steps)
    gx, gy = np.meshgrid((x - (width - 1) / 2) / focal_px, (y - (height - 1) / 2) / focal_px)
    ray = np.stack([gx, gy, np.ones_like(gx)], axis=-1)
    omega = np.radians(SIDEREAL_ARCSEC / 3600) * np.asarray(pole, float)
    moved = np.cross(np.broadcast_to(omega, ray.shape), ray)
    u = moved[..., 0] - gx * moved[..., 2]
    v = moved[..., 1] - gy * moved[..., 2]
    return DriftMap(x, y, focal_px * np.hypot(u, v))


def pole_seen(declination: float, portrait: bool = False) -> Array:
    """The pole's direction (right, down, forward) for a level camera on the meridian at a declination."""
    d = np.radians(declination)
    up = np.array([0.0, -np.cos(d), np.sin(d)])
    return np.array([up[1], up[0], up[2]]) if portrait else up
