"""The second pass: what every tile needs, and the picture filled tile by tile."""

from concurrent.futures import Future
from dataclasses import replace
from pathlib import Path

import numpy as np
import numpy.typing as npt

from vinter.core.formats.whole import mapped_array
from vinter.core.stack.combining.plan import Done, Foreground, Plan, Source, Tile, tile_grid
from vinter.core.stack.combining.star_trails import with_copies
from vinter.core.stack.combining.tiles import make_tile, sample_noise
from vinter.core.stack.prepare import PreparedFrames
from vinter.core.stack.run import Run
from vinter.core.stack.usable import usable_of_reference, usable_parts

U8 = npt.NDArray[np.uint8]
Sampled = tuple[npt.NDArray[np.float64], list[tuple[int, float]]]
CLIPS_NOTHING = np.tile([1e9, 0.0], (3, 1))  # a noise model so wide that no sample lies far
NOISE_TILE = 448  # px, side of the patch the noise model is fitted on


def _busiest_sky(grid: list[Tile], mask: U8, size: tuple[int, int]) -> Tile:
    """The tile nearest the centre that is all sky, or the one with most sky."""

    def rank(t: Tile) -> tuple[float, float]:
        share = float(mask[t.y : t.y + t.height : 8, t.x : t.x + t.width : 8].mean())
        return (
            -min(share, 250.0),
            abs(t.x + t.width / 2 - size[0] / 2) + abs(t.y + t.height / 2 - size[1] / 2),
        )

    return min(grid, key=rank)


def _plan(
    run: Run, burst: PreparedFrames, usable: Path, own: dict[int, Path], foreground: Foreground
) -> Plan:
    """What every tile needs but its noise."""
    registration, used, method = burst.registration, burst.used, run.settings.method
    sources = [
        Source(
            burst.frames[i].spill,
            burst.frames[i].pattern,
            registration.alignments[i].homography,
            1.0,
            burst.normalizations[i],
            own.get(i),
        )
        for i in used
    ]
    inner = registration.model.of(used) if registration.model else None
    if inner and not method.points:
        inner, sources = with_copies(inner, sources, burst.closed, run.settings.tail)
    return Plan(
        sources=sources,
        size=burst.frames[used[0]].size,
        model=inner,
        mask=burst.mask_path,
        usable=usable,
        method=method,
        kappa=run.settings.kappa,
        noise=None,
        foreground=foreground,
        reference=used.index(registration.reference),
    )


def begin_noise(run: Run, burst: PreparedFrames) -> Future[Sampled]:
    """Have the pool measure the noise of a patch of sky: its model, and how it falls with the number of
    frames."""
    plan = _plan(run, burst, usable_of_reference(run, burst), {}, Foreground([]))
    tile = _busiest_sky(tile_grid(plan.size, len(plan.sources)), burst.mask, plan.size)
    part = Tile(tile.x, tile.y, min(tile.width, NOISE_TILE), min(tile.height, NOISE_TILE))
    return run.pool.submit(sample_noise, plan, part)


def plan_tiles(
    run: Run, burst: PreparedFrames, foreground: Foreground, sampled: Future[Sampled] | None
) -> tuple[Plan, list[tuple[int, float]]]:
    """What every tile needs, and how noise falls with the number of frames; without a sample nothing is
    clipped."""
    plan = _plan(run, burst, *usable_parts(run, burst), foreground)
    if sampled is None:
        return replace(plan, noise=CLIPS_NOTHING), []
    run.progress("measuring noise", 0.46)
    noise, falls = sampled.result()
    return replace(plan, noise=noise if plan.method.needs_noise else CLIPS_NOTHING), falls


def fill_tiles(run: Run, plan: Plan) -> tuple[Path, Path, list[Done]]:
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
