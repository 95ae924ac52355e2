"""An exposure bracket as one linear picture of long range: every place from the frames that show it best,
without what moved between them."""

from collections.abc import Callable, Sequence
from concurrent.futures import Executor
from dataclasses import dataclass, replace
from functools import partial
from itertools import pairwise
from pathlib import Path

import cv2
import numpy as np
import numpy.typing as npt

from vinter.core.errors import BadInput
from vinter.core.formats.whole import write_image
from vinter.core.frames.brackets import FEWEST, MOST, find_brackets, light_of_settings
from vinter.core.frames.decoding import decoded
from vinter.core.frames.measure import Measure
from vinter.core.frames.measuring import clean, measure
from vinter.core.frames.preview import linear_of
from vinter.core.stack.file import left_out_of, replace_picture, restate
from vinter.core.stack.lucky import file_frame
from vinter.core.stack.pipeline import Settings, stack
from vinter.core.stack.report import REPORT
from vinter.core.versions import Data

F32 = npt.NDArray[np.float32]
Plane = npt.NDArray[np.float32]
FULL, FADING = 0.95, 0.8  # shares of full scale: clipped from the first on, counted less from the second
DROWNED = 10.0  # noise deviations under which a place does not tell how much brighter a frame is
MOST_OFF_EV = 0.7  # EV by which the light found may differ from what the settings say
BLUR_PX = 1.5  # px over which frames are compared
GHOST_SIGMA, GHOST_SHARE = 4.5, 0.10  # noise deviations, and share of the light, beyond which something moved
GROWN_PX, SOFT_PX = 7, 2.0  # px by which what moved is grown, and over which frames fade into each other
ALIGNED_PX = 900  # px across, at which frames are laid on each other
LEAST_SEEN = 0.003  # level over which a place helps to lay frames on each other
FARTHEST = 0.04  # share of the width by which a frame may be shifted against the reference
LIKE = 0.15  # correlation from which a shift is believed
ROUGHNESS = np.outer([1, -2, 1], [1, -2, 1]).astype(np.float32) / 6  # keeps the variance of white noise
BAND_ROWS, AROUND_ROWS = 512, 24  # rows worked on at a time, and those around them that they look at
FEWEST_TELL = 400  # places from which the light of two frames is compared


@dataclass(frozen=True, kw_only=True)
class Part:
    """How one frame of a bracket went in: EV against the reference, shift (px, right and down; None where it
    could not be found), and the share of the picture that was left out because something moved."""

    file: str
    ev: float
    shift: tuple[float, float] | None
    moved: float


@dataclass(frozen=True, kw_only=True)
class Merged:
    """A merged bracket: linear camera RGB (h, w, 3), 1 at the reference's white and more where another frame
    saw more; the map of what moved (h, w; 0 to 1), and how each frame went in."""

    rgb: F32
    moved: Plane
    parts: list[Part]
    range_ev: float


def linear_frame(path: Path) -> tuple[F32, Measure]:
    """A frame's file as linear camera RGB (0 black, 1 white), upright, and its measures."""
    frame = decoded(path)
    data, plane = clean(frame)
    return linear_of(data, frame.pattern), measure(frame, (data, plane))


def reference_of(measures: Sequence[Measure], clipped: Sequence[float], dark: Sequence[float]) -> int:
    """The frame all others are laid on: of the frames that show most neither clipped nor drowned, the one
    with the most light."""
    lost = np.array(clipped) + np.array(dark)
    lights = np.array([light_of_settings(m) or 0.0 for m in measures])
    good = lost <= lost.min() + 0.1
    return int(np.argmax(np.where(good, lights, -1.0)))


def noise_model(rgb: F32) -> tuple[float, float]:
    """Variance of a frame's light as ``a + b x`` of its level x, both at least a little above 0."""
    green = rgb[1::2, 1::2, 1]
    detail = cv2.filter2D(green, -1, ROUGHNESS)  # what is smooth or straight leaves nothing
    level = np.maximum(cv2.GaussianBlur(green, (0, 0), 4.0), 0)
    calm = level[level < FADING]
    if calm.size == 0:
        return 1e-7, 1e-5
    edges = np.unique(np.quantile(calm, np.linspace(0, 1, 13)))
    rows = []
    for low, high in pairwise(edges):
        here = detail[(level >= low) & (level < high)]
        if len(here) > 200:
            rows.append(((low + high) / 2, (1.4826 * float(np.median(np.abs(here)))) ** 2))
    if len(rows) < 2:
        return 1e-7, 1e-5
    x, v = np.array(rows).T
    b = max(float(np.polyfit(x, v, 1, w=1 / (v + 1e-9))[0]), 1e-7)
    return max(float(np.median(v - b * x)), 1e-8), b


