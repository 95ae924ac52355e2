"""Bringing the frames of a take to one brightness and one background before they are combined, and how much
each counts.

The light of the same stars tells how much of it came through (thin cloud, dew, another exposure); what the
background then differs by, as a smooth surface, is glow that drifted, dawn or cloud.
"""

from dataclasses import dataclass, field

import cv2
import numpy as np
import numpy.typing as npt

from vinter.core.frames.mosaic import PEDESTAL, SPAN
from vinter.core.stack.ingest import Ingested
from vinter.core.stack.registration.star_matching import Alignment

Array = npt.NDArray[np.float64]
F32 = npt.NDArray[np.float32]
LEAST_SHARED, UNCLIPPED = 15, 0.75  # stars that both frames show, below this share of full scale
LEAST_CELLS = 14  # cells of sky for a surface; with fewer one level a colour is matched
SAME_SCALE = 0.015  # relative difference of brightness that is taken for none
UNFELT = 0.15  # share of a sample's noise: a smaller difference of the background is ignored
LEAST_LIGHT, MOST_LIGHT = 1 / 40, 40.0
CLIPPED = PEDESTAL + 0.96 * SPAN


@dataclass(frozen=True)
class Normalization:
    """What brings one frame to the reference: times ``scale``, plus a surface (3, 6) of degree 2 over the
    reference's frame in units of the clean scale; ``light`` is the share of the stars' light that came
    through, with its error; ``weight`` and ``spread`` are how much the frame counts and how noisy it is then,
    against the take's median."""

    scale: float = 1.0
    surface: Array = field(default_factory=lambda: np.zeros((3, 6)))
    light: float = 1.0
    light_error: float = 0.0
    weight: float = 1.0
    spread: float = 1.0

    @property
    def plain(self) -> bool:
        """Whether it changes nothing."""
        return self.scale == 1.0 and not self.surface.any()

    @property
    def shift(self) -> float:
        """Mean of the surface's greens over the frame, as a share of full scale."""
        k = self.surface[1]
        return float(k[0] + k[1] / 2 + k[2] / 2 + k[3] / 3 + k[4] / 4 + k[5] / 3) / SPAN


