"""The steps of a finish, in the order they are applied. Each is small, typed and does one thing."""

from dataclasses import dataclass
from functools import lru_cache
from typing import Protocol

import cv2
import numpy as np
import numpy.typing as npt

from vinter.core.camera.photons import srgb
from vinter.core.finish.recipe import AS_SHOT_KELVIN, RATIOS, Core, Crop, Recipe, Zone
from vinter.core.finish.scene import Scene, terms

F32 = npt.NDArray[np.float32]
Array = npt.NDArray[np.float64]
TARGET_SKY = 0.045  # linear level to which the sky's background is brought before the user's own changes
PIVOT = 0.30  # encoded level around which the curve turns
LUT_SIZE = 65536
BRIGHTEST = 8.0  # linear level at the end of the curve's table


@dataclass(frozen=True)
class Canvas:
    """What passes from step to step: RGB (h, w, 3), share of sky (h, w), and the geometry done so far.

    to_full maps a pixel of this canvas to shares of the uncropped scene: (2, 3) affine.
    """

    rgb: F32
    sky: F32
    to_shares: Array


class Step(Protocol):
    """One move of the edit."""

    def apply(self, canvas: Canvas, scene: Scene) -> Canvas:
        """The canvas after this move."""
        ...


def planck_gains(kelvin: float) -> Array:
    """Gains (3,) that make light of a colour temperature neutral, relative to the as-shot 5200 K, green 1."""
    wave = np.array([600.0, 540.0, 460.0]) * 1e-9
    c2 = 1.4388e-2

    def light(t: float) -> Array:
        return np.asarray(1 / (np.exp(c2 / (wave * t)) - 1))

    ratio = light(AS_SHOT_KELVIN) / light(kelvin)
    return np.asarray(ratio / ratio[1])


def _mixed(canvas: Canvas, sky: F32, ground: F32) -> F32:
    return np.asarray(cv2.blendLinear(sky, ground, canvas.sky, 1 - canvas.sky), np.float32)


def _less_sky(canvas: Canvas, amounts: list[F32]) -> Canvas:
    """The canvas with something subtracted from its sky, by colour."""
    return Canvas(
        np.asarray(cv2.subtract(canvas.rgb, cv2.merge(amounts)), np.float32), canvas.sky, canvas.to_shares
    )


@dataclass(frozen=True)
class Geometry:
    """Level and crop: turn about the centre, then cut a rectangle that holds no empty corner."""

    level: float
    crop: Crop

    def rectangle(self, width: int, height: int) -> tuple[float, float, float, float]:
        """Centre x and y, width and height (px) of what is kept of the turned picture."""
        turn = np.radians(abs(self.level))
        ratio = RATIOS[self.crop.ratio] or width / height
        # the largest rectangle of the ratio inside the turned frame
        h = min(width / (ratio * np.cos(turn) + np.sin(turn)), height / (ratio * np.sin(turn) + np.cos(turn)))
        h *= self.crop.size
        w = ratio * h
        half_x, half_y = (w * np.cos(turn) + h * np.sin(turn)) / 2, (w * np.sin(turn) + h * np.cos(turn)) / 2
        x = np.clip(self.crop.x * width, min(half_x, width / 2), max(width - half_x, width / 2))
        y = np.clip(self.crop.y * height, min(half_y, height / 2), max(height - half_y, height / 2))
        return float(x), float(y), float(w), float(h)

    def apply(self, canvas: Canvas, scene: Scene) -> Canvas:
        """The turned and cropped canvas."""
        height, width = canvas.sky.shape
        x, y, w, h = self.rectangle(width, height)
        size = (max(round(w), 1), max(round(h), 1))
        c, s = np.cos(np.radians(-self.level)), np.sin(np.radians(-self.level))
        back = np.array(
            [
                [c, -s, x - 0.5 - c * (size[0] - 1) / 2 + s * (size[1] - 1) / 2],
                [s, c, y - 0.5 - s * (size[0] - 1) / 2 - c * (size[1] - 1) / 2],
            ]
        )
        shares = np.diag([1 / width, 1 / height]) @ (back + np.array([[0, 0, 0.5], [0, 0, 0.5]]))
        if self.level == 0 and size == (width, height):
            return Canvas(canvas.rgb, canvas.sky, shares)
        if self.level == 0:
            x0, y0 = (
                min(max(round(x - w / 2), 0), width - size[0]),
                min(max(round(y - h / 2), 0), height - size[1]),
            )
            part = np.s_[y0 : y0 + size[1], x0 : x0 + size[0]]
            return Canvas(
                np.ascontiguousarray(canvas.rgb[part]), np.ascontiguousarray(canvas.sky[part]), shares
            )
        flags = cv2.INTER_CUBIC | cv2.WARP_INVERSE_MAP
        rgb = cv2.warpAffine(canvas.rgb, back, size, flags=flags, borderMode=cv2.BORDER_REPLICATE)
        sky = cv2.warpAffine(
            canvas.sky,
            back,
            size,
            flags=cv2.INTER_LINEAR | cv2.WARP_INVERSE_MAP,
            borderMode=cv2.BORDER_REPLICATE,
        )
        return Canvas(np.asarray(rgb, np.float32), np.asarray(sky, np.float32), shares)