def _shift(reference: F32, other: F32, light: float) -> tuple[float, float] | None:
    """By how much a frame lies right and down of the reference, px; None where that cannot be told."""
    factor = max(reference.shape[1] / ALIGNED_PX, 1.0)
    size = (round(reference.shape[1] / factor), round(reference.shape[0] / factor))
    a, b = (
        np.log2(np.clip(cv2.resize(v, size, interpolation=cv2.INTER_AREA), 1e-3, None))
        for v in (reference[..., 1], np.asarray(other[..., 1] / np.float32(light), np.float32))
    )
    usable = np.ones(a.shape, np.float32)
    for plane in (reference[..., 1], other[..., 1]):
        small = cv2.resize(plane, size, interpolation=cv2.INTER_AREA)
        usable *= ((small < FULL) & (small > LEAST_SEEN)).astype(np.float32)
    if usable.mean() < 0.02:
        return None
    usable = cv2.GaussianBlur(cv2.erode(usable, np.ones((5, 5), np.uint8)), (0, 0), 2.0)
    edges = [np.asarray((v - cv2.GaussianBlur(v, (0, 0), 6.0)) * usable, np.float32) for v in (a, b)]
    window = cv2.createHanningWindow(size, cv2.CV_32F)
    (dx, dy), response = cv2.phaseCorrelate(edges[0], edges[1], window)
    if response < LIKE or np.hypot(dx, dy) > FARTHEST * size[0]:
        return None
    return float(dx * factor), float(dy * factor)


def _moved_back(rgb: F32, shift: tuple[float, float]) -> F32:
    if np.hypot(*shift) < 0.05:
        return rgb
    way = np.array([[1.0, 0.0, shift[0]], [0.0, 1.0, shift[1]]])
    return np.asarray(
        cv2.warpAffine(
            rgb,
            way,
            rgb.shape[1::-1],
            flags=cv2.INTER_CUBIC | cv2.WARP_INVERSE_MAP,
            borderMode=cv2.BORDER_REFLECT,
        ),
        np.float32,
    )


