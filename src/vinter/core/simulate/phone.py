"""The simulated phone: RAW frames of a computed sky."""

from collections.abc import Callable
from datetime import datetime
from functools import cached_property
from pathlib import Path

import cv2
import numpy as np
import numpy.typing as npt

from vinter.core.camera import photons
from vinter.core.camera.projection import View, east_north_up, project, unproject, view_of
from vinter.core.formats.dng import DngInfo, write_dng
from vinter.core.simulate import skylight
from vinter.core.simulate.capture import Burst
from vinter.core.simulate.exposing import LEAST_WING, digitise, draw_trails, draw_wings
from vinter.core.simulate.ground import Ground, grid, upsample
from vinter.core.simulate.mishaps import (
    LAMP_TINT,
    blurred,
    by_colour,
    flare,
    lamp_light,
    screen,
    veil,
    walked_through,
)
from vinter.core.simulate.moonlight import MoonOverGround
from vinter.core.simulate.painting import FULL
from vinter.core.simulate.passing import Streak, draw_streak, passing
from vinter.core.simulate.scenes import ground
from vinter.core.sky import catalogue
from vinter.core.sky import diffuse_light as diffuse
from vinter.core.sky.brightness import ray_airmass, to_magnitudes
from vinter.core.sky.site import Site

Array = npt.NDArray[np.float64]
F32 = npt.NDArray[np.float32]
BLACK = {10: 64, 12: 256, 14: 1024}
NEUTRAL = (0.46, 1.0, 0.71)  # response of the made-up sensor to light of B-V 0.65
MATRIX = (0.92, -0.32, -0.09, -0.36, 1.17, 0.20, -0.05, 0.16, 0.60)
RED_SLOPE, BLUE_SLOPE = 0.45, 0.75  # magnitudes of raw colour per magnitude of B-V
BEST_SIGMA = 1.15  # px, of a star in focus at the axis
FRINGE = np.array([0.35, 0.0, -0.45])  # px by which red and blue lie outward of green in the corner
CORNER_PX = 2520.0  # px from the axis to the corner of a 12 MP frame, for which these are:
COMA, COMA_SHARE = 1.1, 0.3  # px in the corner, and the share of a star's light that lies outward
WINGS, WING_PX = 0.05, 4.0  # share of a star's light that the lens scatters, and px of its width
ROW_NOISE, BLACK_DRIFT = 0.06, 0.03  # of the read noise: from row to row, from frame to frame
SIGMA_PER_TICK = 0.55  # px of blur (in quadrature) a focus tick away from infinity
FIELD_CURVATURE = 0.7  # ticks from the axis to the corner
MEAN_OFF_AXIS = 1 / 3  # mean over the frame of the squared distance from the axis, against the corner's
DIFFUSE_STEP, BAND_STEP = 16, 6  # px between places where the air's light, and the band's, is worked out
AIR_BY_COLOUR = np.array([0.80, 1.0, 1.45])  # extinction of red, green and blue against green's
RED_LINE = np.array([0.55, 0.05, 0.055])  # raw colours of a nebula's red light
GREEN_LINE = 0.05  # share of the natural sky's light that the airglow's green line adds
VIGNETTING = 0.42  # share of the light that is lost in the corner
HOT_SHARE = 1.2e-4
GROUND_LIGHT = 0.9  # share of the whole sky's light that reaches the ground: hills hide the rest
MIRRORED = 5.0  # V to which stars are seen in water
RIPPLE = 0.006  # rad by which ripples draw out what water mirrors, upright
WAVES = 0.14  # rad, mean slope of the water's faces
SWAY = 0.25  # degrees at the tips, from frame to frame
STARS_TOLD = 8.5  # V to which ``stars_at`` says where stars are


def reddened(through: Array) -> Array:
    """What is left (n, 3) of raw red, green and blue beside what the air takes of green (n, magnitudes)."""
    return np.asarray(10 ** (-0.4 * np.asarray(through, float)[:, None] * (AIR_BY_COLOUR - 1)))


def row_noise(height: int, noise: float, rng: np.random.Generator) -> F32:
    """What every row (height, 1) of a frame is off, in electrons: from row to row, and the frame's black."""
    rows = ROW_NOISE * rng.standard_normal((height, 1)) + BLACK_DRIFT * rng.standard_normal()
    return np.asarray(noise * rows, np.float32)


