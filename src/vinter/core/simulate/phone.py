"""The simulated phone: a burst of RAW frames of a computed sky, with the truth beside them."""

import json
from collections.abc import Callable
from dataclasses import asdict, dataclass, replace
from datetime import datetime
from functools import cached_property
from pathlib import Path

import cv2
import numpy as np
import numpy.typing as npt

from vinter.core.camera import photons
from vinter.core.camera.phones import Lens
from vinter.core.camera.projection import Pose, View, project, unproject, view_of
from vinter.core.formats.dng import DngInfo, write_dng
from vinter.core.simulate import skylight
from vinter.core.simulate.exposing import digitise, draw_trails
from vinter.core.simulate.ground import Ground, grid, ground, upsample
from vinter.core.sky import catalogue
from vinter.core.sky import diffuse_light as diffuse
from vinter.core.sky.brightness import airmass, to_magnitudes
from vinter.core.sky.site import Site

Array = npt.NDArray[np.float64]
F32 = npt.NDArray[np.float32]
BLACK = {10: 64, 12: 256, 14: 1024}
NEUTRAL = (0.46, 1.0, 0.71)  # the made-up sensor's response to B-V 0.65 light
MATRIX = (0.92, -0.32, -0.09, -0.36, 1.17, 0.20, -0.05, 0.16, 0.60)
RED_SLOPE, BLUE_SLOPE = 0.45, 0.75  # magnitudes of raw colour per magnitude of B-V
BEST_SIGMA = 1.15  # px, of a star in focus at the axis
SIGMA_PER_TICK = 0.55  # px of blur (in quadrature) a focus tick away from infinity
DIFFUSE_STEP = 12
VIGNETTING = 0.42  # light lost in the corner
HOT_SHARE = 1.2e-4
GROUND_LIGHT = 0.9  # of the mean sky light that falls on the ground
TRUTH_LIMIT = 6.5


@dataclass(frozen=True, kw_only=True)
class Burst:
    """What the simulated phone is told: where it stands and points, and its settings. Times in Unix
    seconds."""

    site: Site
    lens: Lens
    start: float
    pose: Pose
    iso: int
    shutter: float
    count: int
    gap: float = 1.0
    portrait: bool = False
    seed: int = 1
    focus_error: float = 0.0
    make: str = "Marlet"
    model: str = "Marlet 7"
    traffic: bool = True
    compress: bool = True

    def middle(self, i: int) -> float:
        """Unix time of the middle of frame ``i``."""
        return self.start + i * (self.shutter + self.gap) + self.shutter / 2


@dataclass(frozen=True)
class Streak:
    """A moving light in one frame: where it goes in px, electrons per px of way, blinking or steady."""

    x0: float
    y0: float
    x1: float
    y1: float
    strength: float
    blinking: bool


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


