"""How long a drive takes when nobody has driven it yet: from the straight line."""

from dataclasses import dataclass

ROAD_FACTOR = 1.3  # length of a road against the straight line
SPEED_KMH = 65.0
START_MINUTES = 6.0  # minutes to get out of town and to park
ERROR = 0.3  # relative error of a driving time, one standard deviation
FARTHEST_KM = 800.0  # km in a straight line beyond which nobody drives for a night


@dataclass(frozen=True)
class Drive:
    """Minutes from home (None when unknown or too far), whether they are estimated, whether it is too far to
    drive."""

    minutes: float | None
    estimated: bool = False
    far: bool = False


def drive_minutes(straight_km: float) -> float:
    """Minutes for a straight-line distance in km; error 30 %, more where a river or a range lies between."""
    return 0.0 if straight_km < 0.3 else START_MINUTES + straight_km * ROAD_FACTOR / SPEED_KMH * 60


def estimated_drive(straight_km: float) -> Drive:
    """The drive of a straight-line distance in km."""
    if straight_km > FARTHEST_KM:
        return Drive(None, True, True)
    return Drive(drive_minutes(straight_km), True)


def reach_km(minutes: float) -> float:
    """Straight-line distance in km that a number of minutes of driving reaches."""
    return max(minutes - START_MINUTES, 0.0) * SPEED_KMH / 60 / ROAD_FACTOR
