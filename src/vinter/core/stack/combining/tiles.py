"""Second pass: one tile of the result from all frames. Memory is bounded by the tile, not by the take."""

from dataclasses import replace
from pathlib import Path

import cv2
import numpy as np
import numpy.typing as npt

from vinter.core.formats.whole import mapped
from vinter.core.frames.mosaic import PEDESTAL, SPAN, demosaic
from vinter.core.parallel import give_back
from vinter.core.stack.combining.blanking import blank, rows_with_sky
from vinter.core.stack.combining.kernels import Rules, combine, join
from vinter.core.stack.combining.light import normalize_into
from vinter.core.stack.combining.methods import Method
from vinter.core.stack.combining.noise import noise_model
from vinter.core.stack.combining.noise_seen import noise_by_count, noise_seen, scales
from vinter.core.stack.combining.plan import Done, Foreground, Plan, Source, Tile
from vinter.core.stack.ingest import anonymous_mb, quiet_worker
from vinter.core.stack.photometry.normalization import CLIPPED
from vinter.core.stack.registration.resample import resample

Array = npt.NDArray[np.float64]
F32 = npt.NDArray[np.float32]
U16 = npt.NDArray[np.uint16]
U8 = npt.NDArray[np.uint8]
PAD = 6


def _colour_part(source: Source, x0: int, y0: int, x1: int, y1: int) -> U16:
    """RGB of a part of a spilled frame; x0 and y0 are even so that the pattern keeps its phase."""
    data = mapped(source.spill, np.uint16)
    part = np.asarray(data[y0:y1, x0:x1])
    return np.array(part) if source.pattern is None else demosaic(part, source.pattern)


def _local_homography(plan: Plan, index: int, tile: Tile) -> Array:
    """Homography from tile pixels to frame pixels; with a lens model, the one that fits this tile's
    corners."""
    x0, y0, x1, y1 = tile.x, tile.y, tile.x + tile.width - 1, tile.y + tile.height - 1
    corners = np.array([[x0, y0], [x1, y0], [x1, y1], [x0, y1]], float)
    if plan.model is None:
        inverse = np.linalg.inv(plan.sources[index].homography)
        return np.asarray(inverse @ np.array([[1, 0, tile.x], [0, 1, tile.y], [0, 0, 1]]))
    there = plan.model.to_frame(index, corners)
    local = corners - [tile.x, tile.y]
    return np.asarray(cv2.getPerspectiveTransform(local.astype(np.float32), there.astype(np.float32)))


