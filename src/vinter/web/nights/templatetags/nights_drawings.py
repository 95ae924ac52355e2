"""Drawings of nights, each with a small template of its own."""

from django import template

from vinter.web.nights.dome import Dome
from vinter.web.nights.drawing import Strip

register = template.Library()
COST_WIDTH, COST_HEIGHT, COST_LEVELS = 860, 150, 4


@register.simple_tag
def bracket_path(x0: float, x1: float, y0: float, y1: float, serif: float) -> str:
    """A pair of square brackets about a span: SVG path of both, with serifs of a length."""
    return (
        f"M{x0:g} {y0:g}m{serif:g} 0h{-serif:g}V{y1:g}h{serif:g}"
        f"M{x1:g} {y0:g}m{-serif:g} 0h{serif:g}V{y1:g}h{-serif:g}"
    )


@register.inclusion_tag("nights/drawings/strip.html")
def night_strip(
    strip: Strip, tz: str, name: str, *, bare: bool = False, at_x: float | None = None
) -> dict[str, object]:
    """A night from sunset to sunrise; bare without height lines, Moon and ground, with a cursor at a
    place."""
    return {"strip": strip, "tz": tz, "name": name, "bare": bare, "at_x": at_x, "bottom": strip.height + 8}


@register.inclusion_tag("nights/drawings/red_strip.html")
def red_strip(strip: Strip, tz: str) -> dict[str, object]:
    """The same for the field: red on black."""
    return {"strip": strip, "tz": tz}


@register.inclusion_tag("nights/drawings/frames_strip.html")
def frames_strip(strip: Strip, tz: str, name: str, marks: list[float]) -> dict[str, object]:
    """The same, small, with the frames that were shot as marks below it."""
    return {"strip": strip, "tz": tz, "name": name, "marks": marks}


@register.inclusion_tag("nights/drawings/costs.html")
def night_costs(strip: Strip) -> dict[str, object]:
    """What towns, Moon and twilight cost through the night, in magnitudes downwards."""
    levels = [(COST_HEIGHT * n / COST_LEVELS, n) for n in range(1, COST_LEVELS + 1)]
    return {"strip": strip, "levels": levels, "width": COST_WIDTH, "height": COST_HEIGHT}


@register.inclusion_tag("nights/drawings/dome.html")
def sky_dome(dome: Dome) -> dict[str, object]:
    """The sky from below with the glow of the towns."""
    return {"dome": dome}


@register.inclusion_tag("nights/drawings/season.html")
def season_sheet(site: object, sheet: object, query: str, marks: object = ()) -> dict[str, object]:
    """A year of nights, one row a night, with the best runs in brackets and events marked."""
    return {"site": site, "sheet": sheet, "q": query, "marks": marks}
