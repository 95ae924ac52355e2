"""Did the tripod hold? How the ground lies in each frame against the reference, from the ground itself."""

from concurrent.futures import Executor
from dataclasses import dataclass, field
from itertools import pairwise
from pathlib import Path

import cv2
import numpy as np
import numpy.typing as npt

from vinter.core.frames.mosaic import half_plane
from vinter.core.stack.ingest import Ingested, quiet_worker
from vinter.core.stack.registration.geometry import small_turn
from vinter.core.stack.registration.star_matching import apply

Array = npt.NDArray[np.float64]
F32 = npt.NDArray[np.float32]
U8 = npt.NDArray[np.uint8]
WORKING_PX = 1000  # px of width at which the ground is compared
EDGE_PX = (
    14  # of the working size, of sky above the ground that is taken along: the skyline is what shows best
)
LEAST_LIKENESS = 0.55  # correlation below which the ground could not be compared
HELD_PX = 0.7  # px: a corner of the ground that moved less has not moved
SURE_ERRORS = 3.0
MARGIN = 16  # working px kept around the part that is compared
TRUSTED = 0.35  # share of the motion by which its parts may disagree
INSIDE_PX = 8  # half-size px from the sky within which the ground's own texture is not compared
TEXTURE = (1.0, 6.0)  # half-size px, standard deviations of the two blurs between which the texture lies
# Px that the texture may ask for beyond the coarse look where that is sure, ten times as much where it is not
STRAY = 1.5
LIKE_TEXTURE = 0.6  # correlation of texture that needs no coarse look to agree with it
LEAST_TEXTURE = 0.25  # correlation of texture, with a coarse look that agrees; under it the texture is noise
WINDOW, LEAST_WINDOW = (
    (320, 200),
    1500,
)  # half-size px: how large a part of the ground is compared, and the fewest pixels of ground in it
SAMPLING_PX = 0.1  # px that sampling alone does to the place of texture
AGREED = 0.4  # px by which its parts may disagree
AT_MOST = 8  # frames looked at before it is known that something moved


@dataclass(frozen=True, kw_only=True)
class CameraShift:
    """How the ground of one frame lies: homography (3, 3) from the frame's ground to the reference's, the
    most any corner of it moved (px), its centre's shift (px, right and down), turn (degrees), the likeness
    that was reached (0 to 1), and the error (px) by which its parts disagree."""

    homography: Array = field(default_factory=lambda: np.eye(3))
    moved_px: float = 0.0
    shift: tuple[float, float] = (0.0, 0.0)
    turn: float = 0.0
    likeness: float = 1.0
    known: bool = True
    error_px: float = 0.0

    @property
    def held(self) -> bool:
        """Whether the camera stood: that it moved is only said when three errors bear it."""
        error = self.error_px if np.isfinite(self.error_px) else 0.0
        return self.moved_px <= HELD_PX + SURE_ERRORS * error


