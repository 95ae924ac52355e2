"""The second pass: what every tile needs, and the picture filled tile by tile."""

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
from vinter.core.stack.usable import usable_parts

U8 = npt.NDArray[np.uint8]
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


def plan_tiles(
    run: Run, burst: PreparedFrames, foreground: Foreground
) -> tuple[Plan, list[tuple[int, float]]]:
    """What every tile needs, and how noise falls with the number of frames."""
    settings, used, frames = run.settings, burst.used, burst.frames
    registration = burst.registration
    usable, own = usable_parts(run, burst)
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