class SimulatedPhone:
    """Renders the frames of a burst; everything follows from the burst and its seed.

    ``view`` may be a part of the burst's picture; ``sharpest`` is the width (standard deviation, px) of a
    star
    in focus at the axis.
    """

    def __init__(self, burst: Burst, view: View | None = None, sharpest: float = BEST_SIGMA) -> None:
        self.burst, self.sharpest = burst, sharpest
        self.view: View = view or view_of(burst.lens, burst.pose, burst.portrait)
        # one nanolambert in electrons per second and pixel
        self.per_nl = photons.sky_rate(burst.lens, float(to_magnitudes(1.0)))

    @cached_property
    def ground(self) -> Ground:
        """The ground, the same in every frame."""
        return ground(self.view, self.burst.seed, self.burst.pose.azimuth, self.burst.site.horizon)

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
        """Of the catalogue stars seen at the middle of frame i: index, x, y and V after extinction."""
        vectors, v, _ = catalogue.star_table()
        index, enu, through = self._in_front(i, vectors)
        x, y, front = project(self.view, skylight.refracted(enu))
        inside = front & (x >= 0) & (x <= self.view.width - 1) & (y >= 0) & (y <= self.view.height - 1)
        inside[inside] = (
            self.ground.sky[np.round(y[inside]).astype(int), np.round(x[inside]).astype(int)] > 0.5
        )
        return index[inside].astype(float), x[inside], y[inside], v[index[inside]] + through[inside]

    def _in_front(self, i: int, vectors: Array) -> tuple[npt.NDArray[np.intp], Array, Array]:
        """Stars above the horizon and near the frame: index, unit vectors, magnitudes of extinction."""
        enu = vectors @ catalogue.to_horizon(self.burst.site, self.burst.middle(i)).T
        half = self.view.corner_px / self.view.focal_px
        near = np.flatnonzero((enu[:, 2] > 0) & (enu @ self.view.axes[2] > np.cos(np.arctan(half) + 0.05)))
        altitude = np.degrees(np.arcsin(enu[near, 2]))
        return near, enu[near], self.burst.site.extinction * airmass(altitude)

    def _draw_stars(self, mosaic: F32, i: int, table: tuple[Array, Array, Array]) -> None:
        vectors, v, bv = table
        index, enu, through = self._in_front(i, vectors)
        half = self.burst.shutter / 2
        ends = [
            project(self.view, skylight.refracted(skylight.turned(enu, self.burst.site, s)))
            for s in (-half, half)
        ]
        flux = (
            photons.star_rate(self.burst.lens, 0.0) * 10 ** (-0.4 * (v[index] + through)) * self.burst.shutter
        )
        cx, cy = self.view.centre
        off_axis = np.hypot(ends[0][0] - cx, ends[0][1] - cy) / self.view.corner_px
        blur = SIGMA_PER_TICK * self.burst.focus_error * self.sharpest / BEST_SIGMA
        sigma = np.hypot(self.sharpest * (1 + 0.15 * off_axis**2), blur)
        keep = ends[0][2] & ends[1][2]
        draw_trails(
            mosaic,
            ends[0][0][keep],
            ends[0][1][keep],
            ends[1][0][keep],
            ends[1][1][keep],
            (flux[:, None] * colour_factors(bv[index]))[keep],
            sigma[keep],
        )

    def _diffuse(self, i: int) -> tuple[list[F32], float]:
        """Electrons by colour at full size from diffuse light, and the mean sky light in nL."""
        x, y = grid(self.view, DIFFUSE_STEP)
        gx, gy = np.meshgrid(x, y)
        light = diffuse.diffuse(
            self.burst.site, self.burst.middle(i), unproject(self.view, gx, gy).reshape(-1, 3)
        )
        colours = light.band[:, None] * colour_factors(light.band_colour)
        for name, part in light.light.items():
            colours = colours + part[:, None] * colour_factors(np.array(diffuse.COLOUR[name]))
        colours = colours.reshape(*gx.shape, 3) * (self.per_nl * self.burst.shutter)
        half = (self.view.height + 1) // 2, (self.view.width + 1) // 2
        planes = [
            upsample(colours[..., c], (x + 0.5) / 2 - 0.5, (y + 0.5) / 2 - 0.5, half[1], half[0])
            for c in range(3)
        ]
        return planes, float(light.total.mean())

    def streaks(self, i: int) -> list[Streak]:
        """Aeroplanes and satellites in frame i; an aeroplane crosses several frames in a row."""
        if not self.burst.traffic:
            return []
        out = []
        w, h = self.view.width, self.view.height
        for first in range(max(0, i - 2), i + 1):
            rng = np.random.default_rng([self.burst.seed, 6, first])
            plane, satellite = rng.uniform() < 0.12 or first == self.burst.count // 3, rng.uniform() < 0.10
            start, angle = rng.uniform((0.1 * w, 0.1 * h), (0.9 * w, 0.6 * h)), rng.uniform(0, 2 * np.pi)
            speed = rng.uniform(18, 45) * np.array([np.cos(angle), 0.5 * np.sin(angle)])
            if plane or (satellite and first == i):
                begin = start + (i - first) * (self.burst.shutter + self.burst.gap) * speed
                end = begin + self.burst.shutter * speed
                out.append(
                    Streak(
                        float(begin[0]),
                        float(begin[1]),
                        float(end[0]),
                        float(end[1]),
                        260.0 if plane else 40.0,
                        bool(plane),
                    )
                )
        return out

    def _draw_streaks(self, mosaic: F32, i: int) -> None:
        for streak in self.streaks(i):
            way = np.array([streak.x1 - streak.x0, streak.y1 - streak.y0])
            length = float(np.hypot(*way))
            flux = streak.strength * length * np.array([[0.8, 1.0, 0.7]])
            draw_trails(
                mosaic,
                *(np.array([v]) for v in (streak.x0, streak.y0, streak.x1, streak.y1)),
                flux,
                np.array([1.6]),
            )
            if streak.blinking:
                along = np.arange(0.3, self.burst.shutter, 1.1) / self.burst.shutter
                x, y = streak.x0 + along * way[0], streak.y0 + along * way[1]
                draw_trails(
                    mosaic, x, y, x, y, np.tile([[9000.0, 2500.0, 1500.0]], (len(x), 1)), np.full(len(x), 1.8)
                )

    def electrons(self, i: int) -> F32:
        """Expected electrons of frame i on the upright mosaic (height, width)."""
        planes, mean_nl = self._diffuse(i)
        mosaic = np.empty((self.view.height, self.view.width), np.float32)
        for y, x in ((0, 0), (0, 1), (1, 0), (1, 1)):
            mosaic[y::2, x::2] = planes[x + y][: mosaic[y::2].shape[0], : mosaic[:, x::2].shape[1]]
        for table in (catalogue.star_table(), skylight.faint_stars()):
            self._draw_stars(mosaic, i, table)
        self._draw_streaks(mosaic, i)
        mosaic *= self.ground.sky
        lit = mean_nl * GROUND_LIGHT * self.per_nl * self.burst.shutter
        tint = colour_factors(np.array(0.85))
        for y, x in ((0, 0), (0, 1), (1, 0), (1, 1)):
            part = np.s_[y::2, x::2]
            mosaic[part] += (
                (1 - self.ground.sky[part]) * self.ground.reflectance[part] * np.float32(lit * tint[x + y])
            )
        mosaic *= self.vignetting
        mosaic += self.burst.lens.dark_current * self.burst.shutter
        where, rates = self._hot
        mosaic.ravel()[where] += (rates * self.burst.shutter).astype(np.float32)
        return mosaic

    def frame(self, i: int) -> npt.NDArray[np.uint16]:
        """Digital numbers of frame i, upright."""
        lens, rng = self.burst.lens, np.random.default_rng([self.burst.seed, 9, i])
        black, white = BLACK[lens.bits], 2**lens.bits - 1
        electrons = self.electrons(i)
        out = np.empty(electrons.shape, np.uint16)
        gain = (white - black) / lens.full_scale(self.burst.iso)
        # the sensor's masked pixels take out the mean dark current; its noise stays
        dark = gain * lens.dark_current * self.burst.shutter
        digitise(
            electrons,
            rng.standard_normal(electrons.shape, np.float32),
            lens.noise_at(self.burst.iso),
            gain,
            black - dark,
            white,
            out,
        )
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

    def truth(self, names: list[str]) -> dict[str, object]:
        """What is really in the frames: star places, homographies to the middle frame, streaks, settings."""
        frames = [self.stars_at(i) for i in range(self.burst.count)]
        reference = frames[self.burst.count // 2]
        out = []
        for i, (name, (index, x, y, v)) in enumerate(zip(names, frames, strict=True)):
            bright = v < TRUTH_LIMIT
            out.append(
                {
                    "file": name,
                    "time": self.burst.middle(i),
                    "homography": _fit(index, x, y, *reference[:3]),
                    "stars": [
                        [int(a), round(b, 4), round(c, 4), round(d, 2)]
                        for a, b, c, d in zip(index[bright], x[bright], y[bright], v[bright], strict=True)
                    ],
                    "streaks": [asdict(s) for s in self.streaks(i)],
                }
            )
        settings = asdict(replace(self.burst, site=replace(self.burst.site)))
        return {
            "settings": settings,
            "reference": names[self.burst.count // 2],
            "mask": "truth.mask.png",
            "frames": out,
        }


def _fit(index: Array, x: Array, y: Array, ref_index: Array, ref_x: Array, ref_y: Array) -> list[list[float]]:
    """Homography by least squares over the stars that both frames show; no motion where there are too few."""
    _, a, b = np.intersect1d(index, ref_index, return_indices=True)
    if len(a) < 4:
        return [[float(i == j) for j in range(3)] for i in range(3)]
    h, _ = cv2.findHomography(np.c_[x[a], y[a]], np.c_[ref_x[b], ref_y[b]], 0)
    return [[float(v) for v in row] for row in h]


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


def shoot(burst: Burst, folder: Path, progress: Callable[[int, int], None] | None = None) -> list[Path]:
    """Write all frames of a burst, truth.json and truth.mask.png (255 = sky) into a folder."""
    folder.mkdir(parents=True, exist_ok=True)
    camera = SimulatedPhone(burst)
    paths = []
    for i in range(burst.count):
        paths.append(camera.write(i, folder))
        if progress:
            progress(i + 1, burst.count)
    (folder / "truth.json").write_text(json.dumps(camera.truth([p.name for p in paths]), default=str))
    cv2.imwrite(str(folder / "truth.mask.png"), np.round(camera.ground.sky * 255).astype(np.uint8))
    return paths
