"""What came out of a file of many lines: the good ones, and why others were refused."""

from dataclasses import dataclass
from typing import Generic, TypeVar

from vinter.core.errors import BadInput

T = TypeVar("T")


@dataclass(frozen=True)
class Imported(Generic[T]):
    """What was read, and one sentence with file and line for everything that was refused."""

    good: T
    refused: tuple[str, ...] = ()

    def all_or_nothing(self) -> T:
        """What was read; BadInput with the first sentence when anything was refused."""
        if self.refused:
            raise BadInput(self.refused[0])
        return self.good
