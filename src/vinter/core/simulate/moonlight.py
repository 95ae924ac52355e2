"""Moonlight on the ground before the simulated lens: what stands there casts shadows and turns its faces.

The plain is level and lies ``EYE`` under the lens. What stands on it is flat, upright, and faces the lens.
"""

from collections.abc import Iterator

import cv2
import numpy as np
import numpy.typing as npt

from vinter.core.camera.projection import View, project
from vinter.core.simulate.capture import Burst
from vinter.core.simulate.ground import EYE, Ground, Standing
from vinter.core.sky import ephemeris as eph
from vinter.core.sky.brightness import ray_airmass

F32 = npt.NDArray[np.float32]
U8 = npt.NDArray[np.uint8]
Array = npt.NDArray[np.float64]
LOWEST = 2.0  # degrees of the Moon, under which shadows run out of every picture
NEAREST = 0.4  # m before the lens, at which a shadow is cut
SOFT_PX = 1.5  # px, softness of a shadow's edge in a 3 megapixel picture
SIXTEENTHS = 16
SAME_WALL = 0.08  # relative difference of distances within which walls catch shadows as one
CUT_PX = 30000  # px from the frame's corner beyond which nothing is drawn
NL_PER_LUX, MOON_SHARE = 1e5, 0.5  # nL of a white surface in a lux, and how much of moonlight hills turn away
STILL = 0.3  # degrees the Moon may move before its shadows are drawn anew


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


def cast_on_wall(places: Array, azimuth: float, altitude: float, away: float) -> Array:
    """Where the shadows of places (n, 3) nearer than ``away`` m fall on upright surfaces at that distance all
    round, with the Moon at an azimuth and altitude in degrees."""
    moon = np.array([np.sin(np.radians(azimuth)), np.cos(np.radians(azimuth))])
    ahead = places[:, :2] @ moon
    inside = np.maximum(away**2 - (places[:, :2] ** 2).sum(axis=1), 0.0)
    level = ahead + np.sqrt(ahead**2 + inside)  # m to the surface, away from the Moon
    height = places[:, 2] - level * np.tan(np.radians(altitude))
    return np.asarray(np.c_[places[:, :2] - level[:, None] * moon, height])


def _draw(out: U8, view: View, places: Array, one: Standing) -> None:
    """Draw an outline, or a line as thick as it is at its distance, through places (n, 3) before the lens."""
    x, y, front = project(view, places / np.linalg.norm(places, axis=1)[:, None])
    if not front.all() or max(np.abs(x).max(), np.abs(y).max()) > CUT_PX:
        return
    pixels = np.round(np.c_[x, y] * SIXTEENTHS).astype(np.int32)
    if one.thick is None:
        cv2.fillPoly(out, [pixels], 255, cv2.LINE_AA, 4)
        return
    away = float(np.median(np.hypot(places[:, 0], places[:, 1])))
    wide = np.radians(one.thick) * one.away * view.focal_px / max(away, 1.0)
    cv2.polylines(
        out, [pixels], False, int(255 * min(max(wide, 0.2), 1)), max(round(wide), 1), cv2.LINE_AA, 4
    )


def _softened(out: U8, view: View) -> U8:
    return np.asarray(cv2.GaussianBlur(out, (0, 0), max(SOFT_PX * view.width / 2016, 0.5)), np.uint8)


def shadows(view: View, ground: Ground, azimuth: float, altitude: float) -> U8:
    """Share (height, width, of 255) of the Moon that is hidden from the plain; angles in degrees."""
    out = np.zeros((view.height, view.width), np.uint8)
    for one in ground.standing:
        for part in _in_front(cast(solid(one), azimuth, altitude), view.axes[2], one.thick is None):
            _draw(out, view, part, one)
    return _softened(out, view)


def _walls(standing: list[Standing]) -> Iterator[list[Standing]]:
    """What stands, gathered by distance."""
    group: list[Standing] = []
    for one in sorted(standing, key=lambda s: s.away):
        if group and one.away > group[0].away * (1 + SAME_WALL):
            yield group
            group = []
        group.append(one)
    if group:
        yield group


