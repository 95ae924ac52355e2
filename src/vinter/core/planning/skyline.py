"""The view from the stand: stars, band, Moon and horizon as they are seen, and the frame of a lens in it.

Altitudes here are apparent ones: refraction is included, as eye and phone see it.
"""

from dataclasses import dataclass

import cv2
import numpy as np
import numpy.typing as npt

from vinter.core.camera.phones import Lens
from vinter.core.camera.projection import Pose, View, east_north_up, project, unproject, view_of
from vinter.core.sky import ephemeris as eph
from vinter.core.sky.catalogue import DATA, aberrated, stars_to, to_horizon
from vinter.core.sky.diffuse_light import diffuse
from vinter.core.sky.ephemeris import Array
from vinter.core.sky.galaxy import to_equatorial, unit
from vinter.core.sky.refraction import refraction
from vinter.core.sky.site import Site
from vinter.core.sky.target_track import Track, track
from vinter.core.sky.targets import Target, position

FAINTEST = 5.0  # V magnitude of the stars drawn
LOWEST = -3.0  # degrees: below it nothing is drawn
EDGE_POINTS = 24  # points along each side of a frame
GRID = 36  # rays along a frame's side when its ground is measured
BLACK_NL, WHITE_NL = 36.0, 7000.0  # ends of the picture's logarithmic tone
# factor by which the band is drawn brighter than it shines, or a screen would hardly show it
BAND_DRAWN = 2.2
# Ink of each source in the picture: red, green, blue.
INKS = {
    "natural": (0.36, 0.62, 1.24),
    "towns": (1.45, 0.98, 0.42),
    "moon": (0.70, 0.92, 1.18),
    "twilight": (0.60, 0.80, 1.34),
}
BAND_INK = (1.16, 1.02, 0.90)
GLOW_BLUR = 2.0  # cells: the pattern of the glow is known in steps of 5 degrees


def seen(enu: Array) -> tuple[Array, Array]:
    """Apparent altitude and azimuth in degrees of true directions (n, 3)."""
    altitude = np.degrees(np.arcsin(np.clip(enu[..., 2], -1, 1)))
    return altitude + refraction(altitude), np.degrees(np.arctan2(enu[..., 0], enu[..., 1])) % 360


@dataclass(frozen=True, kw_only=True)
class Figures:
    """What is drawn over the horizon at a moment. Rows are azimuth, altitude (degrees) and what the name
    says."""

    stars: Array  # azimuth, altitude, V, B-V
    lines: Array  # azimuth, altitude of both ends of the constellations' lines
    names: list[tuple[float, float, str]]
    band: Array  # the centre of the band
    moon: tuple[float, float, float]  # azimuth, altitude, illuminated fraction
    target: tuple[float, float]
    at: Track


def _constellations(turn: Array) -> tuple[Array, list[tuple[float, float, str]]]:
    with np.load(DATA / "figures.npz") as data:
        ends, centres = data["ends"].astype(float), data["centres"].astype(float)
        names = data["names"].tobytes().decode().replace("\u2005", " ").split("\n")
    (alt1, az1), (alt2, az2) = (seen(unit(ends[:, i], ends[:, i + 1]) @ turn.T) for i in (0, 2))
    up = (alt1 > LOWEST) | (alt2 > LOWEST)
    alt, az = seen(unit(centres[:, 0], centres[:, 1]) @ turn.T)
    labels = [(float(az[i]), float(alt[i]), names[i].partition(" ")[2]) for i in np.flatnonzero(alt > 2)]
    return np.stack([az1, alt1, az2, alt2], axis=1)[up], labels


def figures(site: Site, unix: float, what: Target) -> Figures:
    """Everything drawn over a site's horizon at a moment; stars good to 0.002 degrees above the haze."""
    turn = to_horizon(site, unix)
    vectors, v, bv = stars_to(FAINTEST)
    alt, az = seen(aberrated(vectors, unix) @ turn.T)
    up = alt > LOWEST
    stars = np.stack([az, alt, v, bv], axis=1)[up]
    ra, dec = to_equatorial(np.arange(0, 361.0, 3.0), 0.0)
    band_alt, band_az = seen(unit(ra, dec) @ turn.T)
    lines, names = _constellations(turn)
    at = track(site, eph.year_of(unix), np.array([float(unix)]), what)
    moon_alt, target_alt = (float((a + refraction(a))[0]) for a in (at.moon_alt, at.alt))
    return Figures(
        stars=stars,
        lines=lines,
        names=names,
        band=np.stack([band_az, band_alt], axis=1),
        moon=(float(at.moon_az[0]), moon_alt, float(at.illuminated[0])),
        target=(float(at.az[0]), target_alt),
        at=at,
    )


