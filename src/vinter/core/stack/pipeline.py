"""The stack from files to one picture: ingest, register, mask, combine, report."""

import json
import multiprocessing
import tempfile
import time
from collections.abc import Callable, Iterator
from concurrent.futures import Executor, Future, ProcessPoolExecutor
from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import Any

import cv2
import numpy as np
import numpy.typing as npt
import tifffile

from vinter.core.errors import BadInput
from vinter.core.frames.mosaic import PEDESTAL, SPAN, demosaic, green_half, picture_half
from vinter.core.frames.reading import frame_files
from vinter.core.frames.shapes import shapes
from vinter.core.frames.stars import background, find_stars
from vinter.core.gathering import Cancelled, gathered
from vinter.core.stack import report as reports
from vinter.core.stack.combine import KAPPA, METHODS
from vinter.core.stack.ingest import Ingested, Masters, anonymous_mb, ingest, master_frame
from vinter.core.stack.mask import find_sky, usable_sky
from vinter.core.stack.register import Alignment, align, mutual_pairs
from vinter.core.stack.rotation import RotationModel, fit_rotation
from vinter.core.stack.tiles import Done, Plan, Source, Tile, make_tile, sample_noise, tile_grid
from vinter.core.stack.trails import Closed, close, with_copies

F32 = npt.NDArray[np.float32]
Progress = Callable[[str, float], None]
MASK_FRAMES = 6
NOISE_TILE = 448  # px, side of the patch the noise model is fitted on
SHAKEN_RATIO = 2.2  # star width against the take's median beyond which a frame is left out


@dataclass(frozen=True)
class Settings:
    """How to stack. ground: auto, none, or the name of the frame that gives the ground; mask: a sky mask (255 = sky) of the
    reference's size, in place of the one found. Trails: gaps close or open; tail: by which share the oldest frame is darker."""

    method: str = "clip"
    kappa: float = KAPPA
    ground: str = "auto"
    reference: str = "auto"
    workers: int = 2
    darks: tuple[Path, ...] = ()
    flats: tuple[Path, ...] = ()
    bias: tuple[Path, ...] = ()
    mask: Path | None = None
    gaps: str = "close"
    tail: float = 0.0

    def __post_init__(self) -> None:
        if self.gaps not in ("close", "open"):
            raise BadInput(f"gaps {self.gaps!r} are neither close nor open")
        if not 0 <= self.tail <= 1:
            raise BadInput(f"tail {self.tail:g} is not a share from 0 to 1")
        if self.method not in METHODS:
            raise BadInput(f"method {self.method!r} is not one of {', '.join(METHODS)}")
        if not 1.5 <= self.kappa <= 20:
            raise BadInput(f"kappa {self.kappa:g} is not within 1.5 to 20")


@dataclass(frozen=True)
class Result:
    """A finished stack: files written and the report."""

    picture: Path
    mask: Path
    report: dict[str, Any]


@dataclass
class _Run:
    """State of one stack while it runs."""

    settings: Settings
    folder: Path
    pool: Executor
    progress: Progress
    stop: Callable[[], bool]
    started: float = field(default_factory=time.monotonic)
    peaks: list[float] = field(default_factory=list)

    def gather(self, futures: dict[Future[Any], int], label: str, start: float, end: float) -> Iterator[tuple[int, Any]]:
        """Keys and results as they come, with progress between two shares of the whole; stops when asked to."""
        return gathered(futures, self.stop, lambda done, n: self.progress(label, start + (end - start) * done / n))


def _masters(settings: Settings, folder: Path) -> Masters:
    bias = master_frame(list(settings.bias), folder / "bias.npy", False) if settings.bias else None
    dark = master_frame(list(settings.darks), folder / "dark.npy", False) if settings.darks else bias
    flat = master_frame(list(settings.flats), folder / "flat.npy", True, bias) if settings.flats else None
    return Masters(dark, flat)


def _ordered(frames: list[Ingested]) -> list[Ingested]:
    if all(f.time is not None for f in frames):
        return sorted(frames, key=lambda f: (f.time or 0.0, f.path.name))
    return sorted(frames, key=lambda f: f.path.name)