def wall_shadows(view: View, ground: Ground, azimuth: float, altitude: float) -> U8:
    """Share (height, width, of 255) of the Moon that what stands nearer hides from the faces of what stands
    farther off; angles in degrees."""
    out, hidden = (np.zeros((view.height, view.width), np.uint8) for _ in range(2))
    nearer: list[Standing] = []
    for wall in _walls(ground.standing):
        face, dark = np.zeros_like(out), np.zeros_like(out)
        for one in wall:
            _draw(face, view, solid(one), one)
        face = np.minimum(face, 255 - hidden)
        away = float(np.median([one.away for one in wall]))
        for one in nearer if face.any() else ():
            for part in _in_front(
                cast_on_wall(solid(one), azimuth, altitude, away), view.axes[2], one.thick is None
            ):
                _draw(dark, view, part, one)
        out = np.maximum(out, np.minimum(dark, face))
        hidden = np.maximum(hidden, face)
        nearer.extend(wall)
    return _softened(out, view)


def moonlit(view: View, ground: Ground, azimuth: float, altitude: float) -> F32:
    """Moonlight (height, width) on what is seen, over that on a surface turned to the Moon: of the plain the
    sine of its height less the shadows, of what stands the part that falls on its face, less the shadows."""
    level = np.float32(np.sin(np.radians(altitude)))
    if altitude < LOWEST:
        return np.full((view.height, view.width), level, np.float32)
    out = level * (1 - shadows(view, ground, azimuth, altitude).astype(np.float32) / np.float32(255))
    if ground.upright is not None:
        # what stands faces the lens: the Moon at the photographer's back lights it, before him it does not
        facing = np.cos(np.radians(azimuth - view.pose.azimuth - 180)) * np.cos(np.radians(altitude))
        lit = np.float32(0.9 * max(float(facing), 0.0))
        face: F32 | np.float32 = lit
        if lit > 0:
            dark = wall_shadows(view, ground, azimuth, altitude).astype(np.float32) / np.float32(255)
            face = lit * (1 - dark)
        stands = ground.upright.astype(np.float32) / np.float32(255)
        out = out * (1 - stands) + (face + np.float32(0.1) * level) * stands
    return np.asarray(out, np.float32)


class MoonOverGround:
    """The Moon's light on the ground of a burst, frame by frame."""

    def __init__(self, burst: Burst, view: View, ground: Ground) -> None:
        self.burst, self.view, self.ground = burst, view, ground
        self._drawn: tuple[tuple[float, float], F32] | None = None

    def where(self, i: int) -> tuple[float, float, float]:
        """Azimuth, altitude and phase angle of the Moon at mid-exposure of frame i, degrees."""
        t = np.array([self.burst.middle(i)])
        e = eph.year_ephemeris(eph.year_of(float(t[0])))
        sun, moon = e.sun(t), e.moon(t)
        altitude, azimuth, _ = eph.horizontal(moon, e.gast(t), self.burst.site)
        return float(azimuth[0]), float(altitude[0]), float(eph.phase_angle(sun, moon)[0])

    def light(self, i: int) -> F32 | None:
        """The Moon's light (height, width, nL) on white surfaces in frame i, with shadows; hills turn half of
        it away. None while the Moon is below the horizon."""
        site = self.burst.site
        azimuth, altitude, phase = self.where(i)
        if altitude <= 0 or (site.horizon and altitude < float(site.horizon.at(np.array([azimuth]))[0])):
            return None
        magnitude = -12.73 + 0.026 * phase + 4e-9 * phase**4 + site.extinction * float(ray_airmass(altitude))
        lux = 10 ** (-0.4 * (magnitude + 14.18))
        return self._moonlit(round(azimuth, 1), round(altitude, 1)) * np.float32(
            lux * NL_PER_LUX * MOON_SHARE
        )

    def _moonlit(self, azimuth: float, altitude: float) -> F32:
        """``moonlit`` of the ground, kept while the Moon stands where it stood."""
        if self._drawn is None or np.hypot(*np.subtract(self._drawn[0], (azimuth, altitude))) > STILL:
            self._drawn = (azimuth, altitude), moonlit(self.view, self.ground, azimuth, altitude)
        return self._drawn[1]
