"""Registration: where every frame's stars lie in the reference frame.

Homographies by walking outward from the reference, then, when there are enough stars, one rotation
and distortion model for the whole burst (docs/models.md, Registration).
"""

from dataclasses import dataclass, field

import cv2
import numpy as np
import numpy.typing as npt

from vinter.core.frames.stars import Stars
from vinter.core.words import count_of

Array = npt.NDArray[np.float64]
RADII = (14.0, 4.0, 2.5)  # px, matching radius of each round
USUAL = 0.1  # px
FIXED_PX = 0.7  # px within which a detection stands still
FEWEST = 12  # matched stars below which an alignment is not trusted
WORST_RESIDUAL = 1.5  # px RMS above which it is not either
BRIGHTEST = 250  # stars that vote for a first shift
VOTE_REACH, VOTE_BIN = 260.0, 4.0  # px
FAR_REACH, FAR_BIN = 1000.0, 10.0  # px, when the camera was knocked
ROLLS = np.arange(-5, 5.1, 0.5)  # degrees it may have been turned by


@dataclass(frozen=True)
class Alignment:
    """One frame against the reference: 3 x 3 homography from its pixels to the reference's, and the
    evidence."""

    used: bool
    reason: str
    homography: Array = field(default_factory=lambda: np.eye(3))
    residual_px: float = 0.0
    pairs: npt.NDArray[np.intp] = field(default_factory=lambda: np.empty((0, 2), np.intp))


def apply(homography: Array, xy: Array) -> Array:
    """Points (n, 2) through a homography."""
    h = np.c_[xy, np.ones(len(xy))] @ homography.T
    return np.asarray(h[:, :2] / h[:, 2:])


def weights(a: Stars, b: Stars, pairs: npt.NDArray[np.intp]) -> Array:
    """How much each pair of stars tells (n,): 1 for one whose places differ by ``USUAL`` px through their own
    errors."""
    return np.asarray(USUAL / np.hypot(a.error[pairs[:, 0]], b.error[pairs[:, 1]]))


def weighted_rms(off: Array, weight: Array) -> float:
    """Root mean square of distances (n, 2), px, each counted by its weight squared."""
    return float(np.sqrt(((weight[:, None] * off) ** 2).sum() / max(float((weight**2).sum()), 1e-12)))


def trimmed_rms(off: Array, weight: Array) -> float:
    """``weighted_rms`` without the fiftieth of the pairs that lies farthest off for its weight."""
    far = np.hypot(*off.T) * weight
    near = far <= np.quantile(far, 0.98)
    return weighted_rms(off[near], weight[near])


def fitted(a: Array, b: Array, start: Array, weight: Array) -> Array:
    """Homography (3, 3) that brings points a (n, 2) nearest to b by weighted least squares, from a close
    start."""
    middle, scale = a.mean(axis=0), max(float(np.ptp(a, axis=0).max()), 1.0)
    norm = np.array([[1 / scale, 0, -middle[0] / scale], [0, 1 / scale, -middle[1] / scale], [0, 0, 1]])
    p, q, h = apply(norm, a), apply(norm, b), norm @ start @ np.linalg.inv(norm)
    h = h / h[2, 2]
    point, none = np.c_[p, np.ones(len(p))], np.zeros((len(p), 3))
    for _ in range(4):
        there, w = apply(h, p), 1 / (point @ h[2])[:, None]
        slopes = np.concatenate(
            [np.c_[point * w, none, -p * w * there[:, :1]], np.c_[none, point * w, -p * w * there[:, 1:]]]
        )
        r, both = (q - there).T.ravel(), np.r_[weight, weight]
        step = np.linalg.lstsq(slopes * both[:, None], r * both, rcond=None)[0]
        h = h + np.append(step, 0.0).reshape(3, 3)
    out = np.linalg.inv(norm) @ h @ norm
    return np.asarray(out / out[2, 2])


