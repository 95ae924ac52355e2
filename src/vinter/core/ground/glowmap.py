"""Glow of the towns over a whole region at once, by convolution; the same sum as for one place
(docs/models.md, Towns)."""

from dataclasses import dataclass

import numpy as np

from vinter.core.ground.coastline import Array, Region
from vinter.core.sky.brightness import NATURAL_ZENITH, to_magnitudes, to_nanolamberts
from vinter.core.sky.glow import REACH_KM, places

KM_PER_DEGREE = 111.195
SOFTENINGS = (
    20.1,
    26.0,
    50.0,
    150.0,
)  # km^2: towns are summed in classes of size, each with its own softening
MOST_CELLS = 700


@dataclass(frozen=True)
class GlowMap:
    """Zenith brightness (V mag/arcsec^2) on a grid over a region, rows from north to south; error as for one
    place."""

    region: Region
    zenith: Array

    def at(self, lat: Array, lon: Array) -> Array:
        """Brightness of the nearest cells."""
        rows, columns = self.zenith.shape
        r = np.clip(
            ((self.region.north - lat) / (self.region.north - self.region.south) * rows).astype(int),
            0,
            rows - 1,
        )
        c = np.clip(
            ((lon - self.region.west) / (self.region.east - self.region.west) * columns).astype(int),
            0,
            columns - 1,
        )
        return np.asarray(self.zenith[r, c])


def _kernel(cell_km: float, reach: int, softening: float) -> Array:
    """Light at the zenith of a unit of light at every offset, averaged over the offset's cell where it is
    steep."""
    offset = np.arange(-reach, reach + 1) * cell_km
    fine = (np.arange(9) - 4) / 9 * cell_km
    d2 = offset[:, None] ** 2 + offset[None, :] ** 2
    kernel = np.asarray((d2 + softening) ** -1.25)
    for r in range(-2, 3):
        for c in range(-2, 3):
            moved = (fine[:, None] + r * cell_km) ** 2 + (fine[None, :] + c * cell_km) ** 2
            kernel[reach + r, reach + c] = ((moved + softening) ** -1.25).mean()
    kernel[d2 > REACH_KM**2] = 0
    return kernel


def glow_map(region: Region, cells: int = 240) -> GlowMap:
    """Zenith brightness over a region on a grid of about square cells, ``cells`` along its longer side."""
    middle = float(np.cos(np.radians((region.south + region.north) / 2)))
    high, wide = (
        (region.north - region.south) * KM_PER_DEGREE,
        (region.east - region.west) * KM_PER_DEGREE * middle,
    )
    cell = max(high, wide) / min(cells, MOST_CELLS)
    rows, columns = max(round(high / cell), 2), max(round(wide / cell), 2)
    reach = int(np.ceil(REACH_KM / cell))
    p = places()
    y = (region.north - p.lat) / (region.north - region.south) * rows + reach
    around = (p.lon - (region.west + region.east) / 2 + 180) % 360 - 180 + (region.east - region.west) / 2
    x = around / (region.east - region.west) * columns + reach
    inside = (y >= 0) & (y < rows + 2 * reach) & (x >= 0) & (x < columns + 2 * reach)
    size = p.softening
    group = np.searchsorted(np.sqrt(np.array(SOFTENINGS[:-1]) * np.array(SOFTENINGS[1:])), size)
    from scipy import fft  # takes a while to load, and most pages draw no map

    # as wide as the towns lie: what comes round the edges does not reach the region
    shape = rows + 2 * reach, columns + 2 * reach
    padded = tuple(fft.next_fast_len(n, real=True) for n in shape)
    spectrum = np.zeros((padded[0], padded[1] // 2 + 1), complex)
    for g in range(len(SOFTENINGS)):
        chosen = inside & (group == g)
        if not chosen.any():
            continue
        lights = np.zeros(shape)
        np.add.at(lights, (y[chosen].astype(int), x[chosen].astype(int)), p.light[chosen])
        softening = float(np.average(size[chosen], weights=np.maximum(p.light[chosen], 1e-12)))
        spectrum += fft.rfft2(lights, padded) * fft.rfft2(_kernel(cell, reach, softening), padded)
    light = fft.irfft2(spectrum, padded)[2 * reach : 2 * reach + rows, 2 * reach : 2 * reach + columns]
    dark = float(to_nanolamberts(NATURAL_ZENITH))
    return GlowMap(region, to_magnitudes(dark * (1 + np.maximum(light, 0))))
