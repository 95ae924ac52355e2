"""Which frames of a take go into a stack: the user's word first, then what was measured."""

from dataclasses import dataclass
from enum import StrEnum

from vinter.core.frames.frame_type import NEVER_STACKED


class Decision(StrEnum):
    """The user's word on a frame; NONE leaves it to the measures."""

    NONE = ""
    KEEP = "keep"
    DROP = "drop"


@dataclass(frozen=True)
class Candidate:
    """What is known of a frame: its type (one of ``FRAME_TYPES``), whether it could be read and measured, the
    measures' verdict (keep, doubt or drop) and the user's decision."""

    frame_type: str
    readable: bool
    measured: bool
    verdict: str
    decision: Decision = Decision.NONE

    @property
    def included(self) -> bool:
        """Whether it counts as one to use: the user's word, else the measures'; only frames of the sky do
        unless the user keeps another."""
        if not (self.readable and self.measured) or self.decision == Decision.DROP:
            return False
        return self.decision == Decision.KEEP or (self.frame_type == "sky" and self.verdict != "drop")

    @property
    def stackable(self) -> bool:
        """Whether it goes into the picture of the sky; calibration frames and films never do."""
        return self.included and self.frame_type not in NEVER_STACKED

    def serves_as(self, frame_type: str) -> bool:
        """Whether it can be used as a ground exposure or a calibration frame of a type."""
        return self.frame_type == frame_type and self.readable and self.decision != Decision.DROP
