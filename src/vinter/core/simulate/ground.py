"""The ground in front of the simulated lens: a skyline of hills, scrub and a small building, with texture."""

from dataclasses import dataclass

import cv2
import numpy as np
import numpy.typing as npt
from scipy.ndimage import gaussian_filter1d

from vinter.core.camera.projection import View, unproject
from vinter.core.sky.horizon import Horizon

F32 = npt.NDArray[np.float32]
STEP = 0.02  # degrees of azimuth in the skyline table
COARSE = 16  # pixels between directions that are computed exactly


@dataclass(frozen=True)
class Ground:
    """Share of sky in each pixel (height, width, 0 to 1) and reflectance of the ground in it."""

    sky: F32
    reflectance: F32


def skyline(seed: int, facing: float) -> npt.NDArray[np.float64]:
    """Altitude of the skyline in degrees over azimuth in steps of 0.02 degrees; a building near
    ``facing``."""
    rng = np.random.default_rng([seed, 77])
    n = round(360 / STEP)
    height = np.full(n, 2.0)
    for sigma, size in ((14, 1.6), (4, 0.8), (1.2, 0.35), (0.3, 0.18), (0.08, 0.10)):
        layer = gaussian_filter1d(rng.standard_normal(n), sigma / STEP, mode="wrap")
        height += layer / layer.std() * size
    scrub = gaussian_filter1d(rng.standard_normal(n), 0.05 / STEP, mode="wrap")
    meadow = gaussian_filter1d(rng.standard_normal(n), 2.5 / STEP, mode="wrap")
    floor = 0.9 + 0.35 * meadow / meadow.std() + 0.12 * scrub / scrub.std()
    height = np.maximum(height, floor)
    az = np.arange(n) * STEP
    away = (az - facing - 14 + 180) % 360 - 180
    walls = np.where(np.abs(away) < 5.0, 6.5, 0)
    gable = np.where(np.abs(away) < 5.0, 9.5 - np.abs(away) * 0.6, 0)
    chimney = np.where(np.abs(away - 2.8) < 0.45, 10.2, 0)
    return np.asarray(np.maximum.reduce([height, walls, gable, chimney]))


def upsample(
    coarse: npt.NDArray[np.float64],
    x: npt.NDArray[np.float64],
    y: npt.NDArray[np.float64],
    width: int,
    height: int,
) -> F32:
    """A smooth field known at pixel columns x and rows y (evenly spaced) at every pixel."""
    columns = np.interp(np.arange(width), x, np.arange(len(x))).astype(np.float32)
    rows = np.interp(np.arange(height), y, np.arange(len(y))).astype(np.float32)
    wide = cv2.remap(
        coarse.astype(np.float32),
        *np.meshgrid(columns, np.arange(len(y), dtype=np.float32)),
        cv2.INTER_LINEAR,
    )
    index = np.clip(rows.astype(int), 0, len(y) - 2)
    share = (rows - index)[:, None].astype(np.float32)
    return np.asarray(wide[index] * (1 - share) + wide[index + 1] * share)


def grid(view: View, step: int) -> tuple[npt.NDArray[np.float64], npt.NDArray[np.float64]]:
    """Evenly spaced columns and rows that cover the frame, about ``step`` pixels apart."""
    return (
        np.linspace(0, view.width - 1, view.width // step + 2),
        np.linspace(0, view.height - 1, view.height // step + 2),
    )


def _texture(rng: np.random.Generator, width: int, height: int) -> F32:
    """Reflectance 0.02 to 0.2: patches, tufts and stones at scales from 3 to 200 pixels."""
    out = np.zeros((height, width), np.float32)
    for scale, weight in ((200, 0.5), (60, 0.5), (20, 0.5), (7, 0.6), (3, 0.6)):
        small = rng.standard_normal((height // scale + 3, width // scale + 3)).astype(np.float32)
        out += weight * cv2.resize(
            small, (width, height), interpolation=cv2.INTER_CUBIC if scale > 7 else cv2.INTER_LINEAR
        )
    return np.asarray(0.02 + 0.14 / (1 + np.exp(-1.4 * out)), dtype=np.float32)


def over_profile(horizon: Horizon, seed: int) -> npt.NDArray[np.float64]:
    """The site's own profile as a skyline table, with scrub on it."""
    n = round(360 / STEP)
    rng = np.random.default_rng([seed, 77])
    scrub = sum(
        gaussian_filter1d(rng.standard_normal(n), sigma / STEP, mode="wrap") * size * np.sqrt(sigma / STEP)
        for sigma, size in ((0.6, 0.12), (0.15, 0.08), (0.05, 0.06))
    )
    return np.asarray(horizon.at(np.arange(n, dtype=np.float64) * STEP) + scrub)


def ground(view: View, seed: int, facing: float, horizon: Horizon | None = None) -> Ground:
    """The ground as a view sees it, over the site's own horizon when it has one; edges are smooth over one
    pixel."""
    x, y = grid(view, COARSE)
    enu = unproject(view, *np.meshgrid(x, y))
    altitude = np.degrees(np.arcsin(np.clip(enu[..., 2], -1, 1)))
    relative = (np.degrees(np.arctan2(enu[..., 0], enu[..., 1])) - view.pose.azimuth + 180) % 360 - 180
    alt = upsample(altitude, x, y, view.width, view.height)
    az = upsample(relative, x, y, view.width, view.height)
    around = over_profile(horizon, seed) if horizon else skyline(seed, facing)
    table = np.roll(around, -round((view.pose.azimuth - 180) / STEP)).astype(np.float32)
    low = int(np.searchsorted(-alt.max(axis=1), -float(table.max())))
    sky = np.ones((view.height, view.width), np.float32)
    index = ((az[low:] + 180) / STEP).ravel()
    edge = np.interp(index, np.arange(len(table)), table).reshape(az[low:].shape)
    per_pixel = np.degrees(1 / view.focal_px)
    sky[low:] = np.clip((alt[low:] - edge) / per_pixel + 0.5, 0, 1)
    return Ground(sky, _texture(np.random.default_rng([seed, 78]), view.width, view.height))
