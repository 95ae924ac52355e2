"""What the stars of a picture show of its lens: the way they trailed, and how far red and blue lie from
green."""

from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from vinter.core.frames.adaptive_moments import shapes, trail_length
from vinter.core.frames.mosaic import PEDESTAL, SPAN, picture_half
from vinter.core.frames.stars import Stars, background, find_stars

F32 = npt.NDArray[np.float32]
Array = npt.NDArray[np.float64]
REACH = 6  # px about a star that its centre is looked for in
STEPS = 4  # rounds of the weighted centre
CUT = 0.7  # share of full scale above which a star may be clipped
LEAST, MOST = 40, 1200  # stars
FAR = 3.0  # standard deviations beyond which a star (blended) is left out
SURE = 3.0  # standard deviations from which a trail or a fringe is significant
ROUND = 1.12  # elongation that noise and the lens's corners give round stars
SPREAD_LEAST = 0.05  # px, of a centre in one colour


@dataclass(frozen=True, kw_only=True)
class StarField:
    """Stars of a full-size picture: their median width (FWHM, px), the length (px) and direction (degrees, x
    right and y down) of their trail, and by how many px red and blue are larger than green in the corner,
    with errors; what is not sure is zero."""

    stars: int
    fwhm: float
    trail: float = 0.0
    angle: float = 0.0
    red: float = 0.0
    blue: float = 0.0
    error: float = 0.0


def found_stars(rgb: F32) -> tuple[F32, Stars]:
    """Stars of a linear full-size picture, and the half-size green plane without its background."""
    plane = picture_half(np.clip(rgb * SPAN + PEDESTAL, 0, 65535).astype(np.uint16))
    level = background(plane)
    return level.signal, find_stars(plane, level).stars


def star_field(rgb: F32, sky: F32, plane: F32, stars: Stars) -> StarField | None:
    """What the stars show; None with too few of them."""
    h, w = sky.shape
    x, y = np.round(stars.x).astype(int), np.round(stars.y).astype(int)
    inside = (x > REACH) & (y > REACH) & (x < w - REACH - 1) & (y < h - REACH - 1)
    inside[inside] = sky[y[inside], x[inside]] > 0.98
    use = stars.take(np.flatnonzero(inside)[:MOST])
    if len(use) < LEAST:
        return None
    fwhm, long, angle = shapes(plane, (use.x - 0.5) / 2, (use.y - 0.5) / 2)
    fine = np.isfinite(fwhm)
    if fine.sum() < LEAST:
        return None
    trail, way = _trail(fwhm[fine], long[fine], angle[fine])
    red, blue, error = _fringes(rgb, use, float(np.median(fwhm[fine])))
    return StarField(
        stars=int(fine.sum()),
        fwhm=float(np.median(fwhm[fine])),
        trail=trail,
        angle=way,
        red=red,
        blue=blue,
        error=error,
    )


def _trail(fwhm: Array, elongation: Array, angle: Array) -> tuple[float, float]:
    """Length (px) and direction of the trail that most stars share; zero where they lean every way."""
    twice = np.radians(2 * angle)
    strength = np.minimum(elongation - 1, 2.0)
    mean = np.array([np.mean(strength * np.cos(twice)), np.mean(strength * np.sin(twice))])
    error = float(np.std(strength)) / np.sqrt(len(strength))
    if float(np.hypot(*mean)) < max(SURE * error, ROUND - 1):
        return 0.0, 0.0
    way = float(np.degrees(np.arctan2(mean[1], mean[0])) / 2)
    return trail_length(float(np.median(fwhm)), float(np.median(elongation)), ROUND), way


def _middles(rgb: F32, x: Array, y: Array, fwhm: float) -> Array:
    """Centres (n, 3, 2) of stars in three colours, by a Gaussian weight of their width that follows them."""
    steps = np.arange(-REACH, REACH + 1)
    sigma2 = max(fwhm / 2.3548, 0.8) ** 2
    out = np.full((len(x), 3, 2), np.nan)
    column, row = np.round(x).astype(int), np.round(y).astype(int)
    at = np.flatnonzero(
        (np.minimum(column, row) >= REACH) & (column < rgb.shape[1] - REACH) & (row < rgb.shape[0] - REACH)
    )
    patches = rgb[row[at, None, None] + steps[:, None], column[at, None, None] + steps]
    unclipped = patches.max(axis=(1, 2, 3), initial=0) <= CUT
    at, patches = at[unclipped], patches[unclipped]
    rims = [patches[:, 0], patches[:, -1], patches[:, :, 0], patches[:, :, -1]]
    floor = np.median(np.concatenate(rims, axis=1), axis=1)
    light = np.moveaxis(patches - floor[:, None, None], 3, 1).astype(float)  # (n, 3, rows, columns)
    mx, my = (np.repeat((v[at] - np.round(v[at]))[:, None], 3, axis=1) for v in (x, y))
    good = np.ones(mx.shape, bool)
    for _ in range(STEPS):
        across, down = (np.exp(-((steps - m[..., None]) ** 2) / (2 * sigma2)) for m in (mx, my))
        rows = (light @ across[..., None])[..., 0] * down
        total = rows.sum(axis=-1)
        good &= total > 0
        total = np.where(good, total, 1.0)
        leans = (light @ (across * steps)[..., None])[..., 0] * down
        # the weight pulls to where it stands: twice the way is the whole of it
        mx, my = (
            np.where(good, m + 2 * (lean.sum(axis=-1) / total - m), m)
            for m, lean in ((mx, leans), (my, rows * steps))
        )
    good &= (np.abs(mx) < 3) & (np.abs(my) < 3)
    out[at] = np.where(
        good[..., None], np.stack([mx + column[at, None], my + row[at, None]], axis=-1), np.nan
    )
    return out


def _fringes(rgb: F32, stars: Stars, fwhm: float) -> tuple[float, float, float]:
    """By how many px red and blue are larger than green in the corner, and the larger error."""
    h, w = rgb.shape[:2]
    at = _middles(rgb, stars.x, stars.y, fwhm)
    good = np.isfinite(at).all(axis=(1, 2))
    if good.sum() < LEAST:
        return 0.0, 0.0, 0.0
    corner = float(np.hypot(w, h)) / 2
    away = (at[good, 1] - [(w - 1) / 2, (h - 1) / 2]) / corner
    found, errors = [], []
    for c in (0, 2):
        size, error = _growth(away, at[good, c] - at[good, 1])
        found.append(size if abs(size) > SURE * error else 0.0)
        errors.append(error)
    return found[0], found[1], max(errors)


def _growth(away: Array, shift: Array) -> tuple[float, float]:
    """Slope of shifts (n, 2) over distances (n, 2) from the centre, a common shift let free; robust, with its
    error."""
    n = len(away)
    design = np.zeros((2 * n, 3))
    design[:n, 0], design[n:, 0] = away[:, 0], away[:, 1]
    design[:n, 1], design[n:, 2] = 1, 1
    values = np.concatenate([shift[:, 0], shift[:, 1]])
    keep = np.ones(2 * n, bool)
    best, error = np.zeros(3), 1.0
    for _ in range(6):
        best, *_ = np.linalg.lstsq(design[keep], values[keep], rcond=None)
        off = values - design @ best
        spread = max(1.4826 * float(np.median(np.abs(off[keep]))), SPREAD_LEAST)
        keep = np.abs(off) < FAR * spread
        error = spread * float(np.sqrt(np.linalg.inv(design[keep].T @ design[keep])[0, 0]))
    return float(best[0]), error
