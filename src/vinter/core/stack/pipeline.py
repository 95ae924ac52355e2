"""The stack from files to one picture: ingest, register, mask, match, combine, report.

Every stage is cached under a key of all it depends on (``cache``), so that a second stack of the same frames
runs again only from the first thing that changed.
"""

import tempfile
import time
from collections.abc import Callable
from concurrent.futures import Executor
from dataclasses import asdict, dataclass, replace
from importlib import import_module
from pathlib import Path
from typing import Any, cast

import cv2
import numpy as np
import numpy.typing as npt

from vinter.core.errors import BadInput
from vinter.core.formats.exif import Taken
from vinter.core.formats.whole import mapped_array
from vinter.core.frames.gain_map import beyond_white
from vinter.core.frames.measure import compare
from vinter.core.frames.reading import LINEAR_KINDS, frame_files
from vinter.core.stack import report as reports
from vinter.core.stack.aftermath import star_widths, write_left_out
from vinter.core.stack.combining.star_trails import with_copies
from vinter.core.stack.combining.tiles import (
    Done,
    Foreground,
    Plan,
    Source,
    Tile,
    make_tile,
    sample_noise,
    tile_grid,
)
from vinter.core.stack.file import About, left_out_of, mask_of, write_stack
from vinter.core.stack.foreground.composition import (
    ForegroundChoice,
    foreground_of_own_frames,
    foreground_of_sky_frames,
)
from vinter.core.stack.ingest import Ingested, Masters, anonymous_mb, ingest, master_frame
from vinter.core.stack.masking.sky_mask import usable_sky
from vinter.core.stack.photometry.drift import drifting_stars
from vinter.core.stack.pool import own_pool
from vinter.core.stack.prepare import PreparedFrames, drawn_over, prepare
from vinter.core.stack.registration.groups import in_order
from vinter.core.stack.run import Progress, Run
from vinter.core.stack.settings import Settings
from vinter.core.stage_cache import StageCache, key_of, stamp
from vinter.core.versions import Data

__all__ = ["Result", "Settings", "stack"]
F32 = npt.NDArray[np.float32]
U8 = npt.NDArray[np.uint8]
Line = tuple[float, float, float, float]
CORRIDOR_PX, BEYOND_PX = 9, 60  # px beside and beyond a line of light, in which a frame gives no sky
NOISE_TILE = 448  # px, side of the patch the noise model is fitted on


@dataclass(frozen=True)
class Result:
    """A finished stack: files written and the report."""

    picture: Path
    mask: Path
    report: dict[str, Any]


def _masters(settings: Settings, cache: StageCache) -> tuple[Masters, str]:
    """Master frames on disk, and the key of all calibration frames they come from."""
    key = key_of(
        "masters", *([stamp(p) for p in group] for group in (settings.bias, settings.darks, settings.flats))
    )

    def made(paths: tuple[Path, ...], name: str, relative: bool, below: Path | None = None) -> Path | None:
        path = cache.path(key, f".{name}.npy")
        if not paths:
            return None
        return path if path.exists() else master_frame(list(paths), path, relative, below)

    bias = made(settings.bias, "bias", False)
    return Masters(made(settings.darks, "dark", False) or bias, made(settings.flats, "flat", True, bias)), key


def _load_ahead() -> None:
    """Load while the pool reads what takes long to load and is needed next."""
    for name in ("scipy.optimize", "scipy.spatial"):
        import_module(name)


def _first_pass(
    run: Run, paths: list[Path], masters: Masters, calibration: str, span: tuple[float, float], name: str
) -> list[Ingested]:
    """Frames read, cleaned and measured, or found in the cache; those that cannot be read say so."""
    keys = [key_of("frame", stamp(p), calibration) for p in paths]
    found = [cast(Ingested | None, run.cache.found(k)) for k in keys]
    whole = [f is not None and not f.error and f.spill.exists() for f in found]
    futures = {
        run.pool.submit(ingest, p, run.cache.path(k, ".npy"), masters): i
        for i, (p, k, ok) in enumerate(zip(paths, keys, whole, strict=True))
        if not ok
    }
    _load_ahead()
    for i, done in run.gather(futures, "reading and finding stars", *span):
        found[i] = done
        if not done.error:  # what failed may have failed for want of memory: it is tried again
            run.cache.keep(keys[i], done)
    run.reused[name] = sum(whole)
    return [f for f in found if f is not None]


