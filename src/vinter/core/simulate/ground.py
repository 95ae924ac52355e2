"""The ground in front of the simulated lens: the site's own horizon, and before it what a scene puts
there."""

from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass, field, replace
from functools import lru_cache

import cv2
import numpy as np
import numpy.typing as npt

from vinter.core.camera.projection import View, east_north_up, project, unproject
from vinter.core.simulate.painting import FULL, lay_mask, lay_profile, lay_water, spread
from vinter.core.sky.horizon import Horizon

F32 = npt.NDArray[np.float32]
U8 = npt.NDArray[np.uint8]
Array = npt.NDArray[np.float64]
STEP = 0.02  # degrees of azimuth in the skyline table
COARSE = 16  # pixels between directions that are computed exactly
EYE = 1.6  # m of the lens over the ground
FARTHEST = 120.0  # m, beyond which shadows are not drawn
TILE = 512  # px of a side of the texture that the plain is laid with
GRASS, SOIL, STONE, WOOD, LEAF = (
    np.array(c, np.float32)
    for c in (
        (0.075, 0.085, 0.045),
        (0.13, 0.11, 0.085),
        (0.26, 0.24, 0.21),
        (0.10, 0.085, 0.07),
        (0.035, 0.045, 0.03),
    )
)


@dataclass(frozen=True)
class Standing:
    """An outline, or a line ``thick`` degrees wide, (n, 2) of azimuth and altitude in degrees, that stands on
    the plain at this distance, m."""

    points: Array
    away: float
    thick: float | None = None


@dataclass
class Ground:
    """Share of sky in each pixel (height, width, 0 to 1); the ground's reflectance by colour (height, width,
    3, over ``FULL``); share of water that mirrors the sky; light of its own (nL by colour) or None; share (of
    255) of what stands upright, and what of it is near enough to cast shadows."""

    sky: F32
    colour: U8
    water: U8 | None = None
    light: F32 | None = None
    upright: U8 | None = None
    standing: list[Standing] = field(default_factory=list)

    @property
    def reflectance(self) -> F32:
        """Of the ground in green light (height, width)."""
        return np.asarray(self.colour[..., 1], np.float32) / np.float32(FULL)

    def through_lens(self, sigma: float) -> "Ground":
        """As a lens shows it that spreads light by so much (standard deviation, px): no edge is sharper than
        a star is small."""

        def soft(values: F32) -> F32:
            return np.asarray(cv2.GaussianBlur(values, (0, 0), sigma), np.float32)

        share = 1 - self.sky
        seen = np.maximum(soft(share), np.float32(1e-3))
        colour = np.empty_like(self.colour)
        for c in range(3):
            colour[..., c] = np.clip(soft(self.colour[..., c] * share) / seen + 0.5, 0, 255)
        return replace(
            self,
            sky=soft(self.sky),
            colour=colour,
            water=None if self.water is None else np.asarray(soft(self.water.astype(np.float32)), np.uint8),
            light=None if self.light is None else soft(self.light),
        )


def _smooth_round(noise: Array, sigma: float) -> Array:
    """Noise over the whole circle smoothed by a Gaussian, in steps of the table."""
    turns = np.fft.rfftfreq(len(noise))
    return np.asarray(
        np.fft.irfft(np.fft.rfft(noise) * np.exp(-2 * (np.pi * sigma * turns) ** 2), len(noise))
    )


def skyline(seed: int) -> Array:
    """Altitude of far hills and a plain in degrees over azimuth in steps of 0.02 degrees."""
    rng = np.random.default_rng([seed, 77])
    n = round(360 / STEP)
    height = np.full(n, 2.0)
    for sigma, size in ((14, 1.6), (4, 0.8), (1.2, 0.35), (0.3, 0.12)):
        layer = _smooth_round(rng.standard_normal(n), sigma / STEP)
        height += layer / layer.std() * size
    return np.asarray(np.maximum(height, 0.4) + scrub(rng, n))


def scrub(rng: np.random.Generator, n: int) -> Array:
    """Bushes and stones along an edge, degrees."""
    return np.asarray(
        sum(
            _smooth_round(rng.standard_normal(n), sigma / STEP) * size * np.sqrt(sigma / STEP)
            for sigma, size in ((0.6, 0.12), (0.15, 0.08), (0.05, 0.06))
        )
    )


