"""Second pass: one tile of the result from all frames. Memory is bounded by the tile, not by the take."""

from dataclasses import dataclass, replace
from pathlib import Path

import cv2
import numpy as np
import numpy.typing as npt

from vinter.core.frames.mosaic import PEDESTAL, SPAN, demosaic
from vinter.core.stack.combine import METHODS, combine, noise_model
from vinter.core.stack.ingest import anonymous_mb, quiet_worker
from vinter.core.stack.rotation import RotationModel

Array = npt.NDArray[np.float64]
F32 = npt.NDArray[np.float32]
U16 = npt.NDArray[np.uint16]
U8 = npt.NDArray[np.uint8]
BUDGET_BYTES = 220_000_000  # of samples a worker holds for one tile
PAD = 6


@dataclass(frozen=True)
class Source:
    """One frame for the second pass: its spill file, Bayer pattern, homography to the reference, and how bright it counts."""

    spill: Path
    pattern: npt.NDArray[np.int64] | None
    homography: Array
    weight: float = 1.0


@dataclass(frozen=True)
class Plan:
    """Everything a tile needs; sky and ground masks are .npy files of the frame's size."""

    sources: list[Source]
    size: tuple[int, int]
    model: RotationModel | None
    mask: Path
    usable: Path
    method: str
    kappa: float
    noise: Array | None
    ground: list[int]  # sources that make the ground; empty when there is none
    reference: int


@dataclass(frozen=True)
class Tile:
    """Origin and size of a tile in reference pixels."""

    x: int
    y: int
    width: int
    height: int


@dataclass(frozen=True)
class Done:
    """A finished tile: linear RGB, share of samples left out, and the noise seen in it (or nan)."""

    tile: Tile
    rgb: F32
    rejected: F32
    single_noise: float
    stack_noise: float
    peak_mb: float