def ground_plane(spill: Path, pattern: npt.NDArray[np.int64] | None, linear: bool = False) -> tuple[F32, int]:
    """Logarithm of a frame's brightness without stars and their reflections, small, and how many frame pixels
    one of its pixels is.

    ``linear`` leaves the logarithm out: an edge out of focus stays in its place then."""
    plane = half_plane(np.load(spill, mmap_mode="r"), pattern)
    factor = max(round(plane.shape[1] / WORKING_PX), 1)
    small = cv2.resize(
        plane, (plane.shape[1] // factor, plane.shape[0] // factor), interpolation=cv2.INTER_AREA
    )
    calm = cv2.morphologyEx(
        cv2.medianBlur(small.astype(np.float32), 3), cv2.MORPH_OPEN, np.ones((7, 7), np.uint8)
    )
    light = np.maximum(calm, 0)
    if linear:
        return np.asarray(light / max(float(np.median(light)), 1.0), np.float32), 2 * factor
    return np.asarray(np.log(light + max(0.05 * float(np.median(light)), 1.0)), np.float32), 2 * factor


@dataclass(frozen=True)
class GroundView:
    """A clean frame on disk with its pattern, its size (px) and its lens's focal length (px)."""

    spill: Path
    pattern: npt.NDArray[np.int64] | None
    size: tuple[int, int]
    focal: float


def _turned_camera(points: Array, target: Array, view: GroundView) -> Array:
    """The homography of a camera that turned which brings points nearest to their targets: what a bump or a
    slip is."""
    k = np.array(
        [[view.focal, 0, (view.size[0] - 1) / 2], [0, view.focal, (view.size[1] - 1) / 2], [0, 0, 1]]
    )
    back, vector = np.linalg.inv(k), np.zeros(3)

    def off(v: Array) -> Array:
        return (apply(k @ small_turn(v) @ back, points) - target).ravel()

    for _ in range(4):
        r = off(vector)
        slopes = np.stack([(off(vector + 1e-6 * e) - r) / 1e-6 for e in np.eye(3)], axis=1)
        vector = vector - np.linalg.lstsq(slopes, r, rcond=None)[0]
    return np.asarray(k @ small_turn(vector) @ back)


def _searched(here: F32, there: F32, reach: U8, guess: Array, kind: int) -> tuple[float, Array] | None:
    """Likeness and homography from the reference to the frame (small pictures) that ECC finds; None when it
    finds none."""
    laid = cv2.warpPerspective(
        here,
        guess,
        here.shape[::-1],
        flags=cv2.INTER_CUBIC | cv2.WARP_INVERSE_MAP,
        borderMode=cv2.BORDER_REPLICATE,
    )
    rows, columns = np.flatnonzero(reach.any(axis=1)), np.flatnonzero(reach.any(axis=0))
    y0, x0 = max(int(rows[0]) - MARGIN, 0), max(int(columns[0]) - MARGIN, 0)
    part = np.s_[y0 : int(rows[-1]) + MARGIN, x0 : int(columns[-1]) + MARGIN]
    try:
        criteria = (cv2.TERM_CRITERIA_EPS | cv2.TERM_CRITERIA_COUNT, 30, 1e-5)
        likeness, warp = cv2.findTransformECC(
            there[part], laid[part], np.eye(2, 3, dtype=np.float32), kind, criteria, reach[part], 5
        )
    except cv2.error:
        return None
    aside = np.array([[1, 0, -x0], [0, 1, -y0], [0, 0, 1]], float)
    return float(likeness), np.asarray(
        guess @ np.linalg.inv(aside) @ np.vstack([warp, [0, 0, 1]]) @ aside, float
    )


def _disagreement(here: F32, there: F32, reach: U8, guess: Array) -> float:
    """How much three upright strips of the ground differ in what they still ask for, px of the small
    pictures; inf when fewer than two can say. What sways, what mirrors the sky and a straight shore do not
    agree; ground that moved does."""
    columns = np.flatnonzero(reach.any(axis=0))
    asked = []
    for part in np.array_split(columns, 3):
        strip = np.zeros_like(reach)
        strip[:, part] = reach[:, part]
        step = _searched(here, there, strip, guess, cv2.MOTION_TRANSLATION) if strip.sum() > 200 else None
        if step is not None and step[0] > LEAST_LIKENESS:
            asked.append((np.linalg.inv(guess) @ step[1])[:2, 2])
    return float(np.ptp(asked, axis=0).max()) if len(asked) > 1 else float("inf")


def _texture(view: GroundView, rows: slice, columns: slice) -> F32:
    """The fine structure of a part of a frame's half-size plane over its own brightness, without its extremes
    (reflected stars, lamps)."""
    part = np.load(view.spill, mmap_mode="r")[
        2 * rows.start : 2 * rows.stop, 2 * columns.start : 2 * columns.stop
    ]
    plane = half_plane(part, view.pattern)
    smooth = cv2.GaussianBlur(plane, (0, 0), TEXTURE[1])
    fine = (cv2.GaussianBlur(plane, (0, 0), TEXTURE[0]) - smooth) / np.maximum(
        smooth, max(0.05 * float(np.median(smooth)), 1.0)
    )
    limit = 4 * 1.4826 * float(np.median(np.abs(fine)))
    return np.asarray(np.clip(fine, -limit, limit), np.float32)


def _windows(inside: U8) -> list[tuple[slice, slice]]:
    """Parts (rows, columns) of the ground to compare: left, middle and right, each of a third of it; none
    where it is small."""
    height, width = inside.shape
    by_column = inside.sum(axis=0, dtype=float)
    ends = np.searchsorted(np.cumsum(by_column), by_column.sum() * np.array([0, 1, 2, 3]) / 3)
    out = []
    for x0, x1 in pairwise(ends.tolist()):
        share, across = inside[:, x0:x1].sum(axis=1, dtype=float), by_column[x0:x1]
        if share.sum() < LEAST_WINDOW:
            return []
        y, x = (share @ np.arange(height)) / share.sum(), x0 + (across @ np.arange(x1 - x0)) / across.sum()
        top, left = max(int(y) - WINDOW[1] // 2, 0), max(int(x) - WINDOW[0] // 2, 0)
        out.append((slice(top, min(top + WINDOW[1], height)), slice(left, min(left + WINDOW[0], width))))
    return out


def _followed(rows: slice, columns: slice, guess: Array, shape: tuple[int, ...]) -> tuple[slice, slice]:
    """The part of the frame, as large, that shows a part of the reference by a guess (3, 3); all half-size
    px."""
    middle = np.array([[(columns.start + columns.stop) / 2, (rows.start + rows.stop) / 2]])
    right, down = np.round(apply(guess, middle) - middle)[0].astype(int).tolist()
    high, wide = rows.stop - rows.start, columns.stop - columns.start
    top, left = (
        min(max(rows.start + down, 0), shape[0] - high),
        min(max(columns.start + right, 0), shape[1] - wide),
    )
    return slice(top, top + high), slice(left, left + wide)


def _by_texture(
    view: GroundView, base: GroundView, ground: U8, guess: Array, error: float
) -> tuple[Array, float] | None:
    """Homography from the reference to the frame by the texture of the ground, and its error (px); None when
    the texture does not tell it: noise, nothing to see, or parts that ask for different motions. ``ground``
    (1) is of half size."""
    inside = cv2.erode(ground, np.ones((2 * INSIDE_PX + 1, 2 * INSIDE_PX + 1), np.uint8), borderValue=1)
    inside[:MARGIN], inside[-MARGIN:], inside[:, :MARGIN], inside[:, -MARGIN:] = 0, 0, 0, 0
    half, sure, pairs = np.array([[2, 0, 0.5], [0, 2, 0.5], [0, 0, 1]]), error < HELD_PX, []
    for rows, columns in _windows(np.asarray(inside, np.uint8)):
        mask = np.ascontiguousarray(inside[rows, columns])
        over, across = _followed(rows, columns, np.linalg.inv(half) @ guess @ half, inside.shape)
        aside, beside = (
            half @ np.array([[1, 0, c.start], [0, 1, r.start], [0, 0, 1]])
            for r, c in ((rows, columns), (over, across))
        )
        start = np.linalg.inv(beside) @ guess @ aside
        here, there = _texture(view, over, across), _texture(base, rows, columns)
        if mask.sum() < LEAST_WINDOW or (sure and _likeness(here, there, mask, start) < LEAST_TEXTURE / 2):
            continue
        step = _searched(here, there, mask, start, cv2.MOTION_TRANSLATION)
        if step is None or step[0] < (LEAST_TEXTURE if sure else LIKE_TEXTURE):
            continue
        y, x = np.nonzero(mask)
        middle = np.array([[x.mean(), y.mean()]])
        pairs.append((apply(aside, middle)[0], apply(beside @ step[1], middle)[0]))
    if len(pairs) < 3:
        return None
    places, targets = (np.array(p) for p in zip(*pairs, strict=True))
    turned = _turned_camera(places, targets, view)
    spread = 2 * float(np.abs(apply(turned, places) - targets).max())
    moved = float(np.hypot(*(targets - apply(guess, places)).T).max())
    return (
        (turned, SAMPLING_PX + spread)
        if spread < AGREED and moved < (STRAY if sure else 10 * STRAY)
        else None
    )


def _likeness(here: F32, there: F32, mask: U8, guess: Array) -> float:
    """Correlation of two pictures under a mask when the first is laid on the second as a homography says."""
    laid = cv2.warpPerspective(here, guess, here.shape[::-1], flags=cv2.INTER_LINEAR | cv2.WARP_INVERSE_MAP)
    a, b = laid[mask > 0], there[mask > 0]
    return float(np.corrcoef(a, b)[0, 1]) if a.std() > 0 and b.std() > 0 else 0.0


def camera_shift(
    view: GroundView, base: GroundView, mask: Path, start: Array, affine: bool = False
) -> CameraShift:
    """Where the ground of a frame lies in the reference; ``mask`` is the sky mask (.npy), ``start`` a first
    guess (3, 3).

    What is sought is a turn of the camera; ``affine`` seeks any affine motion instead, as the picture's scale
    changes when the focus is moved. Maximises the correlation over the ground and a strip of sky above it,
    then over the ground's own texture where that tells: errors are 0.1 to 0.3 px then, 0.3 to 0.8 px by the
    skyline alone. When the parts of the ground disagree the shift is unknown.
    """
    quiet_worker()
    (here, factor), (there, _) = (ground_plane(v.spill, v.pattern, affine) for v in (view, base))
    sky = np.asarray(np.load(mask, mmap_mode="r")[: view.size[1] // 2 * 2 : 2, : view.size[0] // 2 * 2 : 2])
    small = cv2.resize(sky, here.shape[::-1], interpolation=cv2.INTER_AREA)
    ground = (small < 128).astype(np.uint8)
    if ground.sum() < 200:
        return CameraShift(known=False, likeness=0.0)
    reach = cv2.dilate(ground, np.ones((2 * EDGE_PX + 1, 2 * EDGE_PX + 1), np.uint8))
    y, x = np.nonzero(reach)
    box = factor * np.array(
        [[a, b] for a in np.linspace(x.min(), x.max(), 4) for b in np.linspace(y.min(), y.max(), 3)]
    )
    up = np.array([[factor, 0, factor / 2 - 0.5], [0, factor, factor / 2 - 0.5], [0, 0, 1]])
    guess: Array = np.asarray(np.linalg.inv(start), float)
    found, likeness, error = guess, 0.0, float("inf")
    for _ in (0, 1):
        step = _searched(
            here,
            there,
            reach,
            np.linalg.inv(up) @ found @ up,
            cv2.MOTION_AFFINE if affine else cv2.MOTION_EUCLIDEAN,
        )
        likeness = step[0] if step else 0.0
        if step is None or likeness < LEAST_LIKENESS:
            found = guess
            break
        found = up @ step[1] @ np.linalg.inv(up)
        found = found if affine else _turned_camera(box, apply(found, box), view)
        if np.abs(apply(found, box) - box).max() < HELD_PX:
            break
    if likeness >= LEAST_LIKENESS:
        error = factor * _disagreement(here, there, reach, np.linalg.inv(up) @ found @ up) / 2
    finer = (
        None
        if affine
        else _by_texture(
            view, base, np.asarray(sky < 128, np.uint8), found if error < HELD_PX else guess, error
        )
    )
    if finer:
        found, error = finer
    found = np.linalg.inv(np.asarray(found, np.float64))
    off = apply(found, box) - box
    middle = off.mean(axis=0)
    if error > max(TRUSTED * float(np.hypot(*off.T).max()), HELD_PX):
        return CameraShift(known=False, likeness=round(likeness, 4))
    turned = float(np.degrees(np.arctan2(found[1, 0] - found[0, 1], found[0, 0] + found[1, 1])))
    return CameraShift(
        homography=found / found[2, 2],
        moved_px=round(float(np.hypot(*off.T).max()), 3),
        shift=(round(float(middle[0]), 3), round(float(middle[1]), 3)),
        turn=round(turned, 4),
        likeness=round(likeness, 4),
        error_px=round(error, 3),
    )


def ground_view(frame: Ingested, focal: float) -> GroundView:
    """A frame for comparing grounds."""
    return GroundView(frame.spill, frame.pattern, frame.size, focal)


def camera_shifts(
    pool: Executor,
    frames: list[Ingested],
    used: list[int],
    reference: int,
    cameras: list[Array],
    mask: Path,
    focal: float,
) -> dict[int, CameraShift]:
    """How the ground lies in the used frames; when eight of them show that nothing moved, the rest is not
    looked at.

    ``cameras`` are first guesses for every frame. Frames whose ground cannot be compared keep their first
    guess.
    """
    base = ground_view(frames[reference], focal)
    others = [i for i in used if i != reference]
    sample = others[:: max(-(-len(others) // AT_MOST), 1)]

    def found(which: list[int]) -> dict[int, CameraShift]:
        futures = {
            i: pool.submit(camera_shift, ground_view(frames[i], focal), base, mask, cameras[i]) for i in which
        }
        return {i: f.result() for i, f in futures.items()}

    out = {reference: CameraShift(), **found(sample)}
    if any(not s.held for s in out.values()) or any(not np.allclose(cameras[i], np.eye(3)) for i in others):
        out |= found([i for i in others if i not in out])
    for i in used:
        if i not in out:
            out[i] = CameraShift(known=False)
        elif not out[i].known:
            out[i] = CameraShift(homography=cameras[i], known=False, likeness=out[i].likeness)
    return out
