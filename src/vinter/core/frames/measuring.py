"""Measuring a frame: its stars, light, noise and streaks, and the verdict by absolute limits."""

from dataclasses import replace

import cv2
import numpy as np
import numpy.typing as npt

from vinter.core.frames.adaptive_moments import shapes, trail_length
from vinter.core.frames.frame import Frame
from vinter.core.frames.judging import judged
from vinter.core.frames.measure import FEW_STARS, Measure
from vinter.core.frames.mosaic import PEDESTAL, SPAN, clean_mosaic, clean_picture, green_half, picture_half
from vinter.core.frames.night import Light, light_of
from vinter.core.frames.psf_map import Cell, cells, diagnosis
from vinter.core.frames.raw_kind import raw_kind
from vinter.core.frames.stars import Background, Detection, background, find_stars
from vinter.core.frames.streaks import find_streaks

F32 = npt.NDArray[np.float32]
U16 = npt.NDArray[np.uint16]
BRIGHT_SHARE, MAPPED_SHARE = 0.35, 0.7  # of the stars, for the figures and for the map
SHAPED = 400  # stars at most whose shapes are measured
UPPER = 0.6  # share of the height in which stars are judged when there are enough of them:
ENOUGH_HIGH = 25
UNCLIPPED = 0.8  # share of full scale above which a star's top may be clipped
ROUND = 1.06  # elongation that noise gives round stars


def clean(frame: Frame, dark: F32 | None = None, flat: F32 | None = None) -> tuple[U16, F32]:
    """A frame on the common scale (mosaic or RGB) and its half-size green plane."""
    if frame.pattern is not None:
        mosaic, _ = clean_mosaic(frame, dark, flat)
        return mosaic, green_half(mosaic, frame.pattern)
    rgb = clean_picture(frame)
    return rgb, picture_half(rgb)


def _diagonal(frame: Frame) -> int:
    """How the greens of a frame's cells lie, for the shapes."""
    if frame.pattern is None:
        return 0
    return 1 if frame.pattern[0, 0] in (1, 3) else -1


def _star_figures(found: Detection, signal: F32, diagonal: int) -> tuple[float, float, float, list[Cell]]:
    """Median FWHM, elongation and trail length (px) of the brighter stars that are not clipped, and their
    shapes over the frame."""
    stars = found.stars
    if len(stars) < 3:
        return 0.0, 1.0, 0.0, []
    high = np.flatnonzero(stars.y < UPPER * 2 * signal.shape[0])  # lit ground has specks that are no stars
    if len(high) >= ENOUGH_HIGH:
        stars = stars.take(high)
    sharp = np.flatnonzero(stars.peak < UNCLIPPED * SPAN)
    sharp = (sharp if len(sharp) >= 10 else np.arange(len(stars)))[
        : int(np.clip(len(stars) * MAPPED_SHARE, 30, SHAPED))
    ]
    bright = slice(0, int(np.clip(len(stars) * BRIGHT_SHARE, 30, SHAPED)))
    width, long, angle = shapes(signal, (stars.x[sharp] - 0.5) / 2, (stars.y[sharp] - 0.5) / 2, diagonal)
    grid = cells(
        stars.x[sharp], stars.y[sharp], width, long, angle, (2 * signal.shape[1], 2 * signal.shape[0])
    )
    sharp, width, long = sharp[bright], width[bright], long[bright]
    settled = np.isfinite(width)
    if settled.sum() < 3:
        return float(np.median(stars.fwhm[sharp])), float(np.median(stars.elongation[sharp])), 0.0, grid
    fwhm, stretch = float(np.median(width[settled])), float(np.median(long[settled]))
    return fwhm, stretch, trail_length(fwhm, stretch, ROUND), grid


