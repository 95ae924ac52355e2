"""What a measured sky says of its light."""

from vinter.core.versions import Data

MOONLIGHT = 1.2  # mag: a sky without a Moon is up to 0.8 mag brighter at 22 degrees than at its zenith


def under_moon(sky: Data | None) -> bool:
    """Whether a stored measurement of the sky holds moonlight: at its highest place it is brighter by
    ``MOONLIGHT`` than the zenith would be without a Moon. False where nothing was measured."""
    if not sky or not sky.get("by_altitude"):
        return False
    _, highest = max((float(altitude), float(value)) for altitude, value in sky["by_altitude"])
    return bool(float(sky["zenith"]) - highest > MOONLIGHT)
