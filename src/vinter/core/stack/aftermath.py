"""What pool processes do when a picture is combined: its stars measured against a single frame's, and the map
of the samples left out."""

from pathlib import Path

import cv2
import numpy as np
import numpy.typing as npt

from vinter.core.formats.whole import write_image
from vinter.core.frames.adaptive_moments import shapes
from vinter.core.frames.lenswarp import LensWarp
from vinter.core.frames.mosaic import PEDESTAL, SPAN, demosaic, picture_half
from vinter.core.frames.stars import background, find_stars
from vinter.core.stack.ingest import quiet_worker
from vinter.core.stack.registration.star_matching import mutual_pairs

BRIGHT = 9.0  # standard deviations of the background from which a star tells its width


def write_left_out(left_out: Path, mask: Path, warp: LensWarp | None, out: Path) -> float:
    """Write the map of samples left out; returns their mean share in the sky. For a pool process."""
    quiet_worker()
    share = np.load(left_out, mmap_mode="r")
    sky = np.load(mask, mmap_mode="r")[::4, ::4] > 250
    mean = float(share[::4, ::4][sky].mean()) if sky.any() else 0.0
    drawn = warp.straightened(share) if warp else share
    write_image(out, np.asarray(cv2.convertScaleAbs(cv2.sqrt(np.maximum(drawn, 0)), alpha=255), np.uint8))
    return mean


def star_widths(spill: Path, pattern: npt.NDArray[np.int64] | None, stacked: Path) -> tuple[float, float]:
    """Median star width of the reference frame and of the stack, of the same stars, measured alike. For a
    pool process."""
    quiet_worker()
    whole = np.load(stacked, mmap_mode="r")
    rows, columns = (slice(size // 8 * 2, size // 8 * 6) for size in whole.shape[:2])  # the centre is enough
    data, picture = np.array(np.load(spill, mmap_mode="r")[rows, columns]), whole[rows, columns]
    before = picture_half(demosaic(data, pattern) if pattern is not None else data)
    after = picture_half(np.clip(picture * SPAN + PEDESTAL, 0, 65535).astype(np.uint16))
    floors = background(before), background(after)
    a, b = (
        find_stars(plane, floor, BRIGHT).stars for plane, floor in zip((before, after), floors, strict=True)
    )
    pairs = mutual_pairs(a.xy, b.xy, 2.0)
    if not len(pairs):
        return 0.0, 0.0
    bright = pairs[: max(len(pairs) // 2, 20)]
    wide = [
        shapes(floor.signal, (s.x[at] - 0.5) / 2, (s.y[at] - 0.5) / 2)[0]
        for floor, s, at in zip(floors, (a, b), bright.T, strict=True)
    ]
    both = np.isfinite(wide[0]) & np.isfinite(wide[1])
    return (float(np.median(wide[0][both])), float(np.median(wide[1][both]))) if both.any() else (0.0, 0.0)