def light_ratio(frame: Ingested, base: Ingested, pairs: npt.NDArray[np.intp]) -> tuple[float, float]:
    """How much light of the same stars a frame has against the reference, and its error; (1, 1) with too few
    of them."""
    stars, reference, here, there = frame.stars, base.stars, frame.light, base.light
    assert stars is not None and reference is not None and here is not None and there is not None
    a, b = pairs.T if len(pairs) else (np.empty(0, np.intp),) * 2
    top = UNCLIPPED * SPAN
    fair = (stars.peak[a] < top) & (reference.peak[b] < top) & (here[a] > 0) & (there[b] > 0)
    a, b = a[fair], b[fair]
    if len(a) < LEAST_SHARED:
        return 1.0, 1.0
    bright = np.argsort(-there[b])[: max(len(b) // 2, LEAST_SHARED)]
    logs = np.log(here[a[bright]] / there[b[bright]])
    middle = float(np.median(logs))
    error = 1.2533 * 1.4826 * float(np.median(np.abs(logs - middle))) / np.sqrt(len(logs))
    ratio = float(np.exp(middle))
    return ratio, ratio * max(error, 1e-4)


def terms(u: Array, v: Array) -> Array:
    """The six terms of a surface of degree 2."""
    return np.stack([np.ones_like(u), u, v, u * u, u * v, v * v], axis=-1)


def _cells(grid: F32, size: tuple[int, int]) -> Array:
    """Centres of the cells of a background grid in px, in the grid's order."""
    rows, columns = grid.shape[:2]
    x, y = np.meshgrid(
        (np.arange(columns) + 0.5) * size[0] / columns, (np.arange(rows) + 0.5) * size[1] / rows
    )
    return np.asarray(np.c_[x.ravel(), y.ravel()])


def _at(grid: F32, xy: Array, size: tuple[int, int]) -> Array:
    """Background (n, 3) of a grid at pixels."""
    rows, columns = grid.shape[:2]
    x = (xy[:, 0] / size[0] * columns - 0.5).astype(np.float32)
    y = (xy[:, 1] / size[1] * rows - 0.5).astype(np.float32)
    return np.asarray(
        cv2.remap(grid, x[None], y[None], cv2.INTER_LINEAR, borderMode=cv2.BORDER_REPLICATE)[0], float
    )


def _is_sky(mask: npt.NDArray[np.uint8], xy: Array, reach: Array) -> npt.NDArray[np.bool_]:
    """Whether a cell around each pixel is all sky: its centre and its four corners."""
    height, width = mask.shape
    out = np.ones(len(xy), bool)
    for dx, dy in ((0, 0), (-1, -1), (1, -1), (-1, 1), (1, 1)):
        x, y = xy[:, 0] + dx * reach[0], xy[:, 1] + dy * reach[1]
        inside = (x >= -1) & (x <= width) & (y >= -1) & (y <= height)
        out &= inside & (
            mask[np.clip(y, 0, height - 1).astype(int), np.clip(x, 0, width - 1).astype(int)] > 250
        )
    return out


def _surface(difference: Array, xy: Array, size: tuple[int, int], error: float) -> Array:
    """Coefficients (3, 6) of the difference (n, 3), fitted robustly; a level alone when the cells are few."""
    u, v = xy[:, 0] / size[0], xy[:, 1] / size[1]
    out = np.zeros((3, 6))
    for c in range(3):
        if len(difference) < LEAST_CELLS:
            out[c, 0] = float(np.median(difference[:, c])) if len(difference) else 0.0
            continue
        design, keep = terms(u, v), np.ones(len(u), bool)
        for _ in range(4):
            found, *_ = np.linalg.lstsq(design[keep], difference[keep, c], rcond=None)
            off = np.abs(design @ found - difference[:, c])
            keep = off < max(3 * 1.4826 * float(np.median(off[keep])), error)
        out[c] = found
    return out


def _one(frame: Ingested, base: Ingested, alignment: Alignment, mask: npt.NDArray[np.uint8]) -> Normalization:
    """The normalization of one frame, without weights."""
    assert (
        frame.stars is not None
        and base.stars is not None
        and frame.grid is not None
        and base.grid is not None
    )
    x, y = np.round(frame.stars.xy[alignment.pairs[:, 0]]).astype(int).T
    high = mask[y.clip(0, mask.shape[0] - 1), x.clip(0, mask.shape[1] - 1)] > 200
    light, error = light_ratio(frame, base, alignment.pairs[high])
    if not LEAST_LIGHT < light < MOST_LIGHT:
        light, error = 1.0, 1.0
    scale = 1.0 if abs(light - 1) < max(SAME_SCALE, 2 * error) else 1 / light
    here = _cells(frame.grid, frame.size)
    h = np.c_[here, np.ones(len(here))] @ alignment.homography.T
    there = h[:, :2] / h[:, 2:]
    reach = np.array(frame.size) / (2.2 * np.array(frame.grid.shape[1::-1]))
    fair = _is_sky(mask, here, reach) & _is_sky(mask, there, reach)
    own = (frame.grid.reshape(-1, 3)[fair] - PEDESTAL) * scale
    wanted = _at(base.grid, there[fair], base.size) - PEDESTAL
    noise = frame.measure.noise * SPAN if frame.measure else 100.0
    surface = _surface(wanted - own, there[fair], base.size, 0.05 * noise)
    u, v = np.meshgrid(np.linspace(0, 1, 5), np.linspace(0, 1, 5))
    if scale == 1.0 and np.abs(terms(u.ravel(), v.ravel()) @ surface.T).max() < UNFELT * noise:
        surface = np.zeros((3, 6))
    return Normalization(scale, surface, light, error)


def normalize(
    frames: list[Ingested], alignments: list[Alignment], reference: int, mask: npt.NDArray[np.uint8]
) -> list[Normalization]:
    """For every frame what brings it to the reference; frames that are not used get the identity.

    A frame counts by the square of what its stars stand above the noise with: (light / noise / star width)^2.
    """
    base = frames[reference]
    used = [i for i, a in enumerate(alignments) if a.used]
    found = [Normalization()] * len(frames)
    for i in used:
        if i != reference:
            found[i] = _one(frames[i], base, alignments[i], mask)
    noise = np.array([max(frames[i].measure.noise, 1e-6) * found[i].scale for i in used])  # type: ignore[union-attr]
    width = np.array([max(frames[i].measure.fwhm_px, 0.5) for i in used])  # type: ignore[union-attr]
    weight = 1 / (noise * width) ** 2
    out = list(found)
    for place, i in enumerate(used):
        m = found[i]
        spread = float(noise[place] / np.median(noise))
        out[i] = Normalization(
            m.scale, m.surface, m.light, m.light_error, float(weight[place] / np.median(weight)), spread
        )
    return out
