"""Moonlight on the ground before the simulated lens: what stands there casts shadows and turns its faces.

The plain is level and lies ``EYE`` under the lens. What stands on it is flat, upright, and faces the lens.
"""

import cv2
import numpy as np
import numpy.typing as npt

from vinter.core.camera.projection import View, project
from vinter.core.simulate.ground import EYE, Ground, Standing

F32 = npt.NDArray[np.float32]
U8 = npt.NDArray[np.uint8]
Array = npt.NDArray[np.float64]
LOWEST = 2.0  # degrees of the Moon, under which shadows run out of every picture
NEAREST = 0.4  # m before the lens, at which a shadow is cut
SOFT_PX = 1.5  # of a shadow's edge in a 3 megapixel picture
SIXTEENTHS = 16


def solid(standing: Standing) -> Array:
    """Places (n, 3: east, north, up from the lens, m) of what stands at one distance."""
    azimuth, altitude = np.radians(standing.points).T
    level = standing.away
    return np.stack([level * np.sin(azimuth), level * np.cos(azimuth), level * np.tan(altitude)], axis=1)


def cast(places: Array, azimuth: float, altitude: float) -> Array:
    """Where the shadows of places (n, 3) fall on the plain, with the Moon at an azimuth and altitude in
    degrees."""
    above = np.maximum(places[:, 2] + EYE, 0.0)
    long = above / np.tan(np.radians(altitude))
    out = places.copy()
    out[:, 0] -= long * np.sin(np.radians(azimuth))
    out[:, 1] -= long * np.cos(np.radians(azimuth))
    out[:, 2] = -EYE
    return out


def _in_front(places: Array, forward: Array, closed: bool) -> list[Array]:
    """The parts of a line or (``closed``) an outline that lie before the lens, cut where they pass it."""
    ahead = places @ forward - NEAREST
    if (ahead >= 0).all():
        return [places]
    if (ahead < 0).all():
        return []
    out: list[Array] = []
    for i in range(len(places) if closed else len(places) - 1):
        a, b = places[i], places[(i + 1) % len(places)]
        from_a, from_b = ahead[i], ahead[(i + 1) % len(places)]
        if from_a >= 0:
            out.append(a)
        if (from_a >= 0) != (from_b >= 0):
            out.append(a + (b - a) * from_a / (from_a - from_b))
    return [np.array(out)] if len(out) > 1 else []


def shadows(view: View, ground: Ground, azimuth: float, altitude: float) -> U8:
    """Share (height, width, of 255) of the Moon that is hidden from the plain; angles in degrees."""
    out = np.zeros((view.height, view.width), np.uint8)
    forward = view.axes[2]
    for one in ground.standing:
        for part in _in_front(cast(solid(one), azimuth, altitude), forward, one.thick is None):
            x, y, front = project(view, part / np.linalg.norm(part, axis=1)[:, None])
            if not front.all() or max(np.abs(x).max(), np.abs(y).max()) > 30000:
                continue
            pixels = np.round(np.c_[x, y] * SIXTEENTHS).astype(np.int32)
            if one.thick is None:
                cv2.fillPoly(out, [pixels], 255, cv2.LINE_AA, 4)
            else:
                away = float(np.median(np.hypot(part[:, 0], part[:, 1])))
                wide = np.radians(one.thick) * one.away * view.focal_px / max(away, 1.0)
                shade = int(255 * min(max(wide, 0.2), 1))
                cv2.polylines(out, [pixels], False, shade, max(round(wide), 1), cv2.LINE_AA, 4)
    soft = SOFT_PX * view.width / 2016
    return np.asarray(cv2.GaussianBlur(out, (0, 0), max(soft, 0.5)), np.uint8)


def moonlit(view: View, ground: Ground, azimuth: float, altitude: float) -> F32:
    """Moonlight (height, width) on what is seen, over that on a surface turned to the Moon: of the plain the
    sine of its height less the shadows, of what stands the part that falls on its face."""
    level = np.float32(np.sin(np.radians(altitude)))
    if altitude < LOWEST:
        return np.full((view.height, view.width), level, np.float32)
    out = level * (1 - shadows(view, ground, azimuth, altitude).astype(np.float32) / np.float32(255))
    if ground.upright is not None:
        # what stands faces the lens: the Moon at the photographer's back lights it, before him it does not
        facing = np.cos(np.radians(azimuth - view.pose.azimuth - 180)) * np.cos(np.radians(altitude))
        face = np.float32(max(float(facing), 0.0) * 0.9 + 0.1 * level)
        stands = ground.upright.astype(np.float32) / np.float32(255)
        out = out * (1 - stands) + face * stands
    return np.asarray(out, np.float32)
