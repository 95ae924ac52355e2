"""What is joined: stacks with their fields, and their fields brought together by the stars they share."""

from dataclasses import dataclass, replace

import numpy as np
import numpy.typing as npt
from scipy.optimize import least_squares
from scipy.spatial import cKDTree
from scipy.spatial.transform import Rotation

from vinter.core.frames.mosaic import PEDESTAL, SPAN, picture_half
from vinter.core.frames.stars import background, find_stars
from vinter.core.stack.plate_solve import Solution

F32 = npt.NDArray[np.float32]
U8 = npt.NDArray[np.uint8]
Array = npt.NDArray[np.float64]
PAIR_PX = 4.0  # px within which two stacks' stars are taken for one
LEAST_PAIRS = 12
SURE_SKY = 0.98
ANCHOR = 2.0  # weight of a px against the fit to the catalogue


@dataclass(frozen=True, kw_only=True)
class Panel:
    """One stack to join: its picture (h, w, 3, linear), share of sky (h, w), solved field, and the unix time
    of its reference."""

    name: str
    rgb: F32
    sky: F32
    field: Solution
    unix: float


def refine(panels: list[Panel], stars: list[Array]) -> tuple[list[Panel], float, int]:
    """Panels whose turns and lens agree on the stars they share; the distance (px, rms) of those afterwards
    and their number. ``stars`` are pixels (n, 2) of each panel's sky."""
    pairs: list[tuple[int, int, Array, Array]] = []
    for i, a in enumerate(panels):
        tree = cKDTree(stars[i]) if len(stars[i]) else None
        for j, b in enumerate(panels):
            if j <= i or tree is None or not len(stars[j]):
                continue
            x, y, front = a.field.places(b.field.directions(stars[j]))
            away, which = tree.query(np.c_[x, y], distance_upper_bound=PAIR_PX)
            ok = np.isfinite(away) & front
            if ok.sum() >= LEAST_PAIRS:
                pairs.append((i, j, stars[i][which[ok]], stars[j][ok]))
    if not pairs:
        return panels, float("nan"), 0

    def moved(p: Array) -> list[Solution]:
        out = []
        for i, panel in enumerate(panels):
            turn = Rotation.from_rotvec(p[3 * i : 3 * i + 3] * 1e-4).as_matrix()
            f = panel.field
            out.append(
                replace(
                    f,
                    rotation=(turn @ np.array(f.rotation)).tolist(),
                    focal_px=f.focal_px * (1 + p[-2] * 1e-4),
                    k1=f.k1 + p[-1] * 1e-3,
                )
            )
        return out

    def off(p: Array) -> Array:
        fields = moved(p)
        parts = []
        for i, j, at_i, at_j in pairs:
            x, y, _ = fields[i].places(fields[j].directions(at_j))
            parts.append((np.c_[x, y] - at_i).ravel())
        # what the catalogue found holds the whole in place: a turn of 1e-4 is a third of a px
        return np.concatenate([*parts, p * ANCHOR])

    best = least_squares(off, np.zeros(3 * len(panels) + 2), loss="soft_l1", f_scale=0.3).x
    left = off(best)[: -len(best)].reshape(-1, 2)
    fields = moved(best)
    return (
        [replace(p, field=f) for p, f in zip(panels, fields, strict=True)],
        float(np.sqrt(np.median((left**2).sum(axis=1)))),
        len(left),
    )


def sky_stars(panel: Panel) -> Array:
    """Pixels (n, 2) of the stars in a panel's sky, brightest first."""
    plane = picture_half(np.clip(panel.rgb * SPAN + PEDESTAL, 0, 65535).astype(np.uint16))
    xy = np.asarray(find_stars(plane, background(plane)).stars.xy, float)
    rows, columns = (
        np.clip(np.round(xy[:, 1]).astype(int), 0, panel.sky.shape[0] - 1),
        np.clip(np.round(xy[:, 0]).astype(int), 0, panel.sky.shape[1] - 1),
    )
    return np.asarray(xy[panel.sky[rows, columns] > SURE_SKY])
