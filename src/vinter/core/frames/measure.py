"""Measures of a frame and the verdict on it: keep, doubt or drop, always with the reason."""

from dataclasses import MISSING, dataclass, field, fields, replace
from functools import cache
from typing import Any

import cv2
import numpy as np
import numpy.typing as npt

from vinter.core.formats.exif import Taken
from vinter.core.frames.adaptive_moments import shapes, trail_length
from vinter.core.frames.metadata import believable, camera_name
from vinter.core.frames.mosaic import PEDESTAL, SPAN, clean_mosaic, clean_picture, green_half, picture_half
from vinter.core.frames.night import Light, light_of
from vinter.core.frames.psf_map import Cell, cells, diagnosis
from vinter.core.frames.reading import Frame
from vinter.core.frames.stars import Background, Detection, background, find_stars
from vinter.core.frames.streaks import find_streaks
from vinter.core.versions import Data, Schema
from vinter.core.words import count_of

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
DAYLIGHT, NOTHING = 0.25, 0.0008  # of full scale: no night is so bright; nothing shines
GROUND_DETAIL = 0.08  # structure above which a frame without stars shows something near
EIGHT_BITS, SOME_LEVELS = 270, 4  # levels of a byte and what rounding adds; fewer in use tell nothing
NO_STARS = 4.0  # times the take's width: such specks are no stars
LONGER = 1.3  # times the take's elongation, from which a frame was shaken
LAMP_SHARE = 0.2  # share of the sky's light by which a lamp lifts a part of the frame
STANDING_PX = 24.0  # px that the ends of one line may lie apart from frame to frame
UPPER, ENOUGH_HIGH = (
    0.6,
    25,
)  # share of the height in which stars are judged when there are at least this many
UNCLIPPED = 0.8  # share of full scale above which a star's top may be clipped
ROUND = 1.06  # elongation that noise gives round stars


@dataclass(frozen=True, kw_only=True)
class Measure:
    """What a frame shows. Lengths in px, background and noise as shares of full scale.

    ``structure`` is the detail at 16 to 50 px over the level: near 0 in a flat, large over ground; ``bottom``
    and ``brightest`` the level along the lower edge and of the brightest part, ``uneven`` how far its parts
    lie apart, as shares of full scale; ``shapes`` the stars' over the frame; ``streak_lines`` the ends of
    lines of light (x0, y0, x1, y1, px); ``f35`` the 35 mm equivalent focal length and ``place`` the latitude
    and longitude and ``model`` the camera the file names; ``pictures`` how many a film holds. ``local``,
    ``time_source``, ``direction``, ``magnetic``, ``lens`` and ``aperture`` are as in ``Metadata``;
    ``light`` says that it is no night sky, and why; ``file_time`` and ``file_source`` are what the file said
    of its time before somebody knew better.
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
    bottom: float = 0.0
    brightest: float = 0.0
    uneven: float = 0.0
    streak_lines: list[tuple[float, float, float, float]] = field(default_factory=list)
    f35: float | None = None
    place: tuple[float, float] | None = None
    model: str = ""
    pictures: int = 1
    make: str = ""
    focal_mm: float | None = None
    local: float | None = None
    time_source: str = ""
    direction: float | None = None
    magnetic: bool = False
    light: str = ""
    file_time: float | None = None
    file_source: str = ""
    lens: str = ""
    aperture: float | None = None

    @property
    def taken(self) -> Taken:
        """How the frame was taken, as a picture made from it says."""
        same = {f.name: getattr(self, f.name) for f in fields(Taken) if f.name != "zoned"}
        return Taken(**same, zoned=bool(self.time_source) and self.time is not None)

    @property
    def camera(self) -> str:
        """Maker and model, the maker once."""
        return camera_name(self.make, self.model)


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
    plane = frame.data[y : height // 2 : 8, x + width // 4 // 2 * 2 : 3 * width // 4 : 2].astype(np.float32)
    d = (
        plane[:, 1:-1] - (plane[:, :-2] + plane[:, 2:]) / 2
    )  # for white noise neighbours of d correlate by -2/3
    limit = 4 * 1.4826 * np.median(np.abs(d)) + 1e-6
    a, b = d[:, :-1].ravel(), d[:, 1:].ravel()
    calm = (np.abs(a) < limit) & (np.abs(b) < limit)
    if calm.sum() < 1000 or a[calm].std() == 0:
        return 1.0
    return float(np.corrcoef(a[calm], b[calm])[0, 1] + 2 / 3)


def _steps(frame: Frame) -> float:
    """How many levels a frame's numbers can take, by the least step between those that it does take."""
    counts = np.bincount(frame.data[::7, ::7].ravel())
    low, high = np.searchsorted(np.cumsum(counts) / counts.sum(), (0.02, 0.98))
    levels = np.flatnonzero(counts[low : high + 1])
    step = int(np.diff(levels).min()) if len(levels) > SOME_LEVELS else 1
    return frame.white / max(step, 1)


