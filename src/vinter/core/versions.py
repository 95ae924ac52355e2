"""Stored data brought up to date: what an earlier Vinter wrote is turned, version by version, into today's
form.

Data without a ``version`` are of version 1. A change of form adds one step and nothing else.
"""

from collections.abc import Callable
from copy import deepcopy
from dataclasses import dataclass
from typing import Any

from vinter.core.errors import BadInput

Data = dict[str, Any]


@dataclass(frozen=True)
class Schema:
    """A kind of stored data (its name is for messages) and the steps that lead from each version to the
    next."""

    name: str
    steps: tuple[Callable[[Data], Data], ...] = ()

    @property
    def version(self) -> int:
        """The version of today."""
        return len(self.steps) + 1

    def current(self, data: Data) -> Data:
        """Data of any version in today's form; the data given stay as they are (of today's they are the inner
        parts). BadInput when a later Vinter wrote them or the version is no number."""
        found = data.get("version", 1)
        if not isinstance(found, int) or not 1 <= found <= self.version:
            raise BadInput(
                f"{self.name}: version {found!r} is not known here; versions 1 to {self.version} are"
            )
        steps = self.steps[found - 1 :]
        out = deepcopy(data) if steps else data
        for step in steps:
            out = step(out)
        return self.stamped(out)

    def stamped(self, data: Data) -> Data:
        """Today's data with the version they are of."""
        return {**data, "version": self.version}