def _places(canvas: Canvas, step: int) -> tuple[Array, Array]:
    """Shares of the scene's width and height on a coarse grid over the canvas."""
    h, w = canvas.sky.shape
    gx, gy = np.meshgrid(np.linspace(0, w - 1, max(w // step, 2)), np.linspace(0, h - 1, max(h // step, 2)))
    at = canvas.to_shares @ np.stack([gx.ravel(), gy.ravel(), np.ones(gx.size)])
    return at[0].reshape(gx.shape), at[1].reshape(gx.shape)


@dataclass(frozen=True)
class Glow:
    """Take out the gradient of the sky's glow, down to its darkest place."""

    share: float

    def apply(self, canvas: Canvas, scene: Scene) -> Canvas:
        """The canvas with a share of the smooth glow subtracted from its sky."""
        if self.share == 0:
            return canvas
        x, y = _places(canvas, 16)
        surface = (terms(np.clip(x, 0, 1).ravel(), np.clip(y, 0, 1).ravel()) @ scene.glow).reshape(
            *x.shape, 3
        )
        over = np.clip(surface - self.base(scene), 0, None).astype(np.float32) * np.float32(self.share)
        h, w = canvas.sky.shape
        full = cv2.split(cv2.resize(over, (w, h), interpolation=cv2.INTER_LINEAR))
        return _less_sky(canvas, [c * canvas.sky for c in full])

    @staticmethod
    def base(scene: Scene) -> Array:
        """Level (3,) of the darkest tenth of the smooth sky."""
        gx, gy = np.meshgrid(np.linspace(0.02, 0.98, 24), np.linspace(0.02, 0.98, 24))
        h, w = scene.sky.shape
        sky = scene.sky[(gy * (h - 1)).astype(int), (gx * (w - 1)).astype(int)] > 0.9
        surface = terms(gx.ravel(), gy.ravel()) @ scene.glow
        inside = surface[sky.ravel()] if sky.any() else surface
        return np.asarray(np.percentile(inside, 10, axis=0))


@dataclass(frozen=True)
class Floor:
    """Darken the sky's background by magnitudes: the level that is subtracted is the sky's own colour."""

    magnitudes: float
    glow: float

    def apply(self, canvas: Canvas, scene: Scene) -> Canvas:
        """The canvas with the sky's pedestal lowered."""
        if self.magnitudes == 0:
            return canvas
        level = self.glow * Glow.base(scene) + (1 - self.glow) * scene.background
        return _less_sky(
            canvas, [canvas.sky * np.float32(v * (1 - 10 ** (-0.4 * self.magnitudes))) for v in level]
        )


@dataclass(frozen=True)
class Balance:
    """Light balance and brightness, sky and ground apart: camera RGB to linear sRGB."""

    sky: Zone
    ground: Zone

    def matrix(self, zone: Zone, scene: Scene) -> Array:
        """Camera RGB to linear sRGB (3, 3) for a zone, with the base exposure."""
        gains = planck_gains(zone.kelvin) / np.array(scene.colour.neutral)
        gains[1] *= 2.0**-zone.cast
        base = TARGET_SKY / max(float(scene.background[1]), 1e-6)
        return np.asarray(np.array(scene.colour.matrix) @ np.diag(gains) * base * 2.0**zone.brightness)

    def apply(self, canvas: Canvas, scene: Scene) -> Canvas:
        """The canvas in linear sRGB."""
        sky, ground = (
            cv2.transform(canvas.rgb, self.matrix(z, scene).astype(np.float32))
            for z in (self.sky, self.ground)
        )
        return Canvas(
            _mixed(canvas, np.asarray(sky, np.float32), np.asarray(ground, np.float32)),
            canvas.sky,
            canvas.to_shares,
        )


@dataclass(frozen=True)
class CoreLight:
    """Brighten the core softly inside an ellipse, on the sky only."""

    core: Core

    def apply(self, canvas: Canvas, scene: Scene) -> Canvas:
        """The canvas with a soft gain over the core."""
        if self.core.brightness == 0:
            return canvas
        x, y = _places(canvas, 8)
        w, h = scene.size
        dx, dy = x - self.core.x, (y - self.core.y) * h / w
        c, s = np.cos(np.radians(self.core.angle)), np.sin(np.radians(self.core.angle))
        along, across = dx * s - dy * c, dx * c + dy * s  # angle 0 is upright
        weight = np.exp(-1.2 * ((along / self.core.length) ** 2 + (across / self.core.breadth) ** 2))
        gain = cv2.resize(
            (2.0 ** (self.core.brightness * weight) - 1).astype(np.float32), canvas.sky.shape[::-1]
        )
        factor = 1 + gain * canvas.sky
        return Canvas(
            np.asarray(cv2.multiply(canvas.rgb, cv2.merge([factor] * 3)), np.float32),
            canvas.sky,
            canvas.to_shares,
        )


@dataclass(frozen=True)
class Curve:
    """Encode for the screen with a contrast curve, sky and ground apart; output 0 to 1, encoded."""

    sky: float
    ground: float

    @staticmethod
    @lru_cache(maxsize=64)
    def table(contrast: float) -> F32:
        """Encoded level over 65,536 square roots of linear levels from 0 to BRIGHTEST.

        Highlights roll off above one half instead of clipping; then an S of slope ``contrast`` at the
        pivot that keeps both ends.
        """
        linear = np.linspace(0, 1, LUT_SIZE) ** 2 * BRIGHTEST
        x = srgb(np.where(linear > 0.5, 1 - 0.25 / np.maximum(linear, 0.5), linear))
        low = PIVOT * (x / PIVOT) ** contrast
        high = 1 - (1 - PIVOT) * ((1 - x) / (1 - PIVOT)) ** contrast
        return np.where(x < PIVOT, low, high).astype(np.float32)

    def apply(self, canvas: Canvas, scene: Scene) -> Canvas:
        """The canvas, encoded."""
        height, width = canvas.sky.shape
        flat = canvas.rgb.reshape(
            height, width * 3
        )  # one channel, for a number meets only the first of several
        root = cv2.sqrt(cv2.max(flat, 0.0))
        # the conversion saturates, so that what is brighter than the table takes its last entry
        index = cv2.multiply(root, (LUT_SIZE - 1) / BRIGHTEST**0.5, dtype=cv2.CV_16U).reshape(
            height, width, 3
        )
        sky = cv2.LUT(index, self.table(self.sky))
        out = sky if self.sky == self.ground else _mixed(canvas, sky, cv2.LUT(index, self.table(self.ground)))
        return Canvas(np.asarray(out, np.float32), canvas.sky, canvas.to_shares)


@dataclass(frozen=True)
class Grain:
    """Smooth colour noise, then light noise, sky and ground apart; stars and edges stand out and stay."""

    sky: Zone
    ground: Zone

    def _share(self, canvas: Canvas, name: str) -> F32:
        ground, sky = getattr(self.ground, name), getattr(self.sky, name)
        return np.asarray(ground + canvas.sky * (sky - ground), np.float32)

    @staticmethod
    def _calmer(chroma: F32, share: F32, scale: float) -> F32:
        """A colour difference moved towards its surroundings, less where it stands far off (stars, lamps)."""
        h, w = chroma.shape
        small = cv2.resize(chroma, (max(w // 2, 1), max(h // 2, 1)), interpolation=cv2.INTER_AREA)
        soft = cv2.resize(
            cv2.GaussianBlur(small, (0, 0), max(3.5 * scale, 0.5)), (w, h), interpolation=cv2.INTER_LINEAR
        )
        away = np.asarray(soft - chroma, np.float32)
        return np.asarray(chroma + share * away / (1 + (away * (1 / 0.12)) ** 2), np.float32)

    def apply(self, canvas: Canvas, scene: Scene) -> Canvas:
        """The canvas with less grain."""
        zones = (self.sky, self.ground)
        colour, light = any(z.colour_smoothed for z in zones), any(z.light_smoothed for z in zones)
        if not colour and not light:
            return canvas
        y, red, blue = cv2.split(cv2.cvtColor(canvas.rgb, cv2.COLOR_RGB2YCrCb))
        if colour:
            share = self._share(canvas, "colour_smoothed")
            red, blue = (self._calmer(c, share, scene.scale) for c in (red, blue))
        if light:
            detail = y - cv2.GaussianBlur(y, (0, 0), max(2.2 * scene.scale, 0.6))
            grain = 1.4826 * float(np.median(np.abs(detail[::4, ::4]))) + 1e-5
            y = (
                y
                - self._share(canvas, "light_smoothed")
                * detail
                / (1 + (detail * (1 / (3 * grain))) ** 2) ** 2
            )
        ycc = cv2.merge([np.asarray(c, np.float32) for c in (y, red, blue)])
        rgb = cv2.cvtColor(ycc, cv2.COLOR_YCrCb2RGB)
        return Canvas(np.asarray(rgb, np.float32), canvas.sky, canvas.to_shares)


def chain(recipe: Recipe) -> list[Step]:
    """The steps of a recipe in order."""
    return [
        Geometry(recipe.level, recipe.crop),
        Glow(recipe.glow),
        Floor(recipe.floor, recipe.glow),
        Balance(recipe.sky, recipe.ground),
        CoreLight(recipe.core),
        Curve(recipe.sky.contrast, recipe.ground.contrast),
        Grain(recipe.sky, recipe.ground),
    ]
