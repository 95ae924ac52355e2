"""The drawing of the star shapes over a frame."""

from django import template

from vinter.core.versions import Data

register = template.Library()


@register.inclusion_tag("takes/drawings/shapes.html")
def star_shapes(measure: Data) -> Data:
    """Ellipses for the map of star shapes, in quarters of the frame's width; elongation drawn squared, to be
    seen."""
    marks = []
    for cell in measure.get("shapes", []):
        size, stretch = min(0.045 * cell["fwhm"], 0.3), min(cell["elongation"], 2.4)
        marks.append(
            {
                "x": cell["column"] + 0.5,
                "y": cell["row"] + 0.5,
                "rx": round(size * stretch, 3),
                "ry": round(size / stretch, 3),
                "angle": cell["angle"],
                "fwhm": cell["fwhm"],
                "elongation": cell["elongation"],
            }
        )
    return {"marks": marks, "words": measure.get("shapes_say", "")}
