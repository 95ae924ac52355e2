"""Focus: from where on everything is sharp."""

from vinter.core.camera.phones import Lens

CIRCLE_PX = 2.0  # of blur that still counts as sharp when a picture is looked at pixel by pixel


def hyperfocal(lens: Lens, circle_px: float = CIRCLE_PX) -> float:
    """Hyperfocal distance f^2/(N c) + f in metres: focused at infinity, all beyond it is within ``circle_px`` of blur."""
    circle_mm = circle_px * lens.pitch / 1000
    return (lens.focal**2 / (lens.aperture * circle_mm) + lens.focal) / 1000


def blur_px(lens: Lens, distance: float) -> float:
    """Blur in px of something at a distance in metres when the lens is focused at infinity."""
    return lens.focal**2 / (lens.aperture * distance * 1000) / (lens.pitch / 1000)
