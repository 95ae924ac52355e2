"""How a rehearsal ends, in words: passed, used up, or packed up rightly or wrongly."""

from collections.abc import Sequence
from dataclasses import dataclass

from vinter.core.rehearse.coach import Judgement


@dataclass(frozen=True)
class Outcome:
    """Whether a rehearsal is over, whether it was passed, and the sentence on it (empty while it goes on)."""

    ended: bool
    passed: bool
    words: str = ""


def after_press(found: Judgement, pressed: int, left: int) -> Outcome:
    """The outcome after a test shot, the ``pressed``-th of the rehearsal, with ``left`` more to go."""
    if found.passed:
        shots = "1 test shot" if pressed == 1 else f"{pressed} test shots"
        return Outcome(True, True, f"Passed with {shots}. {found.sentence}")
    if left < 1:
        return Outcome(
            True,
            False,
            f"No test shot left. {found.sentence} The next change would have been: {found.change}.",
        )
    return Outcome(False, False)


def after_leaving(to_be_left: bool, sentences: Sequence[str]) -> Outcome:
    """The outcome of packing up: right on a night that no setting saves, wrong on any other. ``sentences``
    are what the coach said of the test shots so far."""
    if not to_be_left:
        return Outcome(True, False, "This night was good: the settings were not. Try again.")
    last = f"{sentences[-1]} " if sentences else ""
    return Outcome(
        True,
        True,
        f"Right: water in the air, not the settings. {last}Write it down and drive home rested.",
    )