def mutual_pairs(a: Array, b: Array, radius: float) -> npt.NDArray[np.intp]:
    """Index pairs (n, 2) of points that are each other's nearest within a radius."""
    from scipy.spatial import cKDTree  # slow to load, and pool processes never match

    if not len(a) or not len(b):
        return np.empty((0, 2), np.intp)
    distance, nearest = cKDTree(b).query(a, distance_upper_bound=radius)
    _, back = cKDTree(a).query(b, distance_upper_bound=radius)
    index = np.flatnonzero(np.isfinite(distance))
    index = index[back[nearest[index]] == index]
    return np.asarray(np.c_[index, nearest[index]], np.intp)


def _most_votes(a: Array, b: Array, reach: float, cell: float) -> tuple[Array, float]:
    """The shift that most pairs of a and b share, and its votes."""
    d = (b[None] - a[:, None]).reshape(-1, 2)
    d = d[np.abs(d).max(axis=1) < reach]
    counts, ex, ey = np.histogram2d(
        d[:, 0], d[:, 1], bins=round(2 * reach / cell), range=[[-reach, reach]] * 2
    )
    smooth = cv2.blur(counts, (3, 3))
    i, j = np.unravel_index(int(np.argmax(smooth)), smooth.shape)
    return np.array([(ex[i] + ex[i + 1]) / 2, (ey[j] + ey[j + 1]) / 2]), float(smooth[i, j])


def vote_shift(a: Array, b: Array) -> Array:
    """The shift (homography) that most pairs of bright stars of a and b share."""
    shift = np.eye(3)
    shift[:2, 2], _ = _most_votes(a[:BRIGHTEST], b[:BRIGHTEST], VOTE_REACH, VOTE_BIN)
    return shift


def vote_turn(a: Array, b: Array) -> Array:
    """The turn about the stars' centre and the shift (homography) that most pairs share, for a camera that
    was knocked."""
    a, b = a[:BRIGHTEST], b[:BRIGHTEST]
    middle = a.mean(axis=0)
    best, out = -1.0, np.eye(3)
    for roll in np.radians(ROLLS):
        c, s = np.cos(roll), np.sin(roll)
        turned = np.array([[c, -s], [s, c]])
        shift, votes = _most_votes((a - middle) @ turned.T + middle, b, FAR_REACH, FAR_BIN)
        if votes > best:
            best, out = votes, np.eye(3)
            out[:2, :2], out[:2, 2] = turned, middle - turned @ middle + shift
    return out


def _refined(one: Stars, other: Stars, start: Array) -> Alignment:
    """Match within shrinking radii, then fit; the last fit is weighted least squares over the close
    pairs."""
    a, b = one.xy, other.xy
    h, pairs = start, np.empty((0, 2), np.intp)
    for step, radius in enumerate(RADII):
        pairs = mutual_pairs(apply(h, a), b, radius)
        if len(pairs) < FEWEST:
            return Alignment(False, f"only {count_of(len(pairs), 'star')} in common with the reference")
        method = cv2.USAC_MAGSAC if step < 2 else 0
        found, _ = cv2.findHomography(a[pairs[:, 0]], b[pairs[:, 1]], method, 1.5)
        if found is None:
            return Alignment(False, "no alignment fits its stars")
        h = found
    for _ in range(2):
        error = np.hypot(*(apply(h, a[pairs[:, 0]]) - b[pairs[:, 1]]).T)
        keep = error < max(3.5 * float(np.median(error)), 0.3)
        if keep.sum() < FEWEST:
            return Alignment(False, f"only {count_of(int(keep.sum()), 'star')} in common with the reference")
        pairs = pairs[keep]
        h = fitted(a[pairs[:, 0]], b[pairs[:, 1]], h, weights(one, other, pairs))
    rms = weighted_rms(apply(h, a[pairs[:, 0]]) - b[pairs[:, 1]], weights(one, other, pairs))
    if rms > WORST_RESIDUAL:
        return Alignment(False, f"its stars fit the reference only to {rms:.1f} px", h, rms, pairs)
    return Alignment(True, "", h / h[2, 2], rms, pairs)


