"""How much darker a lens is towards its corners, from a burst whose field is not known: the same stars, at
several places of the picture.

A star that drifts outwards grows dimmer by what the lens loses there, whatever its own light is. The air
dims it too, by where it stands over the horizon; on a tripod that is a second map over the picture, tried for
every altitude that a level camera may have had.
"""

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from vinter.core.frames.mosaic import SPAN
from vinter.core.stack.ingest import Ingested
from vinter.core.stack.photometry.fitting import AIR_ERROR, LEAST_STARS, USUAL_AIR, Fit, weighed
from vinter.core.stack.photometry.normalization import UNCLIPPED
from vinter.core.stack.photometry.vignetting import Source, Vignetting, flat_loss, possible_airmasses
from vinter.core.stack.registration.star_matching import Alignment

Array = npt.NDArray[np.float64]
Ints = npt.NDArray[np.intp]
LEAST_FRAMES = 4  # that show a star
MOST_FRAMES = 60  # that are looked at, so that time and memory have a bound
SHAPE, SHAPE_ERROR = 0.4, 0.1  # share of r^4 in the fall-off of usual lenses, and the spread of its mag
DRIFT_FLOOR = 0.15  # mag of the corner: images that widen outwards, a camera that was not level
ROUNDS = 6
LEAST_NOISE, MOST_OFF = 0.005, 3.0  # mag of a sight; and beyond so many times its noise it counts no more


def drifting_stars(
    frames: Sequence[Ingested], alignments: Sequence[Alignment], reference: int, focal_px: float
) -> Vignetting | None:
    """The fall-off of a surface through the lens of a burst from stars of the reference that were matched in
    other frames; ``focal_px`` for the sky that a pixel sees, in a flat picture. None with too few stars.

    Least squares of each star's light against r^2, r^4 and the air, with a brightness of its own for every
    star and every frame, outliers left out. The shape of the fall is held near that of usual lenses.
    """
    seen = _seen(frames, alignments, reference)
    if seen is None:
        return None
    half = (np.array(frames[reference].size) - 1) / 2
    across = seen.xy - half
    r2 = (across**2).sum(axis=1) / (half**2).sum()
    rays = np.c_[across / focal_px, np.ones(len(across))]
    rays /= np.linalg.norm(rays, axis=1, keepdims=True)
    noise = _noise_of(seen)
    mag, square, fourth = (_without_means(v, seen, 1 / noise**2) for v in (seen.mag, r2, r2**2))
    fits = [
        fit
        for air in possible_airmasses(rays)
        if (fit := _fit_under(mag, square, fourth, _without_means(air, seen, 1 / noise**2), noise))
    ]
    used = len(np.unique(seen.star))
    if not fits or used < LEAST_STARS:
        return None
    fit = weighed(fits)
    starlight = float(fit.best[:2].sum())
    smaller2 = (half**2).sum() / focal_px**2
    # what a pixel sees less is no polynomial: it is fitted by the two powers over the picture
    steps = np.linspace(0, 1, 40)
    powers = np.c_[steps, steps**2]
    surface = np.linalg.lstsq(powers, flat_loss(smaller2 * steps), rcond=None)[0]
    return Vignetting(
        square=float(fit.best[0] + surface[0]),
        fourth=float(fit.best[1] + surface[1]),
        corner=starlight + float(surface.sum()),
        corner_error=float(np.hypot(fit.corner_error, DRIFT_FLOOR)),
        starlight=starlight,
        scatter=fit.scatter,
        stars=used,
        source=Source.DRIFT,
    )


@dataclass(frozen=True)
class _Sights:
    """Sights of stars: magnitude, place (n, 2; px), and the numbers of star and frame."""

    mag: Array
    xy: Array
    star: Ints
    frame: Ints


