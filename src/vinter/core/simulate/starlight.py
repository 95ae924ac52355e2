"""Stars as the simulated lens draws them: trailed, out of focus, drawn out and coloured in the corners."""

import numpy as np
import numpy.typing as npt

from vinter.core.camera import photons
from vinter.core.camera.projection import View, project
from vinter.core.simulate import skylight
from vinter.core.simulate.capture import Burst
from vinter.core.simulate.exposing import LEAST_WING, draw_trails, draw_wings
from vinter.core.simulate.raw_colour import colour_factors, reddened
from vinter.core.sky import catalogue
from vinter.core.sky.brightness import ray_airmass

Array = npt.NDArray[np.float64]
F32 = npt.NDArray[np.float32]
BEST_SIGMA = 1.15  # px, of a star in focus at the axis
FRINGE = np.array([0.35, 0.0, -0.45])  # px by which red and blue lie outward of green in the corner
CORNER_PX = 2520.0  # px from the axis to the corner of a 12 MP frame, for which these are:
COMA, COMA_SHARE = 1.1, 0.3  # px in the corner, and the share of a star's light that lies outward
WINGS, WING_PX = 0.05, 4.0  # share of a star's light that the lens scatters, and px of its width
SIGMA_PER_TICK = 0.55  # px of blur (in quadrature) a focus tick away from infinity
FIELD_CURVATURE = 0.7  # ticks from the axis to the corner
LEAST_COSINE, LEAST_BENT = 0.3, 0.1  # beyond which nothing is in the frame
MEAN_OFF_AXIS = 1 / 3  # mean over the frame of the squared distance from the axis, against the corner's


class Starlight:
    """The stars of a burst in one view; ``sharpest`` is the width (standard deviation, px) of a star in focus
    at the axis."""

    def __init__(self, burst: Burst, view: View, sharpest: float = BEST_SIGMA) -> None:
        self.burst, self.view, self.sharpest = burst, view, sharpest

    def in_front(
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

    def draw(self, mosaic: F32, i: int, table: tuple[Array, Array, Array], mirrored: bool = False) -> None:
        """Add to a mosaic what the stars of a table (unit vectors, V, B-V) leave in frame i, electrons."""
        vectors, v, bv = table
        index, enu, through = self.in_front(i, vectors, mirrored)
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
        flux = flux / self._sky_seen(enu * flip)
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

    def _sky_seen(self, enu: Array) -> Array:
        """Sky that a pixel sees in directions (n, 3), of what one on the axis sees: the cube of the cosine,
        and how the lens bends."""
        tangent2 = 1 / np.maximum(enu @ self.view.axes[2], LEAST_COSINE) ** 2 - 1
        bent = (1 + self.view.k1 * tangent2) * (1 + 3 * self.view.k1 * tangent2)
        return np.asarray((1 + tangent2) ** -1.5 / np.maximum(bent, LEAST_BENT))

    @property
    def _full_px(self) -> float:
        """Px of this view in one of ``CORNER_PX``'s, for which the lens's figures are."""
        return self.view.corner_px / CORNER_PX
