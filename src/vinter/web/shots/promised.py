"""What was said of a shot's night before it came."""

import time

from vinter.web.forecast.chances import Chances
from vinter.web.shots.models import Shot


def note_chance(shot: Shot) -> None:
    """Keep the chance of a clear sky as it is said now, while the night still lies ahead: the last word
    before it counts."""
    night = shot.found_night()
    if night.best is None or time.time() > night.best.end:
        return
    found = Chances(shot.site).outlook(night)
    if found is not None:
        said = {"chance": round(found.chance, 3), "error": round(found.error, 3), "at": round(time.time())}
        Shot.objects.filter(pk=shot.pk).update(forecast_chance=said)