def _warped(
    out: U16, source: Source, to_frame: Array, size: tuple[int, int], tile: Tile
) -> tuple[int, int, int, int, Array] | None:
    """A frame's samples on a tile, cubic, and the part of the frame they came from with the homography to it;
    None off the frame."""
    edge = np.array(
        [[0, 0], [tile.width - 1, 0], [tile.width - 1, tile.height - 1], [0, tile.height - 1]], float
    )
    h = np.c_[edge, np.ones(4)] @ to_frame.T
    xy = h[:, :2] / h[:, 2:]
    x0, y0 = (np.maximum(np.floor(xy.min(axis=0)).astype(int) - PAD, 0) // 2 * 2).tolist()
    x1, y1 = (np.minimum(np.ceil(xy.max(axis=0)).astype(int) + PAD, list(size)) // 2 * 2).tolist()
    if x1 - x0 < 4 or y1 - y0 < 4:
        out[:] = 0
        return None
    shift = np.array([[1, 0, -x0], [0, 1, -y0], [0, 0, 1]], float) @ to_frame
    rgb = _colour_part(source, x0, y0, x1, y1)
    resample(rgb, shift, out)
    return x0, y0, x1, y1, shift


def _lit(samples: U16, source: Source, tile: Tile, size: tuple[int, int]) -> None:
    """Bring samples to the reference's light, and fade them, in place."""
    if source.fade < 1:
        samples[:] = np.maximum((samples.astype(np.float32) - PEDESTAL) * source.fade + PEDESTAL, 1)
    if not source.normalization.plain:
        ceiling = CLIPPED if source.normalization.scale < 0.9 else 1e9
        normalize_into(
            samples,
            source.normalization.scale,
            source.normalization.surface,
            float(tile.x),
            float(tile.y),
            float(size[0]),
            float(size[1]),
            ceiling,
        )


def _sky_into(out: U16, plan: Plan, index: int, tile: Tile, usable: U8) -> None:
    """A frame's samples on a tile; 0 where it has no sky to give."""
    source, to_frame = plan.sources[index], _local_homography(plan, index, tile)
    first, last = _rows_with_sky(to_frame, tile, usable)
    out[:first], out[last:] = 0, 0
    if first >= last:
        return
    band = Tile(tile.x, tile.y + first, tile.width, last - first)
    out, to_frame = out[first:last], to_frame @ np.array([[1, 0, 0], [0, 1, first], [0, 0, 1]], float)
    part = _warped(out, source, to_frame, plan.size, band)
    if part is None:
        return
    x0, y0, x1, y1, shift = part
    _lit(out, source, band, plan.size)
    fit = np.array(usable[y0:y1, x0:x1])
    if fit.min() < 255:
        blank(out, fit, shift)


def _rows_with_sky(to_frame: Array, tile: Tile, usable: U8) -> tuple[int, int]:
    """The rows of a tile, from the first to before the last, that may show usable sky of a frame."""
    rows = np.arange(tile.height)
    ends = [
        to_frame @ np.stack([np.full(tile.height, x), rows, np.ones(tile.height)])
        for x in (0, tile.width - 1)
    ]
    across, down = np.array([e[0] / e[2] for e in ends]), np.array([e[1] / e[2] for e in ends])
    left, right = (int(np.clip(v, 0, usable.shape[1])) for v in (across.min() - 2, across.max() + 3))
    top, below = (
        np.clip(v, 0, usable.shape[0]).astype(int) for v in (down.min(axis=0) - 2, down.max(axis=0) + 3)
    )
    if left >= right:
        return 0, 0
    lit = np.concatenate([[0], np.cumsum(rows_with_sky(usable[top.min() : below.max(), left:right]))])
    some = np.flatnonzero(lit[below - top.min()] > lit[top - top.min()])
    return (int(some[0]), int(some[-1]) + 1) if len(some) else (0, 0)


def sky_cube(plan: Plan, tile: Tile) -> U16:
    """Aligned samples (n, height, width, 3) of a tile; the frame's own ground and borders are 0."""
    usable = mapped(plan.usable, np.uint8)
    cube = np.empty((len(plan.sources), tile.height, tile.width, 3), np.uint16)
    for i, source in enumerate(plan.sources):
        _sky_into(cube[i], plan, i, tile, mapped(source.usable, np.uint8) if source.usable else usable)
    return cube


def foreground_cube(sources: list[Source], size: tuple[int, int], tile: Tile) -> U16:
    """Samples (n, height, width, 3) of the ground of a tile; frames that lie as the reference does are not
    interpolated."""
    x0, y0 = max(tile.x - PAD, 0) // 2 * 2, max(tile.y - PAD, 0) // 2 * 2
    x1, y1 = (
        min(tile.x + tile.width + PAD, size[0]) // 2 * 2,
        min(tile.y + tile.height + PAD, size[1]) // 2 * 2,
    )
    inner = np.s_[tile.y - y0 : tile.y - y0 + tile.height, tile.x - x0 : tile.x - x0 + tile.width]
    cube = np.empty((len(sources), tile.height, tile.width, 3), np.uint16)
    for i, source in enumerate(sources):
        if np.array_equal(source.homography, np.eye(3)):
            cube[i] = _colour_part(source, x0, y0, x1, y1)[inner]
        else:
            to_frame = np.linalg.inv(source.homography) @ np.array(
                [[1, 0, tile.x], [0, 1, tile.y], [0, 0, 1]]
            )
            _warped(cube[i], source, to_frame, size, tile)
        _lit(cube[i], source, tile, size)
    return cube


def _rules(cube: U16, plan: Plan, sources: list[Source], method: Method) -> Rules:
    """How a tile's samples are combined by a method."""
    noise = plan.noise if plan.noise is not None else noise_model(cube)
    return Rules(method, noise, *scales(sources, method), plan.kappa)


def _foreground(plan: Plan, tile: Tile, foreground: Foreground) -> F32:
    """The ground of a tile."""
    cube = foreground_cube(foreground.sources, plan.size, tile)
    if foreground.shares is None:
        return combine(cube, _rules(cube, plan, foreground.sources, plan.method.of_ground)).picture
    shares = mapped(foreground.shares, np.float16)
    y0, x0 = tile.y // 2, tile.x // 2
    y1, x1 = -(-(tile.y + tile.height) // 2) + 1, -(-(tile.x + tile.width) // 2) + 1
    out = np.zeros(cube.shape[1:], np.float32)
    for i, samples in enumerate(cube):
        part = np.asarray(shares[i, y0:y1, x0:x1], np.float32)
        wide = cv2.resize(part, (2 * part.shape[1], 2 * part.shape[0]), interpolation=cv2.INTER_LINEAR)
        share = wide[
            tile.y - 2 * y0 : tile.y - 2 * y0 + tile.height, tile.x - 2 * x0 : tile.x - 2 * x0 + tile.width
        ]
        out += share[..., None] * samples
    return out


def make_tile(plan: Plan, tile: Tile, picture: Path, left_out: Path) -> Done:
    """Combine one tile: sky aligned, ground kept still, joined along the feathered mask.

    Its linear RGB is written to its place in ``picture``, the share of samples left out in ``left_out`` (.npy
    of the frame's size).
    """
    quiet_worker()
    give_back()  # what reading frames, or another tile, left free
    # copies, in rows and writable, as the loops were compiled for
    mask = np.array(mapped(plan.mask, np.uint8)[tile.y : tile.y + tile.height, tile.x : tile.x + tile.width])
    shape = (tile.height, tile.width)
    rgb, count = np.zeros((*shape, 3), np.float32), np.zeros((*shape, 3), np.uint16)
    rejected = np.zeros(shape, np.float32)
    single, stacked, peak = float("nan"), float("nan"), 0.0
    rows, band = _band(tile, np.asarray(mask.any(axis=1), np.bool_))
    if band.height:
        cube = sky_cube(plan, band)
        rules = _rules(cube, plan, plan.sources, plan.method)
        found = combine(cube, rules)
        rgb[rows], count[rows], rejected[rows] = found.picture, found.count, found.left_out
        peak = anonymous_mb()
        if mask.min() > 252:
            single, stacked = noise_seen(cube, found.count, rules)
        del cube, found
    # where no frame has sky to give (the feathered edge, the border) the unmoved frames stand in
    bare, grounds = count[..., 1].min(axis=1) == 0, plan.foreground
    if mask.min() == 255 or not grounds.sources:
        grounds = Foreground([_at_rest(plan)])
    else:
        bare |= mask.min(axis=1) < 255
    rows, band = _band(tile, np.asarray(bare, np.bool_))
    if band.height:
        join(rgb[rows], _foreground(plan, band, grounds), mask[rows], count[rows])
    peak = max(peak, anonymous_mb())
    rgb -= PEDESTAL
    rgb /= SPAN
    for path, values in ((picture, rgb), (left_out, rejected)):
        whole = mapped(path, np.float32, write=True)
        whole[tile.y : tile.y + tile.height, tile.x : tile.x + tile.width] = values
    return Done(tile, single, stacked, peak)


def _band(tile: Tile, wanted: npt.NDArray[np.bool_]) -> tuple[slice, Tile]:
    """The rows of a tile from the first to the last that is wanted, and the tile that they make."""
    some = np.flatnonzero(wanted)
    first, last = (int(some[0]), int(some[-1]) + 1) if len(some) else (0, 0)
    return slice(first, last), replace(tile, y=tile.y + first, height=last - first)


def _at_rest(plan: Plan) -> Source:
    """The reference as it lies."""
    return replace(plan.sources[plan.reference], homography=np.eye(3))


def sample_noise(plan: Plan, tile: Tile) -> tuple[Array, list[tuple[int, float]]]:
    """Noise model of the aligned samples of one tile, and how noise falls with their count there: as that of
    their mean does, from three samples on by as much more as the method leaves than the mean."""
    quiet_worker()
    cube = sky_cube(plan, tile)
    rules = _rules(cube, plan, plan.sources, plan.method)
    rules = replace(rules, noise=noise_model(cube))
    falls = noise_by_count(cube, rules.weights, rules.spread)
    given = np.asarray((cube > 0).sum(axis=0), np.uint16)
    own, plain = (noise_seen(cube, given, replace(rules, method=m))[1] for m in (plan.method, Method.MEAN))
    more = own / plain if plain > 0 and np.isfinite(own) else 1.0
    # of two samples every method makes the mean
    return rules.noise, [(count, noise * (more if count > 2 else 1.0)) for count, noise in falls]