def _seen(frames: Sequence[Ingested], alignments: Sequence[Alignment], reference: int) -> _Sights | None:
    """Sights of stars that are not cut, of stars that were seen often; of many frames in some, spread over
    the burst. None with too few."""
    size = frames[reference].size
    fit = [i for i, frame in enumerate(frames) if alignments[i].used and frame.size == size]
    spread = np.linspace(0, len(fit) - 1, min(MOST_FRAMES, len(fit))).astype(int)
    mags, places, stars, numbers = [], [], [], []
    for i in (fit[k] for k in spread):
        catalogue, light, pairs = frames[i].stars, frames[i].light, alignments[i].pairs
        if catalogue is None or light is None:
            continue
        if i == reference:
            here = there = np.arange(len(catalogue))
        else:
            here, there = pairs.T if len(pairs) else (np.empty(0, np.intp),) * 2
        fair = (catalogue.peak[here] < UNCLIPPED * SPAN) & (light[here] > 0)
        here, there = here[fair], there[fair]
        mags.append(-2.5 * np.log10(light[here].astype(float)))
        places.append(np.asarray(catalogue.xy[here], float))
        stars.append(there)
        numbers.append(np.full(len(here), i))
    if len(mags) < LEAST_FRAMES:
        return None
    star = np.concatenate(stars).astype(np.intp)
    if not len(star):
        return None
    often = np.bincount(star)[star] >= LEAST_FRAMES
    if len(np.unique(star[often])) < LEAST_STARS:
        return None
    xy, frame_of = np.concatenate(places), np.concatenate(numbers).astype(np.intp)
    return _Sights(np.concatenate(mags)[often], xy[often], star[often], frame_of[often])


def _without_means(values: Array, seen: _Sights, weight: Array) -> Array:
    """Values less a brightness of every star and of every frame (weighted means in turn)."""
    out = values.copy()
    for _ in range(ROUNDS):
        for group in (seen.frame, seen.star):
            total = np.bincount(group, weight)
            out -= (np.bincount(group, weight * out) / np.where(total > 0, total, 1))[group]
    return out


def _fit_under(mag: Array, square: Array, fourth: Array, air: Array, noise: Array) -> Fit | None:
    """The fit of sights, less the brightness of star and frame, under one course of the air; ``noise`` of
    each sight, mag."""
    # two rows of what is known beforehand: the shape of the fall, and the air
    known = np.array([[-SHAPE / SHAPE_ERROR, (1 - SHAPE) / SHAPE_ERROR, 0.0], [0.0, 0.0, 1 / AIR_ERROR]])
    wanted = np.array([0.0, USUAL_AIR / AIR_ERROR])
    rows, weight = np.c_[square, fourth, air], 1 / noise**2
    for _ in range(ROUNDS):
        normal = (rows * weight[:, None]).T @ rows + known.T @ known
        best = np.linalg.solve(normal, (rows * weight[:, None]).T @ mag + known.T @ wanted)
        off = np.abs(rows @ best - mag) / noise
        weight = np.where(off < MOST_OFF, 1 / noise**2, 0.0)
    misfit = float((np.minimum(off, MOST_OFF) ** 2).sum() + ((known @ best - wanted) ** 2).sum())
    count = int((weight > 0).sum())
    return Fit(
        best=best,
        cov=np.linalg.inv(normal),
        growth=np.ones(2),
        misfit=misfit,
        scatter=float(np.median(noise)),
        stars=count,
        noise=noise,
    )


def _noise_of(seen: _Sights) -> Array:
    """Scatter of each sight (mag): that of its star, smoothed over stars of about its brightness."""
    plain = _without_means(seen.mag, seen, np.ones(len(seen.mag)))
    count = np.bincount(seen.star)
    mean = np.bincount(seen.star, seen.mag) / np.maximum(count, 1)
    order = np.flatnonzero(count)
    order = order[np.argsort(mean[order])]
    deviation = np.array([1.4826 * np.median(np.abs(plain[seen.star == k])) for k in order])
    deviation /= np.sqrt(1 - 1 / count[order])  # a mean of its own was taken off
    near = max(len(order) // 12, 5)
    out = np.zeros(len(count))
    for place, star in enumerate(order):
        out[star] = max(float(np.median(deviation[max(0, place - near) : place + near + 1])), LEAST_NOISE)
    return out[seen.star]