def _reference(frames: list[Ingested], wanted: str) -> int:
    if wanted != "auto":
        names = [f.path.name for f in frames]
        if wanted not in names:
            raise BadInput(f"reference {wanted!r} is not among the frames that could be read")
        return names.index(wanted)
    good = [i for i, f in enumerate(frames) if f.measure and f.measure.verdict != "drop"] or list(range(len(frames)))
    return good[len(good) // 2]


def _left_out(frames: list[Ingested], reference: int) -> dict[int, str]:
    """Frames that cannot go into this stack, with the reason."""
    widths = [f.measure.fwhm_px for f in frames if f.measure and f.measure.stars > 20]
    typical = float(np.median(widths)) if widths else 0.0
    base = frames[reference]
    out = {}
    for i, f in enumerate(frames):
        assert f.measure is not None
        if f.size != base.size or (f.pattern is None) != (base.pattern is None):
            out[i] = f"{f.size[0]} x {f.size[1]} px {f.measure.kind}, the reference has another size or kind"
        elif typical and f.measure.fwhm_px > SHAKEN_RATIO * typical:
            out[i] = f"shaken or out of focus: stars {f.measure.fwhm_px:.1f} px wide against {typical:.1f}"
    return out


def _registered(frames: list[Ingested], reference: int) -> tuple[list[Alignment], RotationModel | None]:
    """Alignments of the frames that fit together, and the lens model when it explains them better."""
    dropped = _left_out(frames, reference)
    keep = [i for i in range(len(frames)) if i not in dropped]
    stars = [frames[i].stars for i in keep]
    times = np.array([frames[i].time if frames[i].time is not None else float(i) for i in keep], float)
    if len(set(times.tolist())) < len(times):
        times = np.arange(len(keep), dtype=float)
    present = [s for s in stars if s is not None]
    found = align(present, times, keep.index(reference))
    model = fit_rotation(present, found, keep.index(reference), frames[reference].size, frames[reference].focal_px)
    alignments = [Alignment(False, dropped.get(i, "")) for i in range(len(frames))]
    for place, i in enumerate(keep):
        alignments[i] = found[place]
    if model is None:
        return alignments, None
    spread = [np.eye(3)] * len(frames)
    for place, i in enumerate(keep):
        spread[i] = model.rotations[place]
    return _with_model(frames, alignments, replace(model, rotations=spread), reference)


def _with_model(frames: list[Ingested], alignments: list[Alignment], model: RotationModel,
                reference: int) -> tuple[list[Alignment], RotationModel | None]:
    """Use the lens model when it fits the stars about as well as a free homography for every frame."""
    out, worse = [], 0
    target = frames[reference].stars
    assert target is not None
    for i, (f, a) in enumerate(zip(frames, alignments, strict=True)):
        if not a.used or i == reference or f.stars is None:
            out.append(a)
            continue
        error = np.hypot(*(model.to_reference(i, f.stars.xy[a.pairs[:, 0]]) - target.xy[a.pairs[:, 1]]).T)
        rms = float(np.sqrt(np.mean(np.sort(error)[:max(int(0.98 * len(error)), 1)] ** 2)))
        worse += rms > 1.25 * a.residual_px + 0.02
        places = f.stars.xy[a.pairs[:, 0]]
        h, _ = cv2.findHomography(places, model.to_reference(i, places), 0)
        out.append(Alignment(True, "", h, rms, a.pairs))
    used = sum(a.used for a in alignments)
    return (alignments, None) if worse > 0.2 * used else (out, model)


def _sky_mask(frames: list[Ingested], alignments: list[Alignment], reference: int) -> npt.NDArray[np.uint8]:
    """Mask from the mean of unmoved frames and from the stars that moved with the sky."""
    used = [f for f, a in zip(frames, alignments, strict=True) if a.used]
    chosen = used[::max(len(used) // MASK_FRAMES, 1)][:MASK_FRAMES]
    total = None
    for f in chosen:
        data = np.load(f.spill, mmap_mode="r")
        plane = green_half(data, f.pattern) if f.pattern is not None else picture_half(np.asarray(data))
        total = plane if total is None else total + plane
    assert total is not None
    places = [f.stars.xy[a.pairs[:, 0]] for f, a in zip(frames, alignments, strict=True) if a.used and f.stars is not None]
    return find_sky(np.asarray(total / len(chosen) - PEDESTAL, np.float32), np.concatenate(places), frames[reference].size)


def _mask_for(settings: Settings, frames: list[Ingested], alignments: list[Alignment], reference: int) -> npt.NDArray[np.uint8]:
    """The mask of the settings: none at all, the user's own, or the one found."""
    size = frames[reference].size[::-1]
    if settings.ground == "none":
        return np.full(size, 255, np.uint8)
    if settings.mask is None:
        return _sky_mask(frames, alignments, reference)
    own = cv2.imread(str(settings.mask), cv2.IMREAD_GRAYSCALE)
    if own is None or own.shape != size:
        raise BadInput(f"{settings.mask.name}: not a grey picture of {size[1]} x {size[0]} px, the reference's size")
    return np.asarray(own, np.uint8)


def _closed(model: RotationModel, frames: list[Ingested], kept: list[int], alignments: list[Alignment]) -> Closed:
    """The pauses between the kept frames, closed; counted in places of the kept ones."""
    exposures = [m.exposure_s if (m := frames[i].measure) else None for i in kept]
    return close(replace(model, rotations=[model.rotations[i] for i in kept]), exposures, [alignments[i].used for i in kept])


def _ground_sources(settings: Settings, used: list[Ingested], mask: npt.NDArray[np.uint8]) -> list[int]:
    if settings.ground not in ("auto", "none"):
        names = [f.path.name for f in used]
        if Path(settings.ground).name not in names:
            raise BadInput(f"ground frame {settings.ground!r} is not among the frames used")
        return [names.index(Path(settings.ground).name)]
    return list(range(len(used))) if settings.ground == "auto" and mask.min() < 255 else []


def _busiest_sky(grid: list[Tile], mask: npt.NDArray[np.uint8], size: tuple[int, int]) -> Tile:
    """The tile nearest the middle that is all sky, or the one with most sky."""
    def rank(t: Tile) -> tuple[float, float]:
        share = float(mask[t.y:t.y + t.height:8, t.x:t.x + t.width:8].mean())
        return (-min(share, 250.0), abs(t.x + t.width / 2 - size[0] / 2) + abs(t.y + t.height / 2 - size[1] / 2))
    return min(grid, key=rank)


def _first_pass(run: _Run, paths: list[Path]) -> tuple[list[Ingested], list[Ingested]]:
    """Frames that could be read, in order of time, and those that could not."""
    masters = _masters(run.settings, run.folder)
    futures = {run.pool.submit(ingest, p, run.folder / f"{i:04d}.npy", masters): i for i, p in enumerate(paths)}
    done = dict(run.gather(futures, "reading and finding stars", 0.0, 0.4))
    good = [done[i] for i in range(len(paths)) if not done[i].error]
    bad = [done[i] for i in range(len(paths)) if done[i].error]
    if not good:
        raise BadInput("no frame could be read: " + "; ".join(b.error for b in bad[:5]))
    return _ordered(good), bad


def _second_pass(run: _Run, plan: Plan, out: F32, rejected: F32) -> list[Done]:
    """Fill the picture tile by tile; returns the tiles without their pixels."""
    grid = tile_grid(plan.size, len(plan.sources))
    futures = {run.pool.submit(make_tile, plan, t): i for i, t in enumerate(grid)}
    seen = []
    for _, done in run.gather(futures, "combining", 0.5, 0.95):
        t = done.tile
        out[t.y:t.y + t.height, t.x:t.x + t.width] = done.rgb
        rejected[t.y:t.y + t.height, t.x:t.x + t.width] = done.rejected
        seen.append(replace(done, rgb=done.rgb[:0], rejected=done.rejected[:0]))
    return seen


def stack(paths: list[Path], out: Path, settings: Settings | None = None, pool: Executor | None = None,
          progress: Progress = lambda label, share: None, stop: Callable[[], bool] = lambda: False,
          spill_root: Path | None = None) -> Result:
    """Stack frames (files or folders) into ``out`` (float32 linear RGB TIFF) with its mask beside it, and the share of samples
    left out (grey PNG, 255 times its square root, so that one sample of many is seen).

    Values are camera RGB, 0 at black and 1 at white; colour data travel in the TIFF's description.
    Raises BadInput naming what was wrong, Cancelled when ``stop`` turns true.
    """
    settings = settings or Settings()
    files = frame_files(paths)
    with tempfile.TemporaryDirectory(prefix="vinter-stack-", dir=spill_root) as folder:
        if pool is not None:
            return _stack(_Run(settings, Path(folder), pool, progress, stop), files, out)
        context = multiprocessing.get_context("spawn")
        with ProcessPoolExecutor(settings.workers, mp_context=context) as own:
            return _stack(_Run(settings, Path(folder), own, progress, stop), files, out)


def _stack(run: _Run, files: list[Path], out: Path) -> Result:
    settings = run.settings
    frames, unread = _first_pass(run, files)
    reference = _reference(frames, settings.reference)
    run.progress("aligning", 0.42)
    still = settings.method == "trails"
    alignments, model = _registered(frames, reference)
    mask = (_mask_for(settings, frames, alignments, reference) if model or not still
            else np.full(frames[reference].size[::-1], 255, np.uint8))
    closed = Closed()
    if still:
        dropped = _left_out(frames, reference)
        if model and settings.gaps == "close":
            closed = _closed(model, frames, [i for i in range(len(frames)) if i not in dropped], alignments)
        alignments = [Alignment(i not in dropped, dropped.get(i, "")) for i in range(len(frames))]
    if run.stop():
        raise Cancelled
    used = [i for i, a in enumerate(alignments) if a.used]
    plan = _plan(run, frames, alignments, used, reference, model, mask, closed)
    width, height = plan.size
    picture = np.lib.format.open_memmap(run.folder / "picture.npy", "w+", np.float32, (height, width, 3))
    rejected = np.lib.format.open_memmap(run.folder / "rejected.npy", "w+", np.float32, (height, width))
    tiles = _second_pass(run, plan, picture, rejected)
    run.progress("writing", 0.96)
    colour = frames[reference].colour
    description = json.dumps({"vinter": "stack", "neutral": colour.neutral, "matrix": colour.matrix,
                              "frames": len(used), "focal_px": model.focal if model else frames[reference].focal_px})
    tifffile.imwrite(out, picture, photometric="rgb", description=description, compression=None)
    mask_path = out.with_suffix(".mask.png")
    cv2.imwrite(str(mask_path), mask)
    cv2.imwrite(str(out.with_suffix(".left-out.png")), np.round(255 * np.sqrt(np.clip(rejected, 0, 1))).astype(np.uint8))
    report = reports.build(frames, unread, alignments, reference, model, settings.method, tiles,
                           _widths(frames[reference], picture), mask)
    sky = mask[::4, ::4] > 250
    report["rejected_share"] = float(rejected[::4, ::4][sky].mean()) if sky.any() else 0.0
    if still:
        report["trails"] = {"gaps_closed": closed.gaps, "longest_gap_s": closed.longest_s, "left_open": closed.left_open,
                            "copies": len(closed.copies), "tail": settings.tail, "moved": model is not None}
    report["seconds"] = round(time.monotonic() - run.started, 2)
    report["peak_rss_mb"] = round(max([anonymous_mb(), *(t.peak_mb for t in tiles)]), 1)
    run.progress("done", 1.0)
    return Result(out, mask_path, report)


def _plan(run: _Run, frames: list[Ingested], alignments: list[Alignment], used: list[int], reference: int,
          model: RotationModel | None, mask: npt.NDArray[np.uint8], closed: Closed) -> Plan:
    mask_path, usable_path = run.folder / "mask.npy", run.folder / "usable.npy"
    np.save(mask_path, mask)
    np.save(usable_path, np.full_like(mask, 255) if model is None and run.settings.method == "trails" else usable_sky(mask))
    sources = [Source(frames[i].spill, frames[i].pattern, alignments[i].homography) for i in used]
    inner = replace(model, rotations=[model.rotations[i] for i in used]) if model else None
    size, method = frames[used[0]].size, run.settings.method
    if inner and method == "trails":
        inner, sources = with_copies(inner, sources, closed, run.settings.tail)
    plan = Plan(sources, size, inner, mask_path, usable_path, method, run.settings.kappa, None,
                _ground_sources(run.settings, [frames[i] for i in used], mask), used.index(reference))
    if run.settings.method not in ("clip", "median"):
        return replace(plan, noise=np.tile([1e9, 0.0], (3, 1)))
    run.progress("measuring noise", 0.46)
    tile = _busiest_sky(tile_grid(size, len(sources)), mask, size)
    part = Tile(tile.x, tile.y, min(tile.width, NOISE_TILE), min(tile.height, NOISE_TILE))
    return replace(plan, noise=run.pool.submit(sample_noise, plan, part).result())


def _widths(reference: Ingested, picture: F32) -> tuple[float, float]:
    """Median star width of the reference frame and of the stack, of the same stars, measured alike."""
    rows, columns = (slice(size // 8 * 2, size // 8 * 6) for size in picture.shape[:2])  # the middle is enough
    data = np.ascontiguousarray(np.load(reference.spill, mmap_mode="r")[rows, columns])
    picture = picture[rows, columns]
    before = picture_half(demosaic(data, reference.pattern) if reference.pattern is not None else data)
    after = picture_half(np.clip(picture * SPAN + PEDESTAL, 0, 65535).astype(np.uint16))
    floors = background(before), background(after)
    a, b = (find_stars(plane, floor).stars for plane, floor in zip((before, after), floors, strict=True))
    pairs = mutual_pairs(a.xy, b.xy, 2.0)
    if not len(pairs):
        return 0.0, 0.0
    bright = pairs[:max(len(pairs) // 3, 20)]
    wide = [shapes(plane - floor.level, (s.x[at] - 0.5) / 2, (s.y[at] - 0.5) / 2)[0]
            for plane, floor, s, at in zip((before, after), floors, (a, b), bright.T, strict=True)]
    both = np.isfinite(wide[0]) & np.isfinite(wide[1])
    return (float(np.median(wide[0][both])), float(np.median(wide[1][both]))) if both.any() else (0.0, 0.0)