def moving(stars: list[Stars], reference: int) -> list[npt.NDArray[np.bool_]]:
    """For each frame which detections are not fixed to the camera (lamps, ground, hot pixels are).

    A detection is fixed when most other frames have one within FIXED_PX of it. When nearly everything
    is fixed (a tracked camera, a single frame) nothing is taken out.
    """
    from scipy.spatial import cKDTree

    others = [s.xy for i, s in enumerate(stars) if len(s) and abs(i - reference) != 1]
    if len(others) < 3:
        return [np.ones(len(s), bool) for s in stars]
    tree = cKDTree(np.concatenate(others))  # of one frame hardly ever two lie so close together
    out = []
    for s in stars:
        hits = tree.query_ball_point(s.xy, FIXED_PX, return_length=True) if len(s) else np.empty(0)
        free = np.asarray(hits < 0.6 * len(others))
        out.append(free if free.sum() > max(0.2 * len(s), FEWEST) else np.ones(len(s), bool))
    return out


def _predict(done: dict[int, Array], times: Array, i: int, step: int, reference: int) -> Array | None:
    """Homography of frame i by carrying on the last motion at its pace."""
    last = i - step
    while last != reference and last not in done:
        last -= step
    before = last - step
    while before != reference and before not in done and (before - reference) * step > 0:
        before -= step
    if last == reference:
        return None
    span = times[last] - times[before]
    pace = (times[i] - times[last]) / span if span else 1.0
    jump = np.linalg.inv(done[before]) @ done[last] if before in done else done[last]
    return np.asarray(done[last] @ (np.eye(3) + pace * (jump / jump[2, 2] - np.eye(3))))


def align(stars: list[Stars], times: Array, reference: int) -> list[Alignment]:
    """Align every frame's stars with the reference's. A frame that cannot be aligned says why."""
    free = moving(stars, reference)
    moved = [s.take(f) for s, f in zip(stars, free, strict=True)]
    numbers = [np.flatnonzero(f) for f in free]
    target = moved[reference]
    done: dict[int, Array] = {reference: np.eye(3)}
    own = np.c_[numbers[reference], numbers[reference]]
    out: dict[int, Alignment] = {reference: Alignment(True, "", np.eye(3), 0.0, own)}
    for step in (1, -1):
        i = reference + step
        while 0 <= i < len(stars):
            out[i] = _align_one(moved[i], target, _predict(done, times, i, step, reference))
            if out[i].used:
                done[i] = out[i].homography
            i += step
    return [
        _renumbered(out[i], numbers[i], numbers[reference]) if i != reference else out[i]
        for i in range(len(stars))
    ]


def _align_one(here: Stars, target: Stars, predicted: Array | None) -> Alignment:
    if len(here) < FEWEST or len(target) < FEWEST:
        return Alignment(False, f"only {count_of(len(here), 'star')}: cloud, focus or a covered lens")
    results = [_refined(here, target, predicted)] if predicted is not None else []
    if not results or not results[0].used or len(results[0].pairs) < 0.2 * min(len(here), len(target)):
        results.append(_refined(here, target, vote_shift(here.xy, target.xy)))
    if not any(r.used for r in results):
        results.append(_refined(here, target, vote_turn(here.xy, target.xy)))
    return max(results, key=lambda r: (r.used, len(r.pairs)))


def _renumbered(a: Alignment, frame: npt.NDArray[np.intp], reference: npt.NDArray[np.intp]) -> Alignment:
    pairs = np.c_[frame[a.pairs[:, 0]], reference[a.pairs[:, 1]]] if len(a.pairs) else a.pairs
    return Alignment(a.used, a.reason, a.homography, a.residual_px, pairs)
