"""What a catalogue star's circle holds: its own light, its neighbours', and what the ring around it takes off
again. Among close stars, and there are many in the band, the light that is measured is that of several."""

import numpy as np
import numpy.typing as npt
from scipy.spatial import cKDTree
from scipy.special import erfc

from vinter.core.stack.ingest import LIGHT_PX, RING_PX

Array = npt.NDArray[np.float64]
OWN = 0.8  # share of the light in its circle from which a star counts as alone


def light_expected(places: Array, light: Array, which: npt.NDArray[np.intp], sigma: float) -> Array:
    """Light that ``star_light`` finds of stars ``which`` of all that stand at ``places`` (n, 2; px) with
    their ``light`` (n; any linear unit), images of a width ``sigma`` (standard deviation, px); nan where less
    than four fifths of it, or more than five fourths, is the star's own."""
    circle, inner, outer = (2 * r for r in (LIGHT_PX, *RING_PX))
    ring = circle**2 / (outer**2 - inner**2)
    near = cKDTree(places).query_ball_point(places[which], outer + 3 * sigma)
    in_circle = float(_within(np.zeros(1), circle, sigma)[0])
    out = np.full(len(which), np.nan)
    for k, (star, others) in enumerate(zip(which, near, strict=True)):
        away = np.hypot(*(places[others] - places[star]).T)
        within = [_within(away, radius, sigma) for radius in (circle, inner, outer)]
        seen = float((light[others] * (within[0] - ring * (within[2] - within[1]))).sum())
        own = light[star] * in_circle
        if OWN * seen < own < seen / OWN:
            out[k] = seen
    return out


def _within(away: Array, radius: float, sigma: float) -> Array:
    """Share of a star's light within a circle whose middle lies ``away`` from it."""
    return np.asarray(0.5 * erfc((away - radius) / (np.sqrt(2) * sigma)))
