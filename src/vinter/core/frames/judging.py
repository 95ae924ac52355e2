"""The verdict on a frame, by its measure and by the other frames of its take, always with the reason."""

from dataclasses import replace

import numpy as np

from vinter.core.frames.measure import FEW_STARS, Measure
from vinter.core.words import count_of

TRAILED, A_LITTLE_TRAILED = 1.9, 1.5  # median elongation
SOFT_RATIO, CLOUD_RATIO, GLARE_RATIO = 1.5, 0.5, 1.35  # against the take's median
DAYLIGHT, NOTHING = 0.25, 0.0008  # of full scale: no night is so bright; nothing shines
GROUND_DETAIL = 0.08  # structure above which a frame without stars shows something near
NO_STARS = 4.0  # times the take's width: such specks are no stars
LONGER = 1.3  # times the take's elongation, from which a frame was shaken
LAMP_SHARE = 0.2  # share of the sky's light by which a lamp lifts a part of the frame
STANDING_PX = 24.0  # px that the ends of one line may lie apart from frame to frame


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


def judged(m: Measure) -> Measure:
    """A measure with the verdict by limits that need no other frame."""
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


def compare(measures: list[Measure]) -> list[Measure]:
    """The same measures, judged anew by themselves and against the frames of their take of the same kind of
    file. A frame has one cause: stars that are soft or trailed are also fewer."""
    measures = [judged(m) for m in _without_standing(measures)]
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
