"""Drawings of a forecast's hours."""

from collections.abc import Sequence

from django import template

from vinter.core.forecast import Hour

register = template.Library()
WIDTH, HEIGHT, LABELLED_EVERY = 300, 50, 3
SMALL_HEIGHT = 22


@register.inclusion_tag("forecast/drawings/panel.html")
def sky_chance(hours: Sequence[Hour], tz: str) -> dict[str, object]:
    """Chance of a free sky hour by hour: dark as far down as the sky is free."""
    step = WIDTH / max(len(hours), 1)
    bars = [
        {
            "x": round(i * step, 1),
            "width": round(0.93 * step, 1),
            "free": round(hour.clear * HEIGHT, 1),
            "hour": hour,
            "labelled": i % LABELLED_EVERY == LABELLED_EVERY - 1,
        }
        for i, hour in enumerate(hours)
    ]
    return {"bars": bars, "tz": tz, "height": HEIGHT}


@register.inclusion_tag("forecast/drawings/hours.html")
def free_hours(hours: Sequence[Hour], tz: str) -> dict[str, object]:
    """The same in a row of a table."""
    return {"hours": [(h, round(h.clear * SMALL_HEIGHT, 1)) for h in hours], "tz": tz, "height": SMALL_HEIGHT}