def _ratio(reference: F32, other: F32, noise: tuple[float, float], said: float | None) -> float:
    """How many times as much light a frame has as the reference, from the places that both show well."""
    size = (reference.shape[1] // 4, reference.shape[0] // 4)
    a, b = (cv2.resize(v[..., 1], size, interpolation=cv2.INTER_AREA) for v in (reference, other))
    tops = [cv2.resize(v.max(axis=2), size, interpolation=cv2.INTER_AREA) for v in (reference, other)]
    bright = (tops[0] < FADING) & (tops[1] < FADING)
    least = DROWNED * np.sqrt(noise[0]) / 4
    guess = said or (float(b[bright].sum() / max(a[bright].sum(), 1e-9)) if bright.any() else 1.0)
    good = bright & (a > least) & (a * guess > least)  # by the reference alone: noise must not choose
    if good.sum() < FEWEST_TELL:
        if said is None:
            raise BadInput("neither the files nor the pictures tell how much more light one frame has")
        return said
    found = float(np.median(b[good] / a[good]))
    return found if said is None or abs(np.log2(found / said)) < MOST_OFF_EV else said


def _faded(rgb: F32) -> Plane:
    """Weight (h, w) by the brightest colour: 1, falling to 0 where it is clipped."""
    top = rgb.max(axis=2)
    return np.asarray(np.clip((FULL - top) / (FULL - FADING), 0, 1), np.float32)


def merge(
    frames: Sequence[Callable[[], F32]], lights: Sequence[float | None], reference: int, names: Sequence[str]
) -> Merged:
    """Merge frames (each read when it is needed; linear RGB, 0 to 1) whose settings give them ``lights``.

    Every frame counts by the inverse of its noise, not where it is clipped, and not where it shows something
    else than the reference does: people, branches and stars that moved are the reference's alone.
    """
    base = frames[reference]()
    noise = noise_model(base)
    total, spread = np.zeros_like(base), np.zeros(base.shape[:2], np.float32)
    for rows, _ in _bands(base.shape[0]):
        weight = _faded(base[rows]) / _variance(base[rows], noise)
        total[rows], spread[rows] = base[rows] * weight[..., None], weight
    moved = np.zeros(base.shape[:2], np.float32)
    parts: list[Part] = []
    for i, read in enumerate(frames):
        if i == reference:
            parts.append(Part(file=names[i], ev=0.0, shift=(0.0, 0.0), moved=0.0))
            continue
        other = read()
        if other.shape != base.shape:
            raise BadInput(f"{names[i]}: {other.shape[1]} × {other.shape[0]} px, the others are not")
        own, there = lights[i], lights[reference]
        said = own / there if own and there else None
        shift = _shift(base, other, said or 1.0)
        other = _moved_back(other, shift or (0.0, 0.0))
        ratio = _ratio(base, other, noise, said)
        lit = Lit(noise=noise_model(other), ratio=ratio)
        left_out = 0.0
        for rows, wide in _bands(base.shape[0]):
            light, share, ghost = _added(base[wide], other[wide], noise, lit)
            inner = slice(rows.start - wide.start, rows.stop - wide.start)
            total[rows] += light[inner] * share[inner][..., None]
            spread[rows] += share[inner]
            moved[rows] = np.maximum(moved[rows], ghost[inner])
            left_out += float(ghost[inner].sum())
        ev, share_moved = float(np.log2(ratio)), left_out / spread.size
        parts.append(Part(file=names[i], ev=round(ev, 2), shift=_rounded(shift), moved=round(share_moved, 4)))
    unknown = spread <= 1e-3 / sum(noise)
    np.divide(total, np.maximum(spread, 1e-12)[..., None], out=total)
    if unknown.any():  # clipped in every frame: as the darkest of them has it
        darkest = min(range(len(parts)), key=lambda k: parts[k].ev)
        spare = base if darkest == reference else frames[darkest]()
        spare = _moved_back(spare, parts[darkest].shift or (0.0, 0.0))
        total[unknown] = spare[unknown] / np.float32(2.0 ** parts[darkest].ev)
    return Merged(
        rgb=total,
        moved=moved,
        parts=parts,
        range_ev=round(max(p.ev for p in parts) - min(p.ev for p in parts), 2),
    )


@dataclass(frozen=True, kw_only=True)
class Lit:
    """A frame against the reference: its noise, and how many times as much light it has."""

    noise: tuple[float, float]
    ratio: float


def _bands(height: int) -> list[tuple[slice, slice]]:
    """Rows that are worked on at a time, and the same with those around them that they look at."""
    return [
        (
            slice(top, min(top + BAND_ROWS, height)),
            slice(max(top - AROUND_ROWS, 0), min(top + BAND_ROWS + AROUND_ROWS, height)),
        )
        for top in range(0, height, BAND_ROWS)
    ]


def _variance(rgb: F32, noise: tuple[float, float]) -> Plane:
    return np.asarray(noise[0] + noise[1] * np.maximum(rgb[..., 1], 0), np.float32)


def _added(base: F32, other: F32, noise: tuple[float, float], lit: Lit) -> tuple[F32, Plane, Plane]:
    """What a frame adds to a band of rows: its light as the reference's, its weight, and where it is left out
    because something moved."""
    light = np.asarray(other / np.float32(lit.ratio), np.float32)
    variance = np.asarray(_variance(other, lit.noise) / lit.ratio**2, np.float32)
    faded = _faded(other)
    soft = np.asarray(cv2.GaussianBlur(base, (0, 0), BLUR_PX), np.float32)
    clipped = (1 - _faded(base), 1 - faded)
    ghost = _ghost(soft, light, _variance(base, noise) + variance, clipped, lit.ratio)
    return light, np.asarray(faded * (1 - ghost) / variance, np.float32), ghost


def _rounded(shift: tuple[float, float] | None) -> tuple[float, float] | None:
    return None if shift is None else (round(shift[0], 2), round(shift[1], 2))


def _ghost(soft: F32, light: F32, variance: Plane, clipped: tuple[Plane, Plane], ratio: float) -> Plane:
    """Where (0 to 1) a frame brought to the reference's light shows something else than it: by its light
    where both can be compared; where one is clipped (``clipped``: 1 where reference and frame are), by
    whether the other allows that."""
    here = cv2.GaussianBlur(light, (0, 0), BLUR_PX)
    off = np.abs(here - soft).max(axis=2)
    noise = np.sqrt(variance) / (2 * np.sqrt(np.pi) * BLUR_PX)
    limit = GHOST_SIGMA * noise + GHOST_SHARE * np.maximum(soft[..., 1], 0)
    near = [cv2.dilate(v, np.ones((7, 7), np.uint8)) for v in clipped]  # whose blur holds something clipped
    other = (off > limit) & (near[0] < 1) & (near[1] < 1)
    darker = (clipped[0] >= 1) & (near[1] < 1) & (here.max(axis=2) < 0.8 * FADING)
    brighter = (clipped[1] >= 1) & (near[0] < 1) & (soft.max(axis=2) * ratio < 0.8 * FADING)
    seen = (other | darker | brighter).astype(np.uint8)
    seen = cv2.morphologyEx(seen, cv2.MORPH_OPEN, np.ones((2, 2), np.uint8))
    grown = cv2.dilate(seen, cv2.getStructuringElement(cv2.MORPH_ELLIPSE, (GROWN_PX, GROWN_PX)))
    return np.asarray(np.clip(cv2.GaussianBlur(grown.astype(np.float32), (0, 0), SOFT_PX), 0, 1), np.float32)


def bracket_of(paths: Sequence[Path]) -> list[Path]:
    """The files of the bracket among files: all of three to nine, or the one that their exposures show.
    BadInput where they hold several, with their names, or none."""
    measures = [linear_frame(path)[1] for path in paths]
    found = find_brackets(measures)
    if len(found) == 1:
        return [paths[i] for i in found[0]]
    if found:
        names = "; ".join(", ".join(paths[i].name for i in one) for one in found)
        raise BadInput(f"{len(found)} brackets: name the files of one ({names})")
    if FEWEST <= len(paths) <= MOST:
        return list(paths)
    raise BadInput(
        f"no bracket among {len(paths)} frames: three to nine in a row, each with another exposure"
    )


def _light(path: Path) -> F32:
    return file_frame(path)[0]


def merge_files(paths: Sequence[Path]) -> tuple[Merged, int]:
    """Files merged, and which of them is the reference. BadInput names what was wrong."""
    if not FEWEST <= len(paths) <= MOST:
        raise BadInput(f"a bracket has {FEWEST} to {MOST} frames, not {len(paths)}")
    measures, clipped, dark = [], [], []
    for path in paths:
        rgb, found = linear_frame(path)
        top = rgb[::4, ::4].max(axis=2)
        measures.append(found)
        clipped.append(float((top > FULL).mean()))
        dark.append(float((top < 3 * found.noise).mean()))
    lights = [light_of_settings(m) for m in measures]
    if all(v is not None for v in lights) and len({round(float(np.log2(v or 1)), 1) for v in lights}) == 1:
        raise BadInput("these frames have the same exposure: stack them, they are no bracket")
    reference = reference_of(measures, clipped, dark)
    reads = [partial(_light, path) for path in paths]
    return merge(reads, lights, reference, [p.name for p in paths]), reference


def stack_bracket(
    paths: Sequence[Path],
    out: Path,
    settings: Settings | None = None,
    pool: Executor | None = None,
    progress: Callable[[str, float], None] = lambda label, share: None,
    stop: Callable[[], bool] = lambda: False,
    spill_root: Path | None = None,
    keep: Path | None = None,
) -> Data:
    """A bracket as a stack's files: sky mask, colours and lens are found on the reference frame, its light is
    that of all. The report is a stack's of one frame, with ``bracket``."""
    progress("merging the exposures", 0.05)
    merged, reference = pool.submit(merge_files, list(paths)).result() if pool else merge_files(paths)
    settings = replace(settings or Settings(), ground="none", ground_frames=(), reference="auto")
    result = stack(
        [paths[reference]],
        out,
        settings,
        pool,
        lambda label, share: progress(label, 0.5 + 0.45 * share),
        stop,
        spill_root,
        keep,
    )
    rgb, moved, warp = merged.rgb, merged.moved, decoded(paths[reference]).warp
    if warp and settings.lens == "auto":
        rgb = warp.straightened(rgb)
        moved = np.clip(warp.straightened(moved), 0, 1)
    replace_picture(out, rgb)
    restate(out, lambda about: replace(about, frames=len(paths)))
    write_image(left_out_of(out), np.asarray(255 * moved + 0.5, np.uint8))
    return result.report | {
        "version": REPORT.version,
        "kind": "bracket",
        "frames_used": len(paths),
        "noise_gain": None,
        "bracket": {
            "range_ev": merged.range_ev,
            "moved": round(float(merged.moved.mean()), 4),
            "parts": [vars(part) for part in merged.parts],
        },
    }