def _usable(run: Run, burst: PreparedFrames) -> tuple[Path, dict[int, Path]]:
    """Usable sky of the reference's camera, and of the frames whose camera stood otherwise, as .npy files."""
    common = run.folder / "usable.npy"
    crossed = {} if not run.settings.method.points else _crossed(burst)
    flat = burst.registration.model is None and not run.settings.method.points
    np.save(common, np.full_like(burst.mask, 255) if flat else usable_sky(burst.mask))
    own: dict[int, Path] = {}
    seen: dict[bytes, Path] = {}
    for i in crossed if burst.mask.min() == 255 else ():
        own[i] = _without_lines(np.load(common), crossed[i], run.folder / f"crossed-{i}.npy")
    if burst.mask.min() == 255:
        return common, own
    for i, shift in burst.shifts.items():
        if shift.held and np.allclose(shift.homography, np.eye(3), atol=1.0):
            continue
        name = np.round(shift.homography, 3).tobytes()
        if name not in seen:
            seen[name] = run.folder / f"usable-{i}.npy"
            height, width = burst.mask.shape
            moved = cv2.warpPerspective(
                burst.mask, np.linalg.inv(shift.homography), (width, height), borderMode=cv2.BORDER_REPLICATE
            )
            np.save(seen[name], usable_sky(np.asarray(moved, np.uint8)))
        own[i] = seen[name]
    for i, lines in crossed.items():
        sky = np.load(own.get(i, common))
        own[i] = _without_lines(sky, lines, run.folder / f"crossed-{i}.npy")
    return common, own


def _crossed(burst: PreparedFrames) -> dict[int, list[Line]]:
    """Frames that something flew through, with its lines; what stands at one place in three frames did not
    fly."""
    used = burst.used
    judged = compare([m for i in used if (m := burst.frames[i].measure) is not None])
    return {i: m.streak_lines for i, m in zip(used, judged, strict=True) if m.streak_lines}


def _without_lines(sky: U8, lines: list[Line], path: Path) -> Path:
    """Usable sky without a corridor about lines of light, stored."""
    for x0, y0, x1, y1 in lines:
        way = np.array([x1 - x0, y1 - y0]) / max(float(np.hypot(x1 - x0, y1 - y0)), 1.0) * BEYOND_PX
        ends = [(round(x0 - way[0]), round(y0 - way[1])), (round(x1 + way[0]), round(y1 + way[1]))]
        cv2.line(sky, ends[0], ends[1], 0, 2 * CORRIDOR_PX + 1)
    np.save(path, sky)
    return path


def _busiest_sky(grid: list[Tile], mask: U8, size: tuple[int, int]) -> Tile:
    """The tile nearest the centre that is all sky, or the one with most sky."""

    def rank(t: Tile) -> tuple[float, float]:
        share = float(mask[t.y : t.y + t.height : 8, t.x : t.x + t.width : 8].mean())
        return (
            -min(share, 250.0),
            abs(t.x + t.width / 2 - size[0] / 2) + abs(t.y + t.height / 2 - size[1] / 2),
        )

    return min(grid, key=rank)


def _plan(run: Run, burst: PreparedFrames, foreground: Foreground) -> tuple[Plan, list[tuple[int, float]]]:
    """What every tile needs, and how noise falls with the number of frames."""
    settings, used, frames = run.settings, burst.used, burst.frames
    registration = burst.registration
    usable, own = _usable(run, burst)
    sources = [
        Source(
            frames[i].spill,
            frames[i].pattern,
            registration.alignments[i].homography,
            1.0,
            burst.normalizations[i],
            own.get(i),
        )
        for i in used
    ]
    inner = registration.model.of(used) if registration.model else None
    size, method = frames[used[0]].size, settings.method
    if inner and not method.points:
        inner, sources = with_copies(inner, sources, burst.closed, settings.tail)
    plan = Plan(
        sources=sources,
        size=size,
        model=inner,
        mask=burst.mask_path,
        usable=usable,
        method=method,
        kappa=settings.kappa,
        noise=None,
        foreground=foreground,
        reference=used.index(registration.reference),
    )
    if not method.points:
        return replace(plan, noise=np.tile([1e9, 0.0], (3, 1))), []
    run.progress("measuring noise", 0.46)
    tile = _busiest_sky(tile_grid(size, len(sources)), burst.mask, size)
    part = Tile(tile.x, tile.y, min(tile.width, NOISE_TILE), min(tile.height, NOISE_TILE))
    noise, falls = run.pool.submit(sample_noise, plan, part).result()
    return replace(plan, noise=noise if method.needs_noise else np.tile([1e9, 0.0], (3, 1))), falls


