"""When to leave home: the drive, and the time to set up and get used to the dark."""

SET_UP_MINUTES = 30.0  # minutes to walk, set up, focus, and let the eyes see the ground in the dark


def leave_by(window_start: float, drive_minutes: float) -> float:
    """Unix time at which to leave so that shooting can begin at a Unix time."""
    return window_start - 60 * (drive_minutes + SET_UP_MINUTES)
