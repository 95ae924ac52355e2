"""Plain data without numbers that are none: what JSON and databases refuse."""

from math import isfinite
from typing import TypeVar, cast

D = TypeVar("D")


def finite(data: D) -> D:
    """The same plain data (dicts, lists, tuples, scalars) with None where a number is NaN or infinite."""
    if isinstance(data, dict):
        return cast(D, {key: finite(value) for key, value in data.items()})
    if isinstance(data, (list, tuple)):
        return cast(D, [finite(value) for value in data])
    if isinstance(data, float):
        return data if isfinite(data) else cast(D, None)
    return data