def _second_pass(run: Run, plan: Plan) -> tuple[Path, Path, list[Done]]:
    """Fill the picture tile by tile; picture and share of samples left out as .npy files, and the finished
    tiles."""
    paths = run.folder / "picture.npy", run.folder / "left-out.npy"
    for path, colours in zip(paths, ((3,), ()), strict=True):
        mapped_array(path, (plan.size[1], plan.size[0], *colours))
    futures = {
        run.pool.submit(make_tile, plan, t, *paths): i
        for i, t in enumerate(tile_grid(plan.size, len(plan.sources)))
    }
    return *paths, [done for _, done in run.gather(futures, "combining", 0.5, 0.95)]


def stack(
    paths: list[Path],
    out: Path,
    settings: Settings | None = None,
    pool: Executor | None = None,
    progress: Progress = lambda label, share: None,
    stop: Callable[[], bool] = lambda: False,
    spill_root: Path | None = None,
    keep: Path | None = None,
) -> Result:
    """Stack frames (files or folders) into ``out`` (float32 linear RGB TIFF) with its mask beside it, and the
    share of samples left out (grey PNG, 255 times its square root, so that one sample of many is seen).

    Values are camera RGB, 0 at black and 1 at white; colour data travel in the TIFF's description. What was
    worked out for the frames stays in the folder ``keep``, and is used again by a later stack of the same
    files. Raises BadInput naming what was wrong, Cancelled when ``stop`` turns true.
    """
    settings = settings or Settings()
    files = frame_files(paths)
    with tempfile.TemporaryDirectory(prefix="vinter-stack-", dir=spill_root) as name:
        folder = Path(name)
        cache = StageCache(keep or folder / "cache")
        if pool is not None:
            return _stack(
                Run(settings=settings, folder=folder, cache=cache, pool=pool, progress=progress, stop=stop),
                files,
                out,
            )
        with own_pool(settings.workers) as own:
            return _stack(
                Run(settings=settings, folder=folder, cache=cache, pool=own, progress=progress, stop=stop),
                files,
                out,
            )


def _frames(run: Run, files: list[Path]) -> tuple[list[Ingested], list[Ingested], list[Ingested], list[str]]:
    """Frames that could be read in order of time, those that could not, the ground's own, and the keys of the
    first."""
    masters, calibration = _masters(run.settings, run.cache)
    grounds = [p for p in run.settings.ground_frames if run.settings.ground in ("own", "focus")]
    ground_paths = {p.resolve() for p in grounds}
    files = [p for p in files if p.resolve() not in ground_paths]
    share = 0.4 * len(files) / max(len(files) + len(grounds), 1)
    done = _first_pass(run, files, masters, calibration, (0.0, share), "frames")
    own = _first_pass(run, grounds, masters, calibration, (share, 0.4), "ground_frames")
    good, bad = [f for f in done if not f.error], [f for f in done if f.error]
    if not good:
        raise BadInput(
            "no frame could be read: " + "; ".join(b.error for b in bad[:5])
            if bad
            else "no frame of the sky is left"
        )
    good = in_order(good)
    return good, bad, own, [key_of(stamp(f.path), calibration) for f in good]


def _foreground_choice(run: Run, burst: PreparedFrames, grounds: list[Ingested]) -> ForegroundChoice:
    base = burst.frames[burst.registration.reference]
    if grounds and burst.mask.min() < 255:
        return foreground_of_own_frames(
            run.pool,
            run.settings,
            grounds,
            base,
            burst.mask,
            burst.mask_path,
            run.folder,
            _own_choice(run, base),
        )
    return foreground_of_sky_frames(
        run.settings, burst.frames, burst.used, burst.shifts, burst.registration.groups.number, burst.mask
    )


def _own_choice(run: Run, base: Ingested) -> U8 | None:
    """Which ground frame was painted where, if any was."""
    path = run.settings.ground_choice
    if path is None or run.settings.ground != "focus":
        return None
    return drawn_over(path, run.settings, base, (base.size[1], base.size[0]))


