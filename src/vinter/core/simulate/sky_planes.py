"""Light without an edge: airglow, towns, Moon, twilight, and the Milky Way between its stars."""

from collections.abc import Callable

import numpy as np
import numpy.typing as npt

from vinter.core.camera.projection import View, east_north_up, unproject
from vinter.core.simulate import skylight
from vinter.core.simulate.capture import Burst
from vinter.core.simulate.ground import grid, upsample
from vinter.core.simulate.raw_colour import GREEN_LINE, RED_LINE, colour_factors, reddened
from vinter.core.sky import diffuse_light as diffuse
from vinter.core.sky.brightness import ray_airmass
from vinter.core.sky.site import Site

Array = npt.NDArray[np.float64]
F32 = npt.NDArray[np.float32]
DIFFUSE_STEP, BAND_STEP = 16, 6  # px between places where the air's light, and the band's, is worked out


class SkyPlanes:
    """The diffuse sky of a burst in one view; ``per_nl`` is a nanolambert in electrons per second and
    pixel."""

    def __init__(self, burst: Burst, view: View, per_nl: float) -> None:
        self.burst, self.view, self.per_nl = burst, view, per_nl

    def diffuse(self, i: int, mirrored: bool = False) -> tuple[list[F32], float]:
        """Electrons by colour at half size from diffuse light in frame i (``mirrored``: of the sky that lies
        as far above the horizon as the view looks below it), and the mean sky light in nL."""
        site, unix, flip = self.burst.site, self.burst.middle(i), [1, 1, -1.0 if mirrored else 1.0]
        planes, mean = self.spread(DIFFUSE_STEP, lambda enu: self.air(site, unix, enu * flip))
        band, _ = self.spread(BAND_STEP, lambda enu: self.band(site, unix, enu * flip))
        return [a + b for a, b in zip(planes, band, strict=True)], mean

    def air(self, site: Site, unix: float, enu: Array) -> tuple[Array, Array]:
        """Raw colours (n, 3) and whole light (n,) in nL of all but the Milky Way."""
        light = diffuse.diffuse(site, unix, enu)
        night = int(unix // 86400)
        parts = {**light.light, "natural": light.light["natural"] * skylight.airglow(enu, unix, night)}
        colours = np.zeros((len(enu), 3))
        for name, part in parts.items():
            colours += part[:, None] * colour_factors(np.array(diffuse.COLOUR[name]))
        colours[:, 1] += GREEN_LINE * parts["natural"]
        return colours, light.total

    def band(self, site: Site, unix: float, enu: Array) -> tuple[Array, Array]:
        """Raw colours (n, 3) and light (n,) of the Milky Way between the catalogue's stars."""
        band = diffuse.band_light(site, unix, enu, stars_apart=True)
        colours = band.light[:, None] * colour_factors(band.colour) + band.red[:, None] * RED_LINE
        altitude = np.degrees(np.arcsin(np.clip(enu[:, 2], -1, 1)))
        return colours * reddened(site.extinction * ray_airmass(altitude)), band.light

    def spread(self, step: int, light: Callable[[Array], tuple[Array, Array]]) -> tuple[list[F32], float]:
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

    def on_the_ground(self, i: int) -> float:
        """Light of the sky on level ground in frame i, as the brightness in nL of a sky that is even."""
        azimuth, altitude = np.meshgrid(np.arange(0.0, 360.0, 30.0) + 15, np.arange(5.0, 90.0, 10.0))
        _, light = self.air(
            self.burst.site, self.burst.middle(i), east_north_up(altitude.ravel(), azimuth.ravel())
        )
        falls = np.sin(2 * np.radians(altitude.ravel()))  # so much sky at a height, and so steeply
        return float(np.average(light, weights=falls))
