"""Measures of a frame and the verdict on it: keep, doubt or drop, always with the reason."""

from dataclasses import dataclass, field, replace

import cv2
import numpy as np
import numpy.typing as npt

from vinter.core.frames.adaptive_moments import shapes, trail_length
from vinter.core.frames.mosaic import PEDESTAL, SPAN, clean_mosaic, clean_picture, green_half, picture_half
from vinter.core.frames.psf_map import Cell, cells, diagnosis
from vinter.core.frames.reading import Frame
from vinter.core.frames.stars import Background, Detection, background, find_stars

F32 = npt.NDArray[np.float32]
U16 = npt.NDArray[np.uint16]
FEW_STARS = 15
TRAILED, A_LITTLE_TRAILED = 1.9, 1.5  # median elongation
SOFT_RATIO, CLOUD_RATIO, GLARE_RATIO = 1.5, 0.5, 1.35  # against the take's median
SMOOTHED = 0.25  # correlation of like-coloured neighbours above which a mosaic was smoothed
BRIGHT_SHARE, MAPPED_SHARE, SHAPED = (
    0.35,
    0.7,
    400,
)  # of the stars, for the figures and for the map; and at most
UNCLIPPED = 0.8  # of full scale, above which a star's top may be cut
ROUND = 1.06  # elongation that noise gives round stars


@dataclass(frozen=True, kw_only=True)
class Measure:
    """What a frame shows. Lengths in px, background and noise as shares of full scale.

    ``structure`` is the detail at 16 to 50 px over the level: near 0 in a flat, large over ground; ``shapes``
    the stars' over the frame; ``f35`` the 35 mm equivalent focal length the file names.
    """

    file: str
    kind: str
    width: int
    height: int
    iso: int | None
    exposure_s: float | None
    time: float | None
    stars: int
    fwhm_px: float
    elongation: float
    trail_px: float
    background: float
    noise: float
    clipped_fraction: float
    streaks: int
    raw: str
    raw_reasons: list[str]
    verdict: str = "keep"
    reasons: list[str] = field(default_factory=list)
    structure: float = 0.0
    shapes: list[Cell] = field(default_factory=list)
    shapes_say: str = ""
    f35: float | None = None


def clean(frame: Frame, dark: F32 | None = None, flat: F32 | None = None) -> tuple[U16, F32]:
    """A frame on the common scale (mosaic or RGB) and its half-size green plane."""
    if frame.pattern is not None:
        mosaic, _ = clean_mosaic(frame, dark, flat)
        return mosaic, green_half(mosaic, frame.pattern)
    rgb = clean_picture(frame)
    return rgb, picture_half(rgb)


def _neighbour_correlation(frame: Frame) -> float:
    """Correlation of the noise of horizontal neighbours of one colour in the upper part of a mosaic."""
    assert frame.pattern is not None
    y, x = np.argwhere(frame.pattern == 1)[0]
    height, width = frame.data.shape
    plane = frame.data[y : height // 2 : 4, x + width // 4 // 2 * 2 : 3 * width // 4 : 2].astype(np.float32)
    d = (
        plane[:, 1:-1] - (plane[:, :-2] + plane[:, 2:]) / 2
    )  # for white noise neighbours of d correlate by -2/3
    limit = 4 * 1.4826 * np.median(np.abs(d)) + 1e-6
    a, b = d[:, :-1].ravel(), d[:, 1:].ravel()
    calm = (np.abs(a) < limit) & (np.abs(b) < limit)
    if calm.sum() < 1000 or a[calm].std() == 0:
        return 1.0
    return float(np.corrcoef(a[calm], b[calm])[0, 1] + 2 / 3)


def raw_kind(frame: Frame) -> tuple[str, list[str]]:
    """Whether a file is true sensor data: sensor, processed or unknown, with the evidence."""
    if frame.kind == "picture":
        return "processed", ["a finished picture, not RAW"]
    if frame.kind == "linear":
        return "processed", ["a linear DNG: demosaiced, perhaps merged, inside the phone"]
    excess = _neighbour_correlation(frame)
    evidence = f"noise of like-coloured neighbours correlates by {excess:+.2f}"
    if abs(excess) < SMOOTHED / 2:
        return "sensor", [f"{evidence}, as in untouched sensor data"]
    return ("processed" if excess > SMOOTHED else "unknown"), [f"{evidence}; untouched data have 0"]


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


def measure(
    frame: Frame, cleaned: tuple[U16, F32] | None = None, found: tuple[Background, Detection] | None = None
) -> Measure:
    """Measures of one frame with a verdict by absolute limits; pass what is already computed."""
    data, plane = cleaned or clean(frame)
    floor, detection = found or ((b := background(plane)), find_stars(plane, b))
    fwhm, stretch, trail, grid = _star_figures(detection, plane - floor.level, _diagonal(frame))
    raw, why = raw_kind(frame)
    level = float(np.median(floor.level[::4, ::4]) - PEDESTAL) / SPAN
    clipped = float(np.mean(data[::2, ::2] >= PEDESTAL + 0.985 * SPAN))
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
        streaks=len(detection.streaks),
        raw=raw,
        raw_reasons=why,
        structure=round(_structure(plane), 4),
        shapes=grid,
        shapes_say=diagnosis(grid),
        f35=frame.meta.f35,
    )
    return _judged(replace(m, raw_reasons=[*m.raw_reasons, *(note.words for note in frame.notes)]))


def _judged(m: Measure) -> Measure:
    drop, doubt = [], []
    if m.stars < FEW_STARS:
        drop.append(f"only {m.stars} stars: cloud, focus or a covered lens")
    elif m.elongation > TRAILED:
        drop.append(
            f"stars trailed or shaken: {m.elongation:.1f} times longer than wide, {m.trail_px:.0f} px"
        )
    elif m.elongation > A_LITTLE_TRAILED:
        doubt.append(f"stars a little trailed: {m.elongation:.1f} times longer than wide")
    if m.clipped_fraction > 0.02:
        doubt.append(f"{100 * m.clipped_fraction:.1f} % of the pixels are clipped")
    notes = (
        [
            f"{m.streaks} long streak{'s' if m.streaks > 1 else ''}: an aeroplane or satellite, which "
            "clipping removes"
        ]
        if m.streaks
        else []
    )
    return replace(m, verdict="drop" if drop else "doubt" if doubt else "keep", reasons=drop + doubt + notes)


def compare(measures: list[Measure]) -> list[Measure]:
    """The same measures, judged anew by themselves and against the median of their take."""
    measures = [_judged(m) for m in measures]
    usable = [m for m in measures if m.stars >= FEW_STARS]
    if len(usable) < 3:
        return measures
    fwhm, stars, level = (
        float(np.median([getattr(m, n) for m in usable])) for n in ("fwhm_px", "stars", "background")
    )
    out = []
    for m in measures:
        drop, doubt = [], []
        if m.stars >= FEW_STARS and m.fwhm_px > SOFT_RATIO * fwhm:
            drop.append(f"soft: stars {m.fwhm_px:.1f} px wide against {fwhm:.1f} px in the take")
        if FEW_STARS <= m.stars < CLOUD_RATIO * stars:
            drop.append(f"{m.stars} stars against {stars:.0f} in the take: cloud or dew")
        if level > 0 and m.background > GLARE_RATIO * level:
            doubt.append(
                f"sky {m.background / level:.1f} times brighter than in the take: cloud, lamp or dawn"
            )
        verdict = "drop" if drop or m.verdict == "drop" else "doubt" if doubt else m.verdict
        out.append(replace(m, verdict=verdict, reasons=drop + doubt + m.reasons))
    return out