def colour_factors(bv: Array) -> Array:
    """Raw signal by colour (n, 3) of light of a B-V, relative to its green signal."""
    shift = 0.4 * (np.asarray(bv, float) - 0.65)
    return np.stack(
        [
            NEUTRAL[0] * 10 ** (RED_SLOPE * shift),
            np.ones_like(shift),
            NEUTRAL[2] * 10 ** (-BLUE_SLOPE * shift),
        ],
        axis=-1,
    )


MOON_COLOUR = colour_factors(np.array(0.9))


class SimulatedPhone:
    """Renders the frames of a burst; everything follows from the burst and its seed.

    ``view`` may be a part of the burst's picture; ``sharpest`` is the width (standard deviation, px) of a
    star in focus at the axis.
    """

    def __init__(self, burst: Burst, view: View | None = None, sharpest: float = BEST_SIGMA) -> None:
        self.burst, self.sharpest = burst, sharpest
        self.view: View = view or view_of(burst.lens, burst.pose, burst.portrait)
        # one nanolambert in electrons per second and pixel
        self.per_nl = photons.sky_rate(burst.lens, float(to_magnitudes(1.0)))

    @cached_property
    def ground(self) -> Ground:
        """The ground, the same in every frame."""
        return self._ground_with(0.0)

    def _ground_with(self, sway: float) -> Ground:
        b = self.burst
        facing = b.pose.azimuth if b.facing is None else b.facing
        seed = b.seed if b.ground_seed is None else b.ground_seed
        return ground(self.view, seed, facing, b.site.horizon, b.scene, sway)

    def ground_of(self, i: int) -> Ground:
        """The ground of frame i: leaves move where the wind blows."""
        if not self.burst.struck("sway", i):
            return self.ground
        return self._ground_with(float(np.random.default_rng([self.burst.seed, 31, i]).normal(0, SWAY)))

    @cached_property
    def vignetting(self) -> F32:
        """Relative light over the frame, 1 on the axis."""
        x, y = np.arange(self.view.width, dtype=np.float32), np.arange(self.view.height, dtype=np.float32)
        cx, cy = self.view.centre
        r2 = (((x - cx) ** 2)[None, :] + ((y - cy) ** 2)[:, None]) / self.view.corner_px**2
        return np.asarray(1 - VIGNETTING * (0.7 * r2 + 0.3 * r2 * r2), np.float32)

    @cached_property
    def _hot(self) -> tuple[npt.NDArray[np.intp], Array]:
        rng = np.random.default_rng([self.burst.seed, 5])
        size = self.view.width * self.view.height
        where = rng.choice(size, int(size * HOT_SHARE), replace=False)
        return where, rng.exponential(12.0, where.size)

    def stars_at(self, i: int) -> tuple[Array, Array, Array, Array]:
        """Of the catalogue stars seen at mid-exposure of frame i: index, x, y and V after extinction."""
        vectors, v, _ = catalogue.stars_to(STARS_TOLD)
        index, enu, through = self._in_front(i, vectors)
        x, y, front = project(self.view, skylight.refracted(enu))
        inside = front & (x >= 0) & (x <= self.view.width - 1) & (y >= 0) & (y <= self.view.height - 1)
        inside[inside] = (
            self.ground.sky[np.round(y[inside]).astype(int), np.round(x[inside]).astype(int)] > 0.5
        )
        return index[inside].astype(float), x[inside], y[inside], v[index[inside]] + through[inside]

    def _in_front(
        self, i: int, vectors: Array, mirrored: bool = False
    ) -> tuple[npt.NDArray[np.intp], Array, Array]:
        """Stars above the horizon and near the frame, or with their mirror images near it: index, unit
        vectors, magnitudes of extinction."""
        unix = self.burst.middle(i)
        enu = catalogue.aberrated(vectors, unix) @ catalogue.to_horizon(self.burst.site, unix).T
        half = self.view.corner_px / self.view.focal_px
        ahead = self.view.axes[2] * [1, 1, -1.0 if mirrored else 1.0]
        near = np.flatnonzero((enu[:, 2] > 0) & (enu @ ahead > np.cos(np.arctan(half) + 0.05)))
        altitude = np.degrees(np.arcsin(enu[near, 2]))
        return near, enu[near], self.burst.site.extinction * ray_airmass(altitude)

    def _draw_stars(
        self, mosaic: F32, i: int, table: tuple[Array, Array, Array], mirrored: bool = False
    ) -> None:
        vectors, v, bv = table
        index, enu, through = self._in_front(i, vectors, mirrored)
        half, flip = self.burst.shutter / 2, np.array([1.0, 1.0, -1.0 if mirrored else 1.0])
        ends = [
            project(self.view, flip * skylight.refracted(skylight.turned(enu, self.burst.site, s)))
            for s in (-half, half)
        ]
        flux = (
            photons.star_rate(self.burst.lens, 0.0) * 10 ** (-0.4 * (v[index] + through)) * self.burst.shutter
        )
        cx, cy = self.view.centre
        away = np.hypot(ends[0][0] - cx, ends[0][1] - cy)
        off_axis = away / self.view.corner_px
        # phones even out their files for surfaces: a pixel there sees less sky, so stars come out brighter
        flux = flux * (1 + np.minimum(away / self.view.focal_px, 3.0) ** 2) ** 1.5
        # the sharpest surface is bent: the centre and the corners are in focus at different ticks
        ticks = self.burst.focus_error + FIELD_CURVATURE * (off_axis**2 - MEAN_OFF_AXIS)
        blur = SIGMA_PER_TICK * ticks * self.sharpest / BEST_SIGMA
        sigma = np.hypot(self.sharpest * (1 + 0.10 * off_axis**2), blur)
        keep = ends[0][2] & ends[1][2]
        outward = np.stack([ends[0][0] - cx, ends[0][1] - cy], axis=1) / np.maximum(away, 1)[:, None]
        drawn_out = COMA * self._full_px * off_axis**2
        fringe = outward[:, :, None] * off_axis[:, None, None] * (FRINGE * self._full_px)
        light = flux[:, None] * colour_factors(bv[index]) * reddened(through)
        wide = WING_PX * self._full_px
        seen = keep & (WINGS * light.max(axis=1) > LEAST_WING * 2 * np.pi * wide**2)
        along = (np.ascontiguousarray(end[axis][seen]) for end in ends for axis in (0, 1))
        draw_wings(mosaic, *along, WINGS * light[seen], wide)
        light = (1 - WINGS) * light
        # coma: a part of the light lies outward of the rest; their centre stays where the star is
        for share, shift in ((1 - COMA_SHARE, -COMA_SHARE), (COMA_SHARE, 1 - COMA_SHARE)):
            here = keep & (drawn_out > 0.05) if shift > 0 else keep
            part = np.where(drawn_out > 0.05, share, 1.0 if shift < 0 else 0.0)
            moved = fringe + (outward * (shift * drawn_out * (drawn_out > 0.05))[:, None])[:, :, None]
            draw_trails(
                mosaic,
                *(np.ascontiguousarray(end[axis][here]) for end in ends for axis in (0, 1)),
                (light * part[:, None])[here],
                sigma[here],
                np.ascontiguousarray(moved[here]),
            )

    @property
    def _full_px(self) -> float:
        """Px of this view in one of ``CORNER_PX``'s, for which the lens's figures are."""
        return self.view.corner_px / CORNER_PX

    def _diffuse(self, i: int) -> tuple[list[F32], float]:
        """Electrons by colour at half size from diffuse light, and the mean sky light in nL."""
        site, unix = self.burst.site, self.burst.middle(i)
        planes, mean = self._spread(DIFFUSE_STEP, lambda enu: self._air(site, unix, enu))
        band, _ = self._spread(BAND_STEP, lambda enu: self._band(site, unix, enu))
        return [a + b for a, b in zip(planes, band, strict=True)], mean

    def _air(self, site: Site, unix: float, enu: Array) -> tuple[Array, Array]:
        """Raw colours (n, 3) and whole light (n,) in nL of all but the Milky Way."""
        light = diffuse.diffuse(site, unix, enu)
        night = int(unix // 86400)
        parts = {**light.light, "natural": light.light["natural"] * skylight.airglow(enu, unix, night)}
        colours = np.zeros((len(enu), 3))
        for name, part in parts.items():
            colours += part[:, None] * colour_factors(np.array(diffuse.COLOUR[name]))
        colours[:, 1] += GREEN_LINE * parts["natural"]
        return colours, light.total

    def _band(self, site: Site, unix: float, enu: Array) -> tuple[Array, Array]:
        """Raw colours (n, 3) and light (n,) of the Milky Way between the catalogue's stars."""
        band = diffuse.band_light(site, unix, enu, stars_apart=True)
        colours = band.light[:, None] * colour_factors(band.colour) + band.red[:, None] * RED_LINE
        altitude = np.degrees(np.arcsin(np.clip(enu[:, 2], -1, 1)))
        return colours * reddened(site.extinction * ray_airmass(altitude)), band.light

    def _spread(self, step: int, light: Callable[[Array], tuple[Array, Array]]) -> tuple[list[F32], float]:
        """Electrons by colour at half size of light known every ``step`` px, and its mean in nL."""
        x, y = grid(self.view, step)
        gx, gy = np.meshgrid(x, y)
        colours, total = light(unproject(self.view, gx, gy).reshape(-1, 3))
        colours = colours.reshape(*gx.shape, 3) * (self.per_nl * self.burst.shutter)
        half = (self.view.height + 1) // 2, (self.view.width + 1) // 2
        planes = [
            upsample(colours[..., c], (x + 0.5) / 2 - 0.5, (y + 0.5) / 2 - 0.5, half[1], half[0])
            for c in range(3)
        ]
        return planes, float(total.mean())

    def streaks(self, i: int) -> list[Streak]:
        """Aeroplanes, satellites and meteors in frame i."""
        return passing(self.burst, self.view, i)

    def _draw_streaks(self, mosaic: F32, i: int) -> None:
        for streak in self.streaks(i):
            draw_streak(mosaic, streak, self.burst.shutter)

    def electrons(self, i: int) -> F32:
        """Expected electrons of frame i on the upright mosaic (height, width)."""
        planes, mean_nl = self._diffuse(i)
        here = self.ground_of(i)
        mosaic = _mosaic(planes, self.view)
        self._draw_stars(mosaic, i, catalogue.star_table())
        self._draw_streaks(mosaic, i)
        veil(self.burst, mosaic, i)
        mosaic *= here.sky
        self._light_ground(mosaic, here, i, mean_nl)
        if here.water is not None and here.water.any():
            self._mirror(mosaic, here, i)
        mean = self.per_nl * self.burst.shutter * mean_nl
        walked_through(self.burst, self.view, mosaic, i, mean)
        screen(self.burst, mosaic, i, mean)
        flare(
            mosaic,
            None
            if here.light is None
            else here.light * np.array(NEUTRAL, np.float32) * np.float32(self.per_nl * self.burst.shutter),
        )
        mosaic *= self.vignetting
        mosaic += self.burst.lens.dark_current * self.burst.shutter
        where, rates = self._hot
        mosaic.ravel()[where] += (rates * self.burst.shutter).astype(np.float32)
        return blurred(self.burst, mosaic, i)

    def _light_ground(self, mosaic: F32, here: Ground, i: int, mean_nl: float) -> None:
        """Add the ground, lit by the sky, the Moon and lamps, and what shines by itself."""
        exposure = self.per_nl * self.burst.shutter
        sky = self._sky_nl(i) * GROUND_LIGHT * colour_factors(np.array(0.85))
        moon = self.moon.light(i)
        lamp = lamp_light(self.burst, self.view, i, mean_nl)
        for y, x in ((0, 0), (0, 1), (1, 0), (1, 1)):
            part, c = np.s_[y::2, x::2], x + y
            lit = np.float32(sky[c]) if lamp is None else np.float32(sky[c]) + lamp[part] * LAMP_TINT[c]
            if moon is not None:
                lit = lit + moon[part] * np.float32(MOON_COLOUR[c])
            mosaic[part] += (
                (1 - here.sky[part]) * here.colour[y::2, x::2, c] * np.float32(exposure / FULL) * lit
            )
            if here.light is not None:
                mosaic[part] += here.light[y::2, x::2, c] * np.float32(exposure * NEUTRAL[c])

    def _sky_nl(self, i: int) -> float:
        """Light of the sky on level ground in frame i, as the brightness in nL of a sky that is even."""
        azimuth, altitude = np.meshgrid(np.arange(0.0, 360.0, 30.0) + 15, np.arange(5.0, 90.0, 10.0))
        _, light = self._air(
            self.burst.site, self.burst.middle(i), east_north_up(altitude.ravel(), azimuth.ravel())
        )
        falls = np.sin(2 * np.radians(altitude.ravel()))  # so much sky at a height, and so steeply
        return float(np.average(light, weights=falls))

    @cached_property
    def moon(self) -> MoonOverGround:
        """The Moon's light on the ground."""
        return MoonOverGround(self.burst, self.view, self.ground)

    def _mirror(self, mosaic: F32, here: Ground, i: int) -> None:
        """Add the sky in the water: its light from as far above the horizon as the water is below, stars
        drawn out by ripples."""
        site, unix = self.burst.site, self.burst.middle(i)

        def up(enu: Array) -> Array:
            return np.asarray(enu * [1, 1, -1])

        air, _ = self._spread(DIFFUSE_STEP, lambda enu: self._air(site, unix, up(enu)))
        band, _ = self._spread(BAND_STEP, lambda enu: self._band(site, unix, up(enu)))
        light = _mosaic([a + b for a, b in zip(air, band, strict=True)], self.view)
        self._draw_stars(light, i, catalogue.stars_to(MIRRORED), mirrored=True)
        tall = max(RIPPLE * self.view.focal_px / 2, 0.5)
        light = by_colour(light, lambda plane: cv2.GaussianBlur(plane, (0, 0), sigmaX=0.7, sigmaY=tall))
        assert here.water is not None
        x, y = grid(self.view, DIFFUSE_STEP)
        enu = unproject(self.view, *np.meshgrid(x, y))
        grazing = np.clip(-enu[..., 2] + WAVES, 0, 1)  # waves turn their faces to the eye
        share = upsample(
            np.asarray(0.02 + 0.98 * (1 - grazing) ** 6), x, y, self.view.width, self.view.height
        )
        share *= here.water.astype(np.float32) / 255
        mosaic *= 1 - share
        mosaic += light * share

    def frame(self, i: int) -> npt.NDArray[np.uint16]:
        """Digital numbers of frame i, upright."""
        lens, rng = self.burst.lens, np.random.default_rng([self.burst.seed, 9, i])
        black, white = BLACK[lens.bits], 2**lens.bits - 1
        electrons = self.electrons(i)
        out = np.empty(electrons.shape, np.uint16)
        # from an ISO on, phones only multiply what they read: levels between are never taken
        steps = max(self.burst.iso / lens.iso_digital, 1.0) if lens.iso_digital else 1.0
        gain = (white - black) / lens.full_scale(self.burst.iso) / steps
        # the sensor's masked pixels take out the mean dark current; its noise stays
        dark = gain * lens.dark_current * self.burst.shutter
        noise = lens.noise_at(self.burst.iso)
        electrons += row_noise(electrons.shape[0], noise, np.random.default_rng([self.burst.seed, 10, i]))
        digitise(
            electrons,
            rng.standard_normal(electrons.shape, np.float32),
            noise,
            gain,
            black - dark,
            white,
            out,
        )
        if steps > 1:
            read = out.astype(np.float32) - np.float32(black)
            out = np.clip(np.rint(read * np.float32(steps)) + black, 0, white).astype(np.uint16)
        return out

    def info(self, i: int) -> DngInfo:
        """Metadata of frame i."""
        b, lens = self.burst, self.burst.lens
        start = b.middle(i) - b.shutter / 2
        offset = datetime.fromtimestamp(start, b.site.zone).strftime("%z")
        return DngInfo(
            make=b.make,
            model=b.model,
            iso=b.iso,
            exposure_s=b.shutter,
            aperture=lens.aperture,
            focal_mm=lens.focal,
            f35=lens.f35,
            time=start,
            utc_offset=f"{offset[:3]}:{offset[3:5]}",
            black=BLACK[lens.bits],
            white=2**lens.bits - 1,
            neutral=NEUTRAL,
            matrix=MATRIX,
        )

    def write(self, i: int, folder: Path) -> Path:
        """Render frame i and write it as DNG into a folder."""
        local = datetime.fromtimestamp(self.burst.middle(i), self.burst.site.zone)
        path = folder / f"{local:%Y%m%d_%H%M%S}_{i + 1:03d}.dng"
        mosaic = self.frame(i)
        write_dng(path, mosaic, self.info(i), _preview(mosaic, self.info(i)), self.burst.compress)
        return path


def _mosaic(planes: list[F32], view: View) -> F32:
    """Planes by colour at half size laid on an RGGB mosaic."""
    mosaic = np.empty((view.height, view.width), np.float32)
    for y, x in ((0, 0), (0, 1), (1, 0), (1, 1)):
        mosaic[y::2, x::2] = planes[x + y][: mosaic[y::2].shape[0], : mosaic[:, x::2].shape[1]]
    return mosaic


def _preview(mosaic: npt.NDArray[np.uint16], info: DngInfo) -> npt.NDArray[np.uint8]:
    """A small 8-bit picture for file browsers."""
    step = max(mosaic.shape[1] // 504, 1) * 2
    rgb = np.stack(
        [
            mosaic[
                y : y + (mosaic.shape[0] // step) * step : step,
                x : x + (mosaic.shape[1] // step) * step : step,
            ]
            for y, x in ((0, 0), (0, 1), (1, 1))
        ],
        axis=-1,
    ).astype(np.float32)
    rgb = np.clip((rgb - info.black) / (info.white - info.black) / np.array(info.neutral, np.float32), 0, 1)
    return np.asarray(255 * rgb ** (1 / 2.2), np.uint8)
