"""Horizon profiles to and from files: one azimuth and altitude a line."""

import math

from vinter.core.errors import BadInput


def read_horizon(data: bytes, name: str) -> tuple[tuple[float, float], ...]:
    """Points (azimuth, altitude) in degrees of a CSV of two columns; a first line of names and lines after #
    are passed over.

    The separator may be a comma, a semicolon, a tab or blanks. BadInput names the line that cannot be read.
    """
    try:
        lines = data.decode("utf-8-sig").splitlines()
    except UnicodeDecodeError as error:
        raise BadInput(f"{name}: not a text file") from error
    points: dict[float, float] = {}
    for number, line in enumerate(lines, 1):
        text = line.split("#")[0].strip()
        if not text:
            continue
        parts = text.replace(";", " ").replace(",", " ").split()
        try:
            azimuth, altitude = float(parts[0]), float(parts[1])
        except (ValueError, IndexError) as error:
            if not points and number < 3 and not text[0].isdigit():
                continue  # names of the columns
            raise BadInput(
                f"{name}, line {number}: {text!r} is not an azimuth and an altitude in degrees"
            ) from error
        if not (
            math.isfinite(azimuth)
            and math.isfinite(altitude)
            and -360 <= azimuth <= 360
            and -15 <= altitude <= 90
        ):
            raise BadInput(
                f"{name}, line {number}: azimuth {azimuth:g} or altitude {altitude:g} is out of range"
            )
        points[azimuth % 360] = altitude
    if not points:
        raise BadInput(f"{name}: no point of a horizon in it")
    return tuple(sorted(points.items()))


def horizon_text(points: tuple[tuple[float, float], ...]) -> str:
    """A profile as CSV."""
    return "azimuth,altitude\n" + "".join(f"{a:g},{h:g}\n" for a, h in points)
