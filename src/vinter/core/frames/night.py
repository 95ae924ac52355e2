"""Is it a night sky? Told from how much light fell on the sensor, and, where the file does not say how it was
exposed, from the width of what could be stars."""

from enum import StrEnum

SATURATION = 100.0  # cd s ISO/m^2 of a scene that fills the scale through f/1
USUAL_APERTURE = 1.9  # f-number of a phone whose file names none
LIT, DAY = (
    0.15,
    30.0,
)  # cd/m^2 from which no star is seen: the brightest town's sky has 0.05, a street at night 1
WIDEST_STAR, LEAST_WIDTH = 12.0, 1000  # px that a star may be wide, in pictures at least so wide
DETAIL, MUCH_DETAIL = 0.1, 0.2  # structure over which it is no sky, whatever stands in it
FEW = 15  # stars that a starry sky shows at least


class Light(StrEnum):
    """What light a picture was taken in, as far as it can be told; the values are said."""

    NIGHT = ""
    LIT = "no night sky in it: dusk, a lit room or a street at night"
    DAY = "no night sky in it: daylight"
    NO_STARS = "no night sky that can be told: what stands out in it is no star"


def luminance(
    level: float, exposure_s: float | None, iso: int | None, aperture: float | None
) -> float | None:
    """Luminance in cd/m^2 of what gave a level (share of full scale, linear); good to a factor of two. None
    when the file does not say how it was exposed."""
    if not exposure_s or not iso or exposure_s <= 0 or iso <= 0:
        return None
    number = aperture or USUAL_APERTURE
    return level * SATURATION * number**2 / (exposure_s * iso)


def light_of(
    level: float,
    settings: tuple[float | None, int | None, float | None],
    width: int,
    stars: int,
    fwhm: float,
    structure: float,
) -> Light:
    """The light of a picture with a median level, taken with exposure (s), ISO and f-number, ``width`` px
    wide, whose ``stars`` ``stars`` specks are ``fwhm`` px wide and whose detail is ``structure``."""
    found = luminance(level, *settings)
    if found is not None:
        return Light.DAY if found > DAY else Light.LIT if found > LIT else Light.NIGHT
    wide = width >= LEAST_WIDTH and fwhm > WIDEST_STAR and structure > DETAIL
    if wide or (stars < FEW and structure > MUCH_DETAIL):
        return Light.NO_STARS
    return Light.NIGHT
