"""Drawings of the report of a stack: strips of one bar a frame, the ground, the noise."""

from dataclasses import dataclass

from django import template

from vinter.core.stack.options import OPTIONS
from vinter.core.stack.photometry.vignetting import corner_words
from vinter.core.stack.plate_solve import field_from
from vinter.core.versions import Data

register = template.Library()


@register.filter
def corners(falloff: Data) -> str:
    """The fall-off of a stack's lens in words."""
    return corner_words(falloff)


@register.filter
def stack_lens(report: Data) -> str:
    """The lens as a stack's stars show it: of the solved field with its error, else by the frames' turns."""
    if report.get("field"):
        field = field_from(report["field"])
        digits = 1 if field.focal_error >= 0.095 else 2
        focal = f"{field.focal_px:.{digits}f} ± {max(field.focal_error, 0.01):.{digits}f} px"
        return f"{focal}, k₁ {field.k1:.4f}, by {field.matched} stars"
    lens = report["lens"]
    return f"about {lens['focal_px']:.0f} px, k₁ {lens['k1']:.4f}, by how the frames turned"


@register.filter
def option(value: str | float, name: str) -> str:
    """A value of an option of stacks in words."""
    return OPTIONS[name].words(value)


@dataclass(frozen=True)
class Caption:
    """What a strip of bars shows: for those who cannot see it, its unit and digits, and the words below
    it."""

    label: str
    unit: str
    digits: int
    words: str


CAPTIONS = {
    "residual": Caption(
        "Residual of the stars of each frame in px",
        "px",
        2,
        "how far its stars lie off, faint ones count less; gap: the reference, or left out",
    ),
    "widths": Caption("Star width of each frame in px", "px", 1, "width of the stars"),
    "widths_and_stack": Caption(
        "Star width of each frame in px", "px", 1, "width of the stars; dashed: in the stack"
    ),
    "light": Caption(
        "Share of the stars' light in each frame, against the reference",
        "×",
        2,
        "light of the stars against the reference; normalized before combining",
    ),
}


@register.inclusion_tag("stacks/drawings/bars.html")
def frame_bars(what: str, strip: Data, breaks: list[float], line_y: float | None = None) -> Data:
    """A strip of bars, one a frame, with a dashed line where one is given."""
    caption = CAPTIONS[what]
    most = f"{strip['most']:.{caption.digits}f} {caption.unit}"
    return {"strip": strip, "breaks": breaks, "caption": caption, "most": most, "line_y": line_y}


@register.inclusion_tag("stacks/drawings/drift.html")
def ground_drift(drift: Data, breaks: list[float]) -> Data:
    """Where the ground lay in each frame."""
    return {"drift": drift, "breaks": breaks}


@register.inclusion_tag("stacks/drawings/levels.html")
def background_levels(level: Data, breaks: list[float]) -> Data:
    """What was added to each frame's background."""
    return {"level": level, "breaks": breaks}


@register.inclusion_tag("stacks/drawings/noise.html")
def noise_by_count(noise: Data) -> Data:
    """Noise against the number of frames."""
    return {"noise": noise}


@register.inclusion_tag("stacks/drawings/sharpness.html")
def sharpness_bars(lucky: Data) -> Data:
    """Sharpness of all frames from the best to the worst, the kept ones marked."""
    values = lucky["sharpness"]
    wide = 300 / max(len(values), 1)
    bars = [
        {
            "x": round(i * wide, 2),
            "y": round(60 * (1 - v), 1),
            "height": round(60 * v, 1),
            "kept": i < lucky["kept"],
        }
        for i, v in enumerate(values)
    ]
    return {"bars": bars, "wide": round(max(wide - 0.4, 0.5), 2), "lucky": lucky}
