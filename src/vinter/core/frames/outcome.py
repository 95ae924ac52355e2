"""What came of a night's frames, in one summary: how they were set, what they show, which were left and
why."""

from collections import Counter
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
        return self.kept * self.shutters[0] if self.shutters else 0.0


def outcome(frames: list[tuple[Measure, bool]]) -> Outcome:
    """The summary of frames of the sky, each with whether it was kept."""
    measures = [m for m, _ in frames]
    kept = [m for m, used in frames if used]
    times = sorted(m.time for m in measures if m.time)

    def most(values: list[float]) -> list[float]:
        return [value for value, _ in Counter(values).most_common()]

    reasons = Counter(m.reasons[0] for m, used in frames if not used and m.reasons)
    good = kept or measures
    return Outcome(
        isos=[int(v) for v in most([float(m.iso) for m in measures if m.iso])],
        shutters=most([m.exposure_s for m in measures if m.exposure_s]),
        frames=len(measures),
        kept=len(kept),
        first=times[0] if times else None,
        last=times[-1] if times else None,
        width_px=median(m.fwhm_px for m in good) if good else None,
        trail_px=median(m.trail_px for m in good) if good else None,
        noise=median(m.noise for m in good) if good else None,
        reasons=reasons.most_common(),
    )