def raw_kind(frame: Frame) -> tuple[str, list[str]]:
    """Whether a file is true sensor data: sensor, processed or unknown, with the evidence."""
    if frame.kind == "picture":
        return "processed", ["a finished picture, not RAW"]
    if frame.kind == "film":
        return "processed", ["a film, not RAW"]
    if frame.kind == "linear" and frame.path.suffix.lower() != ".dng":
        return "unknown", ["linear pixels of a program that does not say what it did"]
    if frame.kind == "linear":
        return "processed", ["a linear DNG: demosaiced, perhaps merged, inside the phone"]
    if _steps(frame) <= EIGHT_BITS:
        return "processed", ["a Bayer file of 8 bits: encoded or cut down by the phone, not sensor data"]
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
    return _judged(replace(m, raw_reasons=[*m.raw_reasons, *(note.words for note in frame.notes)]))


def _no_sky(m: Measure) -> str:
    """What a frame without stars is."""
    if m.light:
        return m.light
    if m.background > DAYLIGHT or (m.exposure_s is not None and m.exposure_s < 0.02 and m.background > 0.02):
        return "no night sky in it: daylight, or a lit room"
    if m.background < NOTHING and m.uneven < NOTHING:
        return "no night sky in it: nothing shone on the sensor"
    if m.structure > GROUND_DETAIL:
        return f"only {count_of(m.stars, 'star')}: ground, or cloud over the whole sky"
    return f"only {count_of(m.stars, 'star')}: cloud, focus or a covered lens"


def _judged(m: Measure) -> Measure:
    if m.kind == "film":  # what it shows is judged picture by picture when it is stacked
        return replace(m, verdict="keep", reasons=[])
    drop, doubt = [], []
    if m.stars < FEW_STARS:
        drop.append(_no_sky(m))
    elif m.elongation > TRAILED:
        drop.append(
            f"stars trailed or shaken: {m.elongation:.1f} times longer than wide, {m.trail_px:.0f} px"
        )
    elif m.elongation > A_LITTLE_TRAILED:
        doubt.append(f"stars a little trailed: {m.elongation:.1f} times longer than wide")
    if m.clipped_fraction > 0.02:
        doubt.append(f"{100 * m.clipped_fraction:.1f} % of the pixels are clipped")
    verdict = "drop" if drop else "doubt" if doubt else "keep"
    return replace(m, verdict=verdict, reasons=drop + doubt + _streak_notes(m))


def _streak_notes(m: Measure) -> list[str]:
    if not m.streaks or m.stars < FEW_STARS:
        return []
    many = f"{m.streaks} long streaks" if m.streaks > 1 else "a long streak"
    return [f"{many}: an aeroplane or satellite, which stacking leaves out"]


def _light(m: Measure) -> float:
    """What a frame's light is divided by, to be compared with frames of other settings."""
    return (m.exposure_s or 1.0) * (m.iso or 100) / 100 if m.kind != "picture" else 1.0


def _alike(line: tuple[float, ...], other: tuple[float, ...]) -> bool:
    """Whether two lines lie on each other."""
    a, b = np.array(line).reshape(2, 2), np.array(other).reshape(2, 2)
    ends = min(float(np.abs(a - b).max()), float(np.abs(a - b[::-1]).max()))
    return ends < STANDING_PX