def picture(
    site: Site, unix: float, centre: float, span: float, low: float, high: float, width: int
) -> npt.NDArray[np.uint8]:
    """The sky's light as RGB (n, width, 3): azimuths about ``centre`` across ``span``, altitudes ``low`` to
    ``high``, degrees."""
    columns = min(max(width // 3, 80), 420)
    rows = max(round(columns * (high - low) / span), 8)
    az = centre + (np.arange(columns) + 0.5 - columns / 2) / columns * span
    alt = high - (np.arange(rows) + 0.5) / rows * (high - low)
    grid_alt, grid_az = np.meshgrid(np.maximum(alt, 0.0), az, indexing="ij")
    light = diffuse(site, unix, east_north_up(grid_alt, grid_az).reshape(-1, 3))
    parts = {
        **light.light,
        "towns": cv2.GaussianBlur(light.light["towns"].reshape(rows, columns), (0, 0), GLOW_BLUR).ravel(),
    }
    rgb = sum(np.outer(part, INKS[name]) for name, part in parts.items()) + np.outer(
        light.band * BAND_DRAWN, BAND_INK
    )
    level = np.maximum(rgb.mean(axis=1, keepdims=True), 1.0)
    tone = np.clip(np.log10(level / BLACK_NL) / np.log10(WHITE_NL / BLACK_NL), 0.02, 1) * rgb / level
    small = (255 * np.clip(tone, 0, 1)).reshape(rows, columns, 3).astype(np.float32)
    size = (width, max(round(width * (high - low) / span), 1))
    return np.asarray(np.round(cv2.resize(small, size, interpolation=cv2.INTER_CUBIC)).clip(0, 255), np.uint8)


@dataclass(frozen=True)
class FrameSeen:
    """A lens's frame over the horizon: outline (azimuth, altitude), share of it that is ground, target's
    place in it.

    ``target`` is its (x, y) as shares of width and height from the upper left, None when outside.
    """

    outline: list[tuple[float, float]]
    ground: float
    target: tuple[float, float] | None


def _edge(view: View) -> tuple[Array, Array]:
    along = np.linspace(-0.5, 0.5, EDGE_POINTS, endpoint=False)
    w, h = view.width, view.height
    x = np.concatenate([along * w, np.full(EDGE_POINTS, w / 2), -along * w, np.full(EDGE_POINTS, -w / 2)])
    y = np.concatenate([np.full(EDGE_POINTS, -h / 2), along * h, np.full(EDGE_POINTS, h / 2), -along * h])
    cx, cy = view.centre
    return x + cx, y + cy


def frame_seen(site: Site, lens: Lens, pose: Pose, portrait: bool, target: tuple[float, float]) -> FrameSeen:
    """The frame of a lens at a pose. ``target`` is the target's azimuth and apparent altitude in degrees."""
    view = view_of(lens, pose, portrait)
    border = unproject(view, *_edge(view))
    alt = np.degrees(np.arcsin(np.clip(border[:, 2], -1, 1)))
    az = np.degrees(np.arctan2(border[:, 0], border[:, 1])) % 360
    gx, gy = np.meshgrid(
        (np.arange(GRID) + 0.5) / GRID * view.width, (np.arange(GRID) + 0.5) / GRID * view.height
    )
    rays = unproject(view, gx, gy).reshape(-1, 3)
    ray_alt = np.degrees(np.arcsin(np.clip(rays[:, 2], -1, 1)))
    ray_az = np.degrees(np.arctan2(rays[:, 0], rays[:, 1])) % 360
    ground = site.horizon.at(ray_az) if site.horizon else np.zeros_like(ray_alt)
    x, y, front = project(view, east_north_up(np.array([target[1]]), np.array([target[0]])))
    inside = bool(front[0]) and 0 <= x[0] < view.width and 0 <= y[0] < view.height
    place = (float(x[0] / view.width), float(y[0] / view.height)) if inside else None
    return FrameSeen(
        list(zip(az.tolist(), alt.tolist(), strict=True)), float((ray_alt < ground).mean()), place
    )


def target_pose(site: Site, unix: float, what: Target) -> tuple[float, float]:
    """Azimuth and altitude in degrees of a target at a moment, to point at."""
    alt, az = position(site, eph.year_of(unix), np.array([float(unix)]), what)
    return float(az[0]), float(alt[0])