def over_profile(horizon: Horizon, seed: int) -> Array:
    """The site's own profile as a skyline table, with scrub on it."""
    n = round(360 / STEP)
    return np.asarray(
        horizon.at(np.arange(n, dtype=np.float64) * STEP) + scrub(np.random.default_rng([seed, 77]), n)
    )


def upsample(coarse: Array, x: Array, y: Array, width: int, height: int) -> F32:
    """A smooth field known at pixel columns x and rows y (evenly spaced) at every pixel."""
    columns = np.interp(np.arange(width), x, np.arange(len(x))).astype(np.float32)
    rows = np.interp(np.arange(height), y, np.arange(len(y))).astype(np.float32)
    return np.asarray(spread(np.ascontiguousarray(coarse, np.float32), columns, rows))


def grid(view: View, step: int) -> tuple[Array, Array]:
    """Evenly spaced columns and rows that cover the frame, about ``step`` pixels apart."""
    return (
        np.linspace(0, view.width - 1, view.width // step + 2),
        np.linspace(0, view.height - 1, view.height // step + 2),
    )


@lru_cache(maxsize=2)
def _tile(seed: int) -> F32:
    """A texture that repeats without a seam: mean 1, tufts and stones of many sizes."""
    rng = np.random.default_rng([seed, 79])
    noise = np.fft.rfft2(rng.standard_normal((TILE, TILE)))
    ky = np.fft.fftfreq(TILE)[:, None] * TILE
    kx = np.fft.rfftfreq(TILE)[None, :] * TILE
    field = np.fft.irfft2(noise / np.maximum(np.hypot(kx, ky), 1) ** 0.75)
    return np.asarray(np.exp(0.55 * field / field.std()), np.float32) / np.float32(1.16)


class Painter:
    """Lays a ground together, from far to near, as a view sees it. Angles in degrees."""

    def __init__(self, view: View, seed: int) -> None:
        self.view, self.seed = view, seed
        x, y = grid(view, COARSE)
        enu = unproject(view, *np.meshgrid(x, y))
        altitude = np.degrees(np.arcsin(np.clip(enu[..., 2], -1, 1)))
        relative = (np.degrees(np.arctan2(enu[..., 0], enu[..., 1])) - view.pose.azimuth + 180) % 360 - 180
        self.altitude = upsample(altitude, x, y, view.width, view.height)
        self.relative = upsample(relative, x, y, view.width, view.height)
        self.per_px = float(np.degrees(1 / view.focal_px))
        self.made = Ground(
            np.ones((view.height, view.width), np.float32), np.zeros((view.height, view.width, 3), np.uint8)
        )
        self.rng = np.random.default_rng([seed, 78])
        self._away: float | None = None

    @contextmanager
    def stands(self, foot: float) -> Iterator[None]:
        """What is painted within stands on the plain where it is seen at an altitude; too far away it casts
        no shadow that is seen."""
        away = EYE / np.tan(np.radians(-foot)) if foot < 0 else FARTHEST
        self._away = min(float(away), FARTHEST)
        yield
        self._away = None

    def _stand(self, points: Array, thick: float | None = None) -> None:
        if self._away is not None and self._away < FARTHEST:
            self.made.standing.append(Standing(points, self._away, thick))

    def profile(self, table: Array, colour: F32, haze: float = 0.0) -> None:
        """All that lies under a skyline table: hills in a colour, paler with ``haze``, and the plain before
        them."""
        turned = np.roll(table, -round((self.view.pose.azimuth - 180) / STEP)).astype(np.float32)
        rows = np.flatnonzero(self.altitude.min(axis=1) < float(table.max()) + 1)
        if not len(rows):
            return
        part = np.s_[rows[0] : rows[-1] + 1]
        tint = np.asarray(colour * (1 - haze) + 0.3 * haze, np.float32)
        lay_profile(
            self.made.sky[part],
            self.made.colour[part],
            self.altitude[part],
            self.relative[part],
            turned,
            STEP,
            tint,
            _tile(self.seed),
            self.per_px,
            EYE,
        )

    def _pixels(self, points: Array) -> npt.NDArray[np.int32] | None:
        """Pixels (n, 2, in sixteenths) of azimuths and altitudes; None when one is not in front."""
        x, y, front = project(self.view, east_north_up(points[:, 1], points[:, 0]))
        if not front.all() or np.abs(x).max() > 30000 or np.abs(y).max() > 30000:
            return None
        return np.asarray(np.round(np.c_[x, y] * 16), np.int32)

    def _mask(self, box: tuple[int, int, int, int]) -> tuple[tuple[slice, slice], U8] | None:
        left, top, right, bottom = box
        left, top = max(left, 0), max(top, 0)
        right, bottom = min(right, self.view.width), min(bottom, self.view.height)
        if right - left < 1 or bottom - top < 1:
            return None
        return np.s_[top:bottom, left:right], np.zeros((bottom - top, right - left), np.uint8)

    def shape(self, points: Array, colour: F32, grain: float = 0.25, glow: float = 0.0) -> None:
        """A polygon of a colour with a grain; with ``glow`` (nL) it shines in that colour."""
        self._stand(np.asarray(points, float))
        pixels = self._pixels(np.asarray(points, float))
        if pixels is None:
            return
        low, high = pixels.min(axis=0) // 16 - 2, pixels.max(axis=0) // 16 + 3
        found = self._mask((int(low[0]), int(low[1]), int(high[0]), int(high[1])))
        if found is None:
            return
        part, mask = found
        offset = np.array([part[1].start, part[0].start], np.int32) * 16
        cv2.fillPoly(mask, [pixels - offset], 255, cv2.LINE_AA, 4)
        self._paint(part, mask, colour, grain, glow)

    def strokes(self, lines: list[Array], degrees: list[float], colour: F32, grain: float = 0.2) -> None:
        """Lines (n, 2) of azimuth and altitude, each with a thickness in degrees: branches, reeds, posts."""
        mask = np.zeros(self.made.sky.shape, np.uint8)
        low, high = np.full(2, np.inf), np.full(2, -np.inf)
        ends = np.cumsum([len(line) for line in lines])[:-1]
        for points, pixels, thick in zip(lines, self._lines(lines, ends), degrees, strict=True):
            self._stand(np.asarray(points, float), thick)
            if pixels is None:
                continue
            wide = thick / self.per_px
            cv2.polylines(
                mask, [pixels], False, int(255 * min(max(wide, 0.35), 1)), max(round(wide), 1), cv2.LINE_AA, 4
            )
            low = np.minimum(low, pixels.min(axis=0) // 16 - round(wide) - 2)
            high = np.maximum(high, pixels.max(axis=0) // 16 + round(wide) + 3)
        size = np.array(self.made.sky.shape[::-1])
        low, high = np.maximum(low, 0), np.minimum(high, size)
        if (high > low).all():
            (left, top), (right, bottom) = low.astype(int), high.astype(int)
            part = np.s_[top:bottom, left:right]
            self._paint(part, np.ascontiguousarray(mask[part]), colour, grain, 0.0)

    def _lines(self, lines: list[Array], ends: npt.NDArray[np.intp]) -> list[npt.NDArray[np.int32] | None]:
        """``_pixels`` of many lines."""
        together = self._pixels(np.concatenate(lines)) if lines else None
        if together is None:  # some are not in front
            return [self._pixels(np.asarray(line, float)) for line in lines]
        return list(np.split(together, ends))

    def _paint(self, part: tuple[slice, slice], mask: U8, colour: F32, grain: float, glow: float) -> None:
        if not mask.any():
            return
        made, none = self.made, np.zeros((0, 0), np.uint8)
        if made.upright is None:
            made.upright = np.zeros(made.sky.shape, np.uint8)
        lay_mask(
            made.sky,
            made.colour,
            made.upright,
            none if made.water is None else made.water,
            mask,
            part[0].start,
            part[1].start,
            np.asarray(colour, np.float32),
            _tile(self.seed),
            grain,
        )
        if glow:
            if made.light is None:
                made.light = np.zeros((*made.sky.shape, 3), np.float32)
            share = (mask.astype(np.float32) / np.float32(255))[..., None]
            tint = colour / colour.max() * np.float32(glow)
            made.light[part] = made.light[part] * (1 - share) + share * tint

    def water(self, left: float, right: float, near: float, far: float) -> None:
        """Water between two azimuths, from an altitude below the horizon to one nearer to it."""
        if self.made.water is None:
            self.made.water = np.zeros(self.made.sky.shape, np.uint8)
        middle = (left + right) / 2 - self.view.pose.azimuth
        lay_water(
            self.made.water,
            self.made.sky,
            self.altitude,
            self.relative,
            middle,
            (right - left) / 2,
            near,
            far,
            self.per_px,
        )
