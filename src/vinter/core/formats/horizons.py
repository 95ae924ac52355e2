"""Horizon profiles to and from files: one azimuth and altitude a line."""

import math

from vinter.core.errors import BadInput
from vinter.core.imported import Imported


def read_horizon(data: bytes, name: str) -> Imported[tuple[tuple[float, float], ...]]:
    """Points (azimuth, altitude) in degrees of a CSV of two columns; a first line of names and lines after #
    are passed over.

    The separator may be a comma, a semicolon, a tab or blanks. The good lines, and why others were refused.
    BadInput when there is no good one.
    """
    try:
        lines = data.decode("utf-8-sig").splitlines()
    except UnicodeDecodeError as error:
        raise BadInput(f"{name}: not a text file") from error
    points: dict[float, float] = {}
    refused: list[str] = []
    for number, line in enumerate(lines, 1):
        text = line.split("#")[0].strip()
        if not text:
            continue
        parts = text.replace(";", " ").replace(",", " ").split()
        try:
            azimuth, altitude = float(parts[0]), float(parts[1])
        except (ValueError, IndexError):
            if points or number > 2 or text[0].isdigit():  # else the names of the columns
                words = f"{text[:60]!r} is not an azimuth and an altitude in degrees"
                refused.append(f"{name}, line {number}: {words}")
            continue
        if not (
            math.isfinite(azimuth)
            and math.isfinite(altitude)
            and -360 <= azimuth <= 360
            and -15 <= altitude <= 90
        ):
            refused.append(
                f"{name}, line {number}: azimuth {azimuth:g} or altitude {altitude:g} is out of range"
            )
            continue
        points[azimuth % 360] = altitude
    if not points:
        raise BadInput(refused[0] if refused else f"{name}: no point of a horizon in it")
    return Imported(tuple(sorted(points.items())), tuple(refused))


def horizon_text(points: tuple[tuple[float, float], ...]) -> str:
    """A profile as CSV."""
    return "azimuth,altitude\n" + "".join(f"{a:g},{h:g}\n" for a, h in points)