def _without_standing(measures: list[Measure]) -> list[Measure]:
    """Measures without the lines that stand at one place in three frames or more: wires, roofs, edges."""
    lines = [line for m in measures for line in m.streak_lines]
    out = []
    for m in measures:
        moving = [v for v in m.streak_lines if sum(_alike(v, other) for other in lines) < 3]
        out.append(replace(m, streak_lines=moving, streaks=len(moving)) if m.streak_lines else m)
    return out


MEASURE = Schema("measure of a frame")


@cache
def _blank() -> dict[str, float]:
    """What a number of a measure is where it is missing."""
    numbers = [f for f in fields(Measure) if f.type in (int, float)]
    return {f.name: 0 if f.default is MISSING else f.default for f in numbers}


def stored_measure(data: Data) -> Measure:
    """A measure from data that were stored: a number that is missing there takes its default (0 where it has
    none), and a time that no photograph can be of is none."""
    data = {name: value for name, value in data.items() if name != "version"}
    blank = _blank()
    filled: dict[str, Any] = {k: blank.get(k) if v is None and k in blank else v for k, v in data.items()}
    time = filled.get("time")
    return Measure(**{**filled, "time": time if time is not None and believable(time) else None})


def compare(measures: list[Measure]) -> list[Measure]:
    """The same measures, judged anew by themselves and against the frames of their take of the same kind of
    file. A frame has one cause: stars that are soft or trailed are also fewer."""
    measures = [_judged(m) for m in _without_standing(measures)]
    return [
        m
        if m.kind == "film"
        else _against(m, [o for o in measures if o.kind == m.kind and o.stars >= FEW_STARS])
        for m in measures
    ]


def _against(m: Measure, others: list[Measure]) -> Measure:
    if len(others) < 3:
        return m
    fwhm, stars, long = (
        float(np.median([getattr(o, n) for o in others])) for n in ("fwhm_px", "stars", "elongation")
    )
    level, bottom, brightest = (
        float(np.median([getattr(o, n) / _light(o) for o in others]))
        for n in ("background", "bottom", "brightest")
    )
    own = _light(m)
    glare = m.background / own / level if level > 0 else 1.0
    part_lit = level > 0 and (
        m.bottom / own > bottom + LAMP_SHARE * level or m.brightest / own > brightest + 2 * LAMP_SHARE * level
    )
    if part_lit and glare < GLARE_RATIO:  # what is lit has specks and edges of its own: no more is said
        lamp = "lamp light in a part of it that the other frames have dark"
        return replace(m, verdict="doubt", reasons=[lamp], streaks=0, streak_lines=[])
    seen = m.stars >= FEW_STARS
    drop, doubt = [], []
    spread = seen and (m.elongation > max(A_LITTLE_TRAILED, LONGER * long) or m.fwhm_px > SOFT_RATIO * fwhm)
    if seen and m.elongation <= TRAILED and m.stars < CLOUD_RATIO * stars and m.fwhm_px > NO_STARS * fwhm:
        drop.append(f"{m.stars} specks against {stars:.0f} stars in the take: cloud, or far out of focus")
    elif seen and m.elongation <= TRAILED and m.fwhm_px > SOFT_RATIO * fwhm:
        why = "shaken" if m.elongation > LONGER * long else "soft"
        drop.append(f"{why}: stars {m.fwhm_px:.1f} px wide against {fwhm:.1f} px in the take")
    elif seen and m.stars < CLOUD_RATIO * stars and not spread and _same_settings(m, others):
        drop.append(f"{m.stars} stars against {stars:.0f} in the take: cloud or dew")
    if glare > GLARE_RATIO and not drop:
        doubt.append(f"sky {glare:.1f} times brighter than in the take: cloud, lamp or dawn")
    verdict = "drop" if drop or m.verdict == "drop" else "doubt" if doubt else m.verdict
    return replace(m, verdict=verdict, reasons=drop + doubt + m.reasons)


def _same_settings(m: Measure, others: list[Measure]) -> bool:
    """Whether fewer stars may be laid to the sky: a shorter frame shows fewer by itself."""
    times = [o.exposure_s for o in others if o.exposure_s]
    return m.exposure_s is None or not times or m.exposure_s > 0.7 * float(np.median(times))