def _write(run: Run, burst: PreparedFrames, picture: Path, out: Path) -> tuple[Path, float | None]:
    """Write picture and mask, straightened when the file asks; the mask's path and how far corners moved."""
    base, model = burst.frames[burst.registration.reference], burst.registration.model
    rgb, mask, warp = (
        np.load(picture, mmap_mode="r"),
        burst.mask,
        base.warp if run.settings.lens == "auto" else None,
    )
    if len(burst.used) == 1 and base.measure and base.measure.kind == "picture":
        rgb = beyond_white(base.path, np.asarray(rgb))
    if warp:
        rgb = warp.straightened(rgb)
        mask = np.asarray(np.clip(warp.straightened(mask.astype(np.float32)) + 0.5, 0, 255), np.uint8)
    focal = model.focal if model else base.focal_px
    exposure = base.measure.exposure_s if base.measure else None
    night = not (base.measure and base.measure.light)
    unix = None if base.time is None else base.time + (exposure or 0.0) / 2
    about = About(
        colour=base.colour,
        frames=len(burst.used),
        focal_px=focal,
        unix=unix,
        night=night,
        linear=base.measure is None or base.measure.kind in LINEAR_KINDS,
        taken=base.measure.taken if base.measure else Taken(),
    )
    write_stack(out, rgb, mask, about)
    return mask_of(out), round(warp.most_px(base.size), 1) if warp else None


def _drift(burst: PreparedFrames) -> Data | None:
    """The lens's fall-off by stars that drifted across the frames of a sensor, for where no field is
    solved."""
    registration = burst.registration
    base = burst.frames[registration.reference]
    focal = registration.model.focal if registration.model else base.focal_px
    if not focal or base.measure is None or base.measure.kind not in LINEAR_KINDS:
        return None
    found = drifting_stars(burst.frames, registration.alignments, registration.reference, focal)
    return asdict(found) if found else None


def _stack(run: Run, files: list[Path], out: Path) -> Result:
    settings = run.settings
    frames, unread, grounds, keys = _frames(run, files)
    burst = prepare(run, frames, keys)
    chosen = _foreground_choice(run, burst, grounds)
    plan, falls = _plan(run, burst, chosen.foreground)
    picture, left_out, tiles = _second_pass(run, plan)
    run.progress("writing", 0.96)
    base, model = frames[burst.registration.reference], burst.registration.model
    wide = (
        None
        if not settings.method.points
        else run.pool.submit(star_widths, base.spill, base.pattern, picture)
    )
    shares = run.pool.submit(
        write_left_out,
        left_out,
        burst.mask_path,
        base.warp if settings.lens == "auto" else None,
        left_out_of(out),
    )
    mask_path, moved_px = _write(run, burst, picture, out)
    widths, share_out = wide.result() if wide else (0.0, 0.0), shares.result()
    report = reports.build(frames, unread, burst.registration, settings, tiles, widths, burst.mask)
    if (
        settings.method.points and report["noise_gain"] is None and len(falls) > 1 and falls[-1][1] > 0
    ):  # no tile was all sky: the sample tells
        seen = falls[0][1] * float(np.sqrt(falls[0][0])) / falls[-1][1]
        report["noise_gain"] = round(min(seen, report["noise_expected"]), 3)
    report |= {
        "rejected_share": share_out,
        "noise_by_count": falls,
        "ground": chosen.summary,
        "reused": run.reused,
        "straightened_px": moved_px,
        "corners_by_drift": _drift(burst) if settings.method.points else None,
        **reports.of_frames(frames, burst.registration, burst.shifts, burst.normalizations),
    }
    if not settings.method.points:
        report["trails"] = {
            "gaps_closed": burst.closed.gaps,
            "longest_gap_s": burst.closed.longest_s,
            "left_open": burst.closed.left_open,
            "copies": len(burst.closed.copies),
            "tail": settings.tail,
            "moved": model is not None,
        }
    report["seconds"] = round(time.monotonic() - run.started, 2)
    report["peak_rss_mb"] = round(max([anonymous_mb(), *(t.peak_mb for t in tiles)]), 1)
    run.progress("done", 1.0)
    return Result(out, mask_path, report)
