"""The stack from files to one picture: ingest, register, mask, match, combine, report.

Every stage is cached under a key of all it depends on (``cache``), so that a second stack of the same frames
runs again only from the first thing that changed.
"""

import tempfile
import time
from collections.abc import Callable
from concurrent.futures import Executor, Future
from dataclasses import asdict, dataclass
from pathlib import Path
from typing import Any

import numpy as np
import numpy.typing as npt

from vinter.core.formats.exif import Taken
from vinter.core.frames.files import frame_files
from vinter.core.frames.frame import LINEAR_KINDS
from vinter.core.frames.gain_map import beyond_white
from vinter.core.stack import report as reports
from vinter.core.stack.aftermath import star_widths, write_left_out
from vinter.core.stack.file import About, left_out_of, mask_of, write_stack
from vinter.core.stack.first_pass import read_frames
from vinter.core.stack.foreground.composition import (
    ForegroundChoice,
    foreground_of_own_frames,
    foreground_of_sky_frames,
)
from vinter.core.stack.ingest import Ingested, anonymous_mb
from vinter.core.stack.photometry.drift import drifting_stars
from vinter.core.stack.pool import own_pool
from vinter.core.stack.prepare import PreparedFrames, drawn_over, prepare
from vinter.core.stack.run import Progress, Run
from vinter.core.stack.second_pass import Sampled, begin_noise, fill_tiles, plan_tiles
from vinter.core.stack.settings import Settings
from vinter.core.stage_cache import StageCache
from vinter.core.versions import Data

__all__ = ["Result", "Settings", "stack"]
F32 = npt.NDArray[np.float32]
U8 = npt.NDArray[np.uint8]


@dataclass(frozen=True)
class Result:
    """A finished stack: files written and the report."""

    picture: Path
    mask: Path
    report: dict[str, Any]


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
    frames, unread, grounds, keys = read_frames(run, files)
    noise: list[Future[Sampled]] = []  # one processor's work, while the others compare grounds
    burst = prepare(run, frames, keys, lambda lit: noise.append(begin_noise(run, lit)))
    chosen = _foreground_choice(run, burst, grounds)
    plan, falls = plan_tiles(run, burst, chosen.foreground, noise[0] if noise else None)
    picture, left_out, tiles = fill_tiles(run, plan)
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
