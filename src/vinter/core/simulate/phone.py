"""The simulated phone: RAW frames of a computed sky."""

from datetime import datetime
from functools import cached_property
from pathlib import Path

import cv2
import numpy as np
import numpy.typing as npt

from vinter.core.camera import photons
from vinter.core.camera.projection import View, project, unproject, view_of
from vinter.core.formats.dng import DngInfo, write_dng
from vinter.core.simulate import skylight
from vinter.core.simulate.capture import Burst
from vinter.core.simulate.exposing import digitise
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
from vinter.core.simulate.raw_colour import MATRIX, MOON_COLOUR, NEUTRAL, colour_factors
from vinter.core.simulate.scenes import ground
from vinter.core.simulate.sky_planes import DIFFUSE_STEP, SkyPlanes
from vinter.core.simulate.starlight import BEST_SIGMA, Starlight
from vinter.core.sky import catalogue
from vinter.core.sky.brightness import to_magnitudes

Array = npt.NDArray[np.float64]
F32 = npt.NDArray[np.float32]
BLACK = {10: 64, 12: 256, 14: 1024}
ROW_NOISE, BLACK_DRIFT = 0.06, 0.03  # of the read noise: from row to row, from frame to frame
VIGNETTING = 0.42  # share of the light that is lost in the corner
HOT_SHARE = 1.2e-4
GROUND_LIGHT = 0.9  # share of the whole sky's light that reaches the ground: hills hide the rest
MIRRORED = 5.0  # V to which stars are seen in water
RIPPLE = 0.006  # rad by which ripples draw out what water mirrors, upright
WAVES = 0.14  # rad, mean slope of the water's faces
SWAY = 0.25  # degrees at the tips, from frame to frame
STARS_TOLD = 8.5  # V to which ``stars_at`` says where stars are


def row_noise(height: int, noise: float, rng: np.random.Generator) -> F32:
    """What every row (height, 1) of a frame is off, in electrons: from row to row, and the frame's black."""
    rows = ROW_NOISE * rng.standard_normal((height, 1)) + BLACK_DRIFT * rng.standard_normal()
    return np.asarray(noise * rows, np.float32)


class SimulatedPhone:
    """Renders the frames of a burst; everything follows from the burst and its seed.

    ``view`` may be a part of the burst's picture; ``sharpest`` is the width (standard deviation, px) of a
    star in focus at the axis.
    """

    def __init__(self, burst: Burst, view: View | None = None, sharpest: float = BEST_SIGMA) -> None:
        self.burst = burst
        self.view: View = view or view_of(burst.lens, burst.pose, burst.portrait)
        # one nanolambert in electrons per second and pixel
        self.per_nl = photons.sky_rate(burst.lens, float(to_magnitudes(1.0)))
        self.starlight = Starlight(burst, self.view, sharpest)
        self.sky = SkyPlanes(burst, self.view, self.per_nl)

    @cached_property
    def ground(self) -> Ground:
        """The ground, the same in every frame."""
        return self._ground_with(0.0)

    def _ground_with(self, sway: float) -> Ground:
        b = self.burst
        facing = b.pose.azimuth if b.facing is None else b.facing
        seed = b.seed if b.ground_seed is None else b.ground_seed
        made = ground(self.view, seed, facing, b.site.horizon, b.scene, sway)
        return made.through_lens(self.starlight.sharpest)

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
        index, enu, through = self.starlight.in_front(i, vectors)
        x, y, front = project(self.view, skylight.refracted(enu))
        inside = front & (x >= 0) & (x <= self.view.width - 1) & (y >= 0) & (y <= self.view.height - 1)
        inside[inside] = (
            self.ground.sky[np.round(y[inside]).astype(int), np.round(x[inside]).astype(int)] > 0.5
        )
        return index[inside].astype(float), x[inside], y[inside], v[index[inside]] + through[inside]

    def streaks(self, i: int) -> list[Streak]:
        """Aeroplanes, satellites and meteors in frame i."""
        return passing(self.burst, self.view, i)

    def _draw_streaks(self, mosaic: F32, i: int) -> None:
        for streak in self.streaks(i):
            draw_streak(mosaic, streak, self.burst.shutter)

    def electrons(self, i: int) -> F32:
        """Expected electrons of frame i on the upright mosaic (height, width)."""
        planes, mean_nl = self.sky.diffuse(i)
        here = self.ground_of(i)
        mosaic = _mosaic(planes, self.view)
        self.starlight.draw(mosaic, i, catalogue.star_table())
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
        sky = self.sky.on_the_ground(i) * GROUND_LIGHT * colour_factors(np.array(0.85))
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

    @cached_property
    def moon(self) -> MoonOverGround:
        """The Moon's light on the ground."""
        return MoonOverGround(self.burst, self.view, self.ground)

    def _mirror(self, mosaic: F32, here: Ground, i: int) -> None:
        """Add the sky in the water: its light from as far above the horizon as the water is below, stars
        drawn out by ripples."""
        planes, _ = self.sky.diffuse(i, mirrored=True)
        light = _mosaic(planes, self.view)
        self.starlight.draw(light, i, catalogue.stars_to(MIRRORED), mirrored=True)
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
