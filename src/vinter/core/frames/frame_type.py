"""What each file of a take is: sky, ground, dark, flat, bias, test shot, automatic mode's output, or a RAW's
JPEG twin."""

from collections import Counter
from collections.abc import Sequence
from pathlib import PurePath

from vinter.core.frames.measure import FEW_STARS, Measure

FRAME_TYPES = ("sky", "ground", "dark", "flat", "bias", "test", "automatic", "twin", "film")
CALIBRATION = ("dark", "flat", "bias")
NEVER_STACKED = (*CALIBRATION, "film")  # types that are never one frame among the frames of a stack
DARK_LEVEL = 0.0006  # share of full scale under which nothing shone on the sensor
HOT_STARS = 40  # hot pixels beside each other that a dark may show as stars
WARM_DARK, DARK_DETAIL = (
    0.02,
    0.05,
)  # of full scale, and structure: an even glow of a warm sensor is no ground
FLAT_LEVELS = (0.02, 0.95)
FLAT_SECONDS = 2.0  # s, longest exposure of a flat
EVEN = 0.02  # structure under which a frame shows nothing but a fall-off
BIAS_SECONDS = 0.01
AUTOMATIC_SECONDS = 60.0
TWIN_SECONDS = 2.0


def _alone(m: Measure) -> str:
    """What one frame is by itself."""
    seconds = m.exposure_s
    if m.kind == "film":
        return "film"
    if m.kind in ("linear", "picture") and seconds is not None and seconds > AUTOMATIC_SECONDS:
        return "automatic"
    if m.kind == "linear" or (m.raw == "processed" and m.kind != "picture"):
        return "automatic"
    covered = m.background < WARM_DARK and m.structure < DARK_DETAIL and 0 < m.uneven < 0.3 * m.background
    if (m.background < DARK_LEVEL or covered) and m.stars < HOT_STARS and m.clipped_fraction < 0.001:
        return "bias" if seconds is not None and seconds <= BIAS_SECONDS else "dark"
    if m.stars >= FEW_STARS:
        return "sky"
    if (
        FLAT_LEVELS[0] <= m.background <= FLAT_LEVELS[1]
        and m.structure < EVEN
        and (seconds is None or seconds <= FLAT_SECONDS)
    ):
        return "flat"
    return "ground"


def _twins(measures: Sequence[Measure]) -> set[int]:
    """Pictures that lie beside a RAW of the same name or the same moment."""
    raws = [m for m in measures if m.kind not in ("picture", "film")]
    stems = {PurePath(m.file).stem for m in raws}
    times = [m.time for m in raws if m.time is not None]
    out = set()
    for i, m in enumerate(measures):
        if m.kind != "picture":
            continue
        beside = m.time is not None and any(abs(m.time - t) <= TWIN_SECONDS for t in times)
        if PurePath(m.file).stem in stems or beside:
            out.add(i)
    return out


def classify_take(measures: Sequence[Measure]) -> list[str]:
    """One of ``FRAME_TYPES`` for each measure, in the order given. Test shots are lone sky frames whose
    settings differ from the burst's."""
    out = [_alone(m) for m in measures]
    for i in _twins(measures):
        out[i] = "twin"
    settings = Counter((m.iso, m.exposure_s) for m, kind in zip(measures, out, strict=True) if kind == "sky")
    if settings:
        burst, most = settings.most_common(1)[0]
        for i, m in enumerate(measures):
            own = (m.iso, m.exposure_s)
            if (
                out[i] == "sky"
                and own != burst
                and most >= 3
                and settings[own] <= max(most // 4, 1)
                and settings[own] < 3
            ):
                out[i] = "test"
    return out
