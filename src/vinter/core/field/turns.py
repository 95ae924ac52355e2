"""When a night turns: what is still possible after cloud came, with a cold battery, with dew on the lens.

Worked out at home, so that the card can say it without signal.
"""

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from vinter.core.camera.accessories import charge
from vinter.core.field.minutes import STEP, Minute
from vinter.core.field.packing import cold_and_dew
from vinter.core.field.times import CardTime
from vinter.core.forecast import DEW_MARGIN, Forecast

CHARGE, KEPT = 40, 20  # percent: the charge that the sums begin with, and what stays for the way home
LOSSES = (2, 4, 8)  # percent of charge lost in ten minutes; the user picks what the phone shows
LOSS_MINUTES = 10.0
MILD = 10.0  # deg C that is reckoned with where there is no forecast
FEW_FRAMES = 3  # frames: a shorter run is not split in two


@dataclass(frozen=True)
class Run:
    """What is being shot: frames, seconds of the whole run, and what to do when cloud stays (``instead``)."""

    frames: int
    seconds: float
    instead: str

    @property
    def half(self) -> tuple[int, float]:
        """Frames of half a run, and its noise over that of the whole."""
        half = (self.frames + 1) // 2
        return half, float(np.sqrt(self.frames / half))

    def fitting(self, seconds: float) -> int:
        """Frames that fit into a number of seconds."""
        return int(min(self.frames, max(seconds, 0.0) * self.frames // max(self.seconds, 1e-9)))


@dataclass(frozen=True)
class Turn:
    """Something that goes wrong, and the lines that help then."""

    title: str
    lines: list[CardTime]


def turns(
    run: Run, minutes: Sequence[Minute], window_end: float | None, forecast: Forecast | None
) -> list[Turn]:
    """What to do after cloud, cold and dew within a card's minutes; ``window_end`` is a Unix time."""
    length = (minutes[-1].t - minutes[0].t) / 60
    cold, spread = cold_and_dew(forecast, minutes[0].t, length)  # as the pack list has them
    return [
        Turn("Cloud came", _cloud(run, minutes, window_end, forecast)),
        Turn(f"Cold, battery at {CHARGE} %", _battery(run, MILD if cold is None else cold)),
        Turn("Dew on the lens", _dew(run, spread)),
    ]


def last_moment(minutes: Sequence[Minute], window_end: float | None) -> float | None:
    """Unix time until which one can shoot: the window's end, or the last minute that has settings."""
    able = [m.t for m in minutes if m.settings]
    if not able:
        return None
    return min(window_end, able[-1] + STEP) if window_end else able[-1]


def _cloud(
    run: Run, minutes: Sequence[Minute], window_end: float | None, forecast: Forecast | None
) -> list[CardTime]:
    end = last_moment(minutes, window_end)
    lines = []
    if end is not None:
        lines.append(CardTime("The whole run can begin until", (end - run.seconds,)))
        if run.frames > FEW_FRAMES:
            half, noise = run.half
            lines.append(
                CardTime(
                    f"{half} frames, noise {noise:.1f} times",
                    (end - run.seconds * half / run.frames,),
                    "at the latest",
                )
            )
        hours = forecast.between(minutes[0].t, end) if forecast else []
        if hours:
            best = max(hours, key=lambda h: h.clear)
            lines.append(CardTime("Clearest hour forecast", (best.t,), f"{100 * best.clear:.0f} % clear"))
    return [*lines, CardTime("If it stays", words=f"{run.instead}; then go home")]


def _battery(run: Run, temperature: float) -> list[CardTime]:
    usual = charge(LOSS_MINUTES, temperature)
    where = f"at {temperature:.0f} °C".replace("-", "−")
    lines = [
        CardTime(
            f"Usual loss {where}", words=f"{100 * usual.used:.0f} % in ten minutes, ± 30 %, screen dark"
        ),
        CardTime("Yours", words=f"read the charge twice, ten minutes apart; keep {KEPT} % for the way home"),
    ]
    for loss in LOSSES:
        left = (CHARGE - KEPT) / loss * LOSS_MINUTES
        fits = run.fitting(60 * left)
        enough = "the whole run" if fits == run.frames else f"{fits} of {run.frames} frames"
        lines.append(CardTime(f"{loss} % lost", words=f"{left:.0f} min left: {enough}"))
    return [
        *lines,
        CardTime("Meanwhile", words="screen dim, flight mode, power bank and phone against the body"),
    ]


def _dew(run: Run, spread: float | None) -> list[CardTime]:
    lines = []
    if spread is not None:
        why = "it will come back" if spread < DEW_MARGIN else "wiping should last"
        lines.append(CardTime("Closest to the dew point", words=f"{max(spread, 0.0):.0f} K: {why}"))
    lines += [
        CardTime("Now", words="wipe with a dry cloth, do not breathe on it; heat pack beside the lens"),
        CardTime("Then", words="a test shot: soft discs or a glow around lamps mean dew again"),
    ]
    if run.frames > FEW_FRAMES:
        half, noise = run.half
        kept = f"stay good: {half} of {run.frames} make the noise {noise:.1f} times"
        lines.append(CardTime("Frames before it", words=kept))
    return [
        *lines,
        CardTime("Without heat", words="a pause in the pocket, lens inward; it fogs again within minutes"),
    ]
