"""The drawing of how stars trail over the frame."""

from django import template

register = template.Library()
WIDTH, HEIGHT = 270, 202
FULL_AT = 2.0  # tolerances of trail at which a cell is as dark as it gets


@register.inclusion_tag("shots/drawings/trail_map.html")
def trail_map(cells: list[list[float]], grid: list[list[float]], tolerance: float) -> dict[str, object]:
    """Trails in px over the frame: fine cells as tone, a coarse grid as figures; full tone at twice the
    tolerance."""
    across, down = len(cells[0]), len(cells)
    drawn = [
        {
            "x": round(i * WIDTH / across, 1),
            "y": round(j * HEIGHT / down, 1),
            "ink": round(min(0.08 + 0.84 * px / tolerance / FULL_AT, 0.92), 2),
            "px": px,
        }
        for j, row in enumerate(cells)
        for i, px in enumerate(row)
    ]
    figures = [
        {"x": round(27 + 108 * i), "y": round(26 + 80 * j), "px": px}
        for j, row in enumerate(grid)
        for i, px in enumerate(row)
    ]
    size = round(WIDTH / across + 0.5, 1), round(HEIGHT / down + 0.5, 1)
    return {"cells": drawn, "figures": figures, "size": size, "width": WIDTH, "height": HEIGHT}