def _structure(plane: F32) -> float:
    """Deviation of the plane, averaged over 8 x 8, from its own smooth self, over the level."""
    height, width = plane.shape
    small = (
        cv2.resize(plane, (max(width // 8, 8), max(height // 8, 8)), interpolation=cv2.INTER_AREA) - PEDESTAL
    )
    detail = small - cv2.GaussianBlur(small, (0, 0), 3)
    return float(
        1.4826 * np.median(np.abs(detail - np.median(detail))) / max(float(np.median(small)), 0.002 * SPAN)
    )


def _parts(plane: F32) -> npt.NDArray[np.float64]:
    """Median level of the parts (12 rows, 16 columns; fewer of a small frame) of a frame, as shares of full
    scale."""
    small = plane[::3, ::3] if min(plane.shape) >= 48 else plane
    rows, columns = min(12, small.shape[0]), min(16, small.shape[1])
    small = small[: small.shape[0] // rows * rows, : small.shape[1] // columns * columns]
    height, width = small.shape[0] // rows, small.shape[1] // columns
    cells = small.reshape(rows, height, columns, width).swapaxes(1, 2).reshape(rows, columns, -1)
    return np.asarray((np.median(cells, axis=2) - PEDESTAL) / SPAN, float)


def measure(
    frame: Frame, cleaned: tuple[U16, F32] | None = None, found: tuple[Background, Detection] | None = None
) -> Measure:
    """Measures of one frame with a verdict by absolute limits; pass what is already computed."""
    data, plane = cleaned or clean(frame)
    floor, detection = found or ((b := background(plane)), find_stars(plane, b))
    fwhm, stretch, trail, grid = _star_figures(detection, floor.signal, _diagonal(frame))
    raw, why = raw_kind(frame)
    level = float(np.median(floor.level[::4, ::4]) - PEDESTAL) / SPAN
    clipped = float(np.mean(data[::2, ::2] >= PEDESTAL + 0.985 * SPAN))
    lines = find_streaks(floor.signal, floor.level, floor.noise) if len(detection.stars) >= FEW_STARS else []
    parts = _parts(plane)
    noise = floor.noise / SPAN * (np.sqrt(2) if frame.pattern is not None else 1)
    m = Measure(
        file=frame.path.name,
        kind=frame.kind,
        width=frame.size[0],
        height=frame.size[1],
        iso=frame.meta.iso,
        exposure_s=frame.meta.exposure_s,
        time=frame.meta.time,
        stars=len(detection.stars),
        fwhm_px=round(fwhm, 2),
        elongation=round(stretch, 2),
        trail_px=round(trail, 1),
        background=round(level, 5),
        noise=round(float(noise), 5),
        clipped_fraction=round(clipped, 6),
        streaks=len(lines),
        streak_lines=[(s.x0, s.y0, s.x1, s.y1) for s in lines],
        bottom=round(float(np.median(parts[-2:])), 5),
        brightest=round(float(parts.max()), 5),
        uneven=round(float(np.ptp(np.percentile(parts, (5, 95)))), 6),
        raw=raw,
        raw_reasons=why,
        structure=round(_structure(plane), 4),
        shapes=grid,
        shapes_say=diagnosis(grid),
        f35=frame.meta.f35,
        place=frame.meta.place,
        lens=frame.meta.lens,
        aperture=frame.meta.aperture,
        model=frame.meta.model,
        make=frame.meta.make,
        focal_mm=frame.meta.focal_mm,
        local=frame.meta.local,
        time_source=str(frame.meta.time_source.value),
        direction=frame.meta.direction,
        magnetic=frame.meta.magnetic,
    )
    light = light_of(
        level, (m.exposure_s, m.iso, frame.meta.aperture), m.width, m.stars, m.fwhm_px, m.structure
    )
    if light is not Light.NIGHT:  # nothing is said of stars, trails or aeroplanes where there are none
        m = replace(m, light=light.value, stars=0, fwhm_px=0.0, elongation=1.0, trail_px=0.0, shapes=[])
        m = replace(m, shapes_say="", streaks=0, streak_lines=[])
    return judged(replace(m, raw_reasons=[*m.raw_reasons, *(note.words for note in frame.notes)]))
