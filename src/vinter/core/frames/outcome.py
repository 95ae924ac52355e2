"""What came of a night's frames, in one summary: how they were set, what they show, which were left and
why."""

from collections import Counter
from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from statistics import median

from vinter.core.frames.measure import Measure

SKY = "sky"


@dataclass(frozen=True, kw_only=True)
class Outcome:
    """ISO and shutters (s) as the files say them, most used first; frames, kept ones, first and last time
    (Unix); width and trail of the stars (px) and noise (share of full scale), medians of the kept; why
    frames were left, with how many."""

    isos: list[int]
    shutters: list[float]
    frames: int
    kept: int
    first: float | None
    last: float | None
    width_px: float | None
    trail_px: float | None
    noise: float | None
    reasons: list[tuple[str, int]]

    @property
    def light_s(self) -> float:
        """Seconds of light of the kept frames, by the shutter used most."""
        return _light_s(self.kept, self.shutters)


@dataclass(frozen=True)
class Tally:
    """Frames of the sky by counts alone: measured, kept, and the seconds of light of the kept ones, as in
    `Outcome`."""

    frames: int = 0
    kept: int = 0
    light_s: float = 0.0


def tally(groups: Iterable[tuple[float | None, bool, int]]) -> Tally:
    """Counts of groups of like frames, each with its shutter (s), whether it was kept, and how many."""
    shutters: Counter[float] = Counter()
    frames = kept = 0
    for shutter, used, many in groups:
        frames += many
        kept += many if used else 0
        if shutter:
            shutters[shutter] += many
    return Tally(frames, kept, _light_s(kept, _most_first(shutters)))


def _light_s(kept: int, shutters: Sequence[float]) -> float:
    return kept * shutters[0] if shutters else 0.0


def _most_first(counts: Counter[float]) -> list[float]:
    """What was counted, most often first; of like ones the smaller."""
    return sorted(counts, key=lambda value: (-counts[value], value))


def outcome(frames: list[tuple[Measure, bool]]) -> Outcome:
    """The summary of frames of the sky, each with whether it was kept."""
    measures = [m for m, _ in frames]
    kept = [m for m, used in frames if used]
    times = sorted(m.time for m in measures if m.time)

    reasons = Counter(m.reasons[0] for m, used in frames if not used and m.reasons)
    good = kept or measures
    return Outcome(
        isos=[int(v) for v in _most_first(Counter(float(m.iso) for m in measures if m.iso))],
        shutters=_most_first(Counter(m.exposure_s for m in measures if m.exposure_s)),
        frames=len(measures),
        kept=len(kept),
        first=times[0] if times else None,
        last=times[-1] if times else None,
        width_px=median(m.fwhm_px for m in good) if good else None,
        trail_px=median(m.trail_px for m in good) if good else None,
        noise=median(m.noise for m in good) if good else None,
        reasons=reasons.most_common(),
    )