def tile_grid(size: tuple[int, int], frames: int) -> list[Tile]:
    """Tiles that cover a frame, small enough that all samples of one fit the budget."""
    side = int(np.sqrt(BUDGET_BYTES / (max(frames, 1) * 3 * 2 + 60)))
    side = int(np.clip(side // 16 * 16, 128, 1024))
    columns, rows = -(-size[0] // side), -(-size[1] // side)
    w, h = -(-size[0] // columns), -(-size[1] // rows)
    return [Tile(x, y, min(w, size[0] - x), min(h, size[1] - y))
            for y in range(0, size[1], h) for x in range(0, size[0], w)]


def _colour_part(source: Source, x0: int, y0: int, x1: int, y1: int) -> U16:
    """RGB of a part of a spilled frame; x0 and y0 are even so that the pattern keeps its phase."""
    data = np.load(source.spill, mmap_mode="r")
    part = np.ascontiguousarray(data[y0:y1, x0:x1])
    return part if source.pattern is None else demosaic(part, source.pattern)


def _local_homography(plan: Plan, index: int, tile: Tile) -> Array:
    """Homography from tile pixels to frame pixels; with a lens model, the one that fits this tile's corners."""
    x0, y0, x1, y1 = tile.x, tile.y, tile.x + tile.width - 1, tile.y + tile.height - 1
    corners = np.array([[x0, y0], [x1, y0], [x1, y1], [x0, y1]], float)
    if plan.model is None:
        inverse = np.linalg.inv(plan.sources[index].homography)
        return np.asarray(inverse @ np.array([[1, 0, tile.x], [0, 1, tile.y], [0, 0, 1]]))
    there = plan.model.to_frame(index, corners)
    local = corners - [tile.x, tile.y]
    return np.asarray(cv2.getPerspectiveTransform(local.astype(np.float32), there.astype(np.float32)))


def _warp_into(out: U16, plan: Plan, index: int, tile: Tile, usable: U8) -> None:
    """A frame's samples on a tile, cubic; 0 where it has no sky to give."""
    to_frame = _local_homography(plan, index, tile)
    edge = np.array([[0, 0], [tile.width - 1, 0], [tile.width - 1, tile.height - 1], [0, tile.height - 1]], float)
    h = np.c_[edge, np.ones(4)] @ to_frame.T
    xy = h[:, :2] / h[:, 2:]
    width, height = plan.size
    x0, y0 = (np.maximum(np.floor(xy.min(axis=0)).astype(int) - PAD, 0) // 2 * 2).tolist()
    x1, y1 = (np.minimum(np.ceil(xy.max(axis=0)).astype(int) + PAD, [width, height]) // 2 * 2).tolist()
    if x1 - x0 < 4 or y1 - y0 < 4:
        out[:] = 0
        return
    shift = np.array([[1, 0, -x0], [0, 1, -y0], [0, 0, 1]], float) @ to_frame
    rgb = _colour_part(plan.sources[index], x0, y0, x1, y1)
    cv2.warpPerspective(rgb, shift, (tile.width, tile.height), dst=out, flags=cv2.INTER_CUBIC | cv2.WARP_INVERSE_MAP,
                        borderMode=cv2.BORDER_REPLICATE)
    if plan.sources[index].weight < 1:
        out[:] = np.maximum((out.astype(np.float32) - PEDESTAL) * plan.sources[index].weight + PEDESTAL, 0)
    np.maximum(out, 1, out=out)
    fit = np.ascontiguousarray(usable[y0:y1, x0:x1])
    if fit.min() < 255:
        fit = cv2.warpPerspective(fit, shift, (tile.width, tile.height), flags=cv2.INTER_LINEAR | cv2.WARP_INVERSE_MAP)
        out[fit < 250] = 0


def sky_cube(plan: Plan, tile: Tile) -> U16:
    """Aligned samples (n, height, width, 3) of a tile; the frame's own ground and borders are 0."""
    usable = np.load(plan.usable, mmap_mode="r")
    cube = np.empty((len(plan.sources), tile.height, tile.width, 3), np.uint16)
    for i in range(len(plan.sources)):
        _warp_into(cube[i], plan, i, tile, usable)
    return cube


def still_cube(plan: Plan, tile: Tile, which: list[int]) -> U16:
    """Samples of a tile of some frames, not moved."""
    x0, y0 = max(tile.x - PAD, 0) // 2 * 2, max(tile.y - PAD, 0) // 2 * 2
    x1, y1 = min(tile.x + tile.width + PAD, plan.size[0]), min(tile.y + tile.height + PAD, plan.size[1])
    inner = np.s_[tile.y - y0:tile.y - y0 + tile.height, tile.x - x0:tile.x - x0 + tile.width]
    return np.stack([_colour_part(plan.sources[i], x0, y0, x1 // 2 * 2, y1 // 2 * 2)[inner] for i in which])


def _noise_seen(cube: U16, halves: F32, count: npt.NDArray[np.uint16]) -> tuple[float, float]:
    """Noise of one aligned sample and of the stack by the same robust estimator, shares of full scale."""
    n = len(cube)
    if n < 4:
        return float("nan"), float("nan")
    cube, halves, count = cube[:, ::3, ::3, 1], halves[::3, ::3, 1], count[::3, ::3, 1]  # enough to tell
    full = count >= n - 1
    if full.sum() < 2000:
        return float("nan"), float("nan")

    def robust(values: Array | F32) -> float:
        return float(1.4826 * np.median(np.abs(values - np.median(values))))

    steps = [robust((cube[i].astype(np.float32) - cube[i + 1])[full]) / np.sqrt(2)
             for i in range(0, n - 1, max(n // 8, 1))]
    even, odd = (n + 1) // 2, n // 2
    half = robust(halves[full]) / np.sqrt(1 / even + 1 / odd) / np.sqrt(n)
    return float(np.median(steps)) / SPAN, half / SPAN


def _merge(cube: U16, plan: Plan) -> tuple[F32, F32, npt.NDArray[np.uint16]]:
    shape = cube.shape[1:]
    out, halves, count = np.empty(shape, np.float32), np.empty(shape, np.float32), np.empty(shape, np.uint16)
    noise = plan.noise if plan.noise is not None else noise_model(cube)
    combine(cube, METHODS[plan.method], plan.kappa, np.ascontiguousarray(noise), out, halves, count)
    return out, halves, count


def make_tile(plan: Plan, tile: Tile) -> Done:
    """Combine one tile: sky aligned, ground kept still, joined along the feathered mask."""
    quiet_worker()
    sky = np.load(plan.mask, mmap_mode="r")[tile.y:tile.y + tile.height, tile.x:tile.x + tile.width]
    share = np.asarray(sky, np.float32)[..., None] / 255
    shape = (tile.height, tile.width)
    sky_rgb, ground_rgb = np.zeros((*shape, 3), np.float32), np.zeros((*shape, 3), np.float32)
    bare, rejected = np.ones(shape, bool), np.zeros(shape, np.float32)
    single, stacked, peak = float("nan"), float("nan"), 0.0
    if share.max() > 0:
        cube = sky_cube(plan, tile)
        sky_rgb, halves, count = _merge(cube, plan)
        bare = count[..., 1] == 0
        given = np.count_nonzero(cube[..., 1], axis=0)
        rejected = np.where(given > 0, 1 - count[..., 1] / np.maximum(given, 1), 0).astype(np.float32)
        peak = anonymous_mb()
        if share.min() > 0.99:
            single, stacked = _noise_seen(cube, halves, count)
        del cube
    # where no frame has sky to give (the feathered edge, the border) the unmoved frames stand in
    still = plan.ground if share.min() < 1 and plan.ground else [plan.reference] if bare.any() else []
    if still:
        ground_rgb, _, _ = _merge(still_cube(plan, tile, still), replace(plan, method="mean") if plan.method == "trails" else plan)
        peak = max(peak, anonymous_mb())
    rgb = np.where(bare[..., None], ground_rgb, share * sky_rgb + (1 - share) * ground_rgb)
    return Done(tile, np.asarray((rgb - PEDESTAL) / SPAN, np.float32), rejected, single, stacked, peak)


def sample_noise(plan: Plan, tile: Tile) -> Array:
    """Noise model of the aligned samples of one tile."""
    quiet_worker()
    return noise_model(sky_cube(plan, tile))
