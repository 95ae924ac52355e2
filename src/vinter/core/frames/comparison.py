"""Two pictures of the sky side by side: what each shows of it, in angles, so that lenses and phones can be
differences apart."""

from dataclasses import dataclass
from math import hypot, sqrt

from vinter.core.constants import ARCSEC_PER_RADIAN, EQUIVALENT_UNKNOWN_MM, FULL_FRAME_DIAGONAL_MM

F35_ERROR = 0.03  # relative error of the focal length in a file: whole millimetres, and the lens's own spread
SOLVED_ERROR = 0.002
WIDTH_ERROR, NOISE_ERROR = 0.09, 0.05  # of the measures themselves (docs/models.md)
GRAIN_ARCMIN = 10.0


@dataclass(frozen=True)
class Value:
    """A figure with its standard error, in the same unit."""

    value: float
    error: float


@dataclass(frozen=True)
class PictureQuality:
    """What a picture shows.

    Scale in arcsec a px and where it comes from; width of the stars in arcmin; grain: noise of a patch of sky
    10 arcmin square as a share of its brightness; stars found a square degree of the whole picture; how many
    frames it was made of.
    """

    scale: Value
    scale_from: str
    width: Value
    grain: Value
    density: float
    frames: int


def scale_of(
    size: tuple[int, int], f35: float | None, solved_arcsec: float | None = None
) -> tuple[Value, str]:
    """Arcsec a px in the centre of a picture (width, height): solved from its stars, else from the 35 mm
    equivalent."""
    if solved_arcsec:
        return Value(solved_arcsec, SOLVED_ERROR * solved_arcsec), "solved from the stars"
    focal_px = (f35 or EQUIVALENT_UNKNOWN_MM) / FULL_FRAME_DIAGONAL_MM * hypot(*size)
    scale = ARCSEC_PER_RADIAN / focal_px
    if f35:
        return Value(scale, F35_ERROR * scale), f"from the {f35:.0f} mm the file names"
    return Value(scale, 0.3 * scale), f"taken for a {EQUIVALENT_UNKNOWN_MM:.0f} mm lens: the file names none"


def quality(
    size: tuple[int, int],
    scale: Value,
    scale_from: str,
    fwhm_px: float,
    noise: float,
    background: float,
    stars: int,
    bayer: bool,
    frames: int = 1,
) -> PictureQuality:
    """What a picture of a size shows; ``noise`` of one sample and ``background`` as shares of full scale.

    In a Bayer frame half of the pixels are the greens whose noise was measured.
    """
    width = fwhm_px * scale.value / 60
    pixels = (GRAIN_ARCMIN * 60 / scale.value) ** 2 * (0.5 if bayer else 1.0)
    grain = noise / sqrt(pixels) / background if background > 0 else 0.0
    square_degrees = size[0] * size[1] * (scale.value / 3600) ** 2
    relative = scale.error / scale.value
    return PictureQuality(
        scale,
        scale_from,
        Value(width, width * hypot(WIDTH_ERROR, relative)),
        Value(grain, grain * hypot(NOISE_ERROR, relative)),
        stars / square_degrees,
        frames,
    )


def differences(
    a: PictureQuality, b: PictureQuality, one: str = "the left one", other: str = "the right one"
) -> list[str]:
    """What the comparison says in words, by what the two are called; what lies within the errors is called
    alike."""
    out = []
    same_scale = (
        a.scale_from == b.scale_from and abs(a.scale.value / b.scale.value - 1) < 1e-6
    )  # its error then falls out
    scale_error = 0.0 if same_scale else hypot(a.scale.error / a.scale.value, b.scale.error / b.scale.value)
    figures = (
        ("stars", a.width, b.width, "wider", "narrower", WIDTH_ERROR),
        ("sky", a.grain, b.grain, "grainier", "smoother", NOISE_ERROR),
    )
    for name, first, second, more, less, own in figures:
        if first.value <= 0 or second.value <= 0:
            continue
        ratio = second.value / first.value
        error = ratio * hypot(own * sqrt(2), scale_error)
        if abs(ratio - 1) <= 2 * error:
            out.append(
                f"The {name} {'are' if name == 'stars' else 'is'} alike within the errors: {ratio:.2f} ± "
                f"{error:.2f} times."
            )
        else:
            word, times = (more, ratio) if ratio > 1 else (less, 1 / ratio)
            out.append(
                f"The {name} in {other} {'are' if name == 'stars' else 'is'} {times:.2f} times "
                f"{word}, angle for angle "
                f"(± {times * error / ratio:.2f})."
            )
    if abs(a.scale.value / b.scale.value - 1) > 0.02:
        finer = other if b.scale.value < a.scale.value else one
        ratio = max(a.scale.value / b.scale.value, b.scale.value / a.scale.value)
        out.append(f"{finer[:1].upper()}{finer[1:]} has {ratio:.2f} times as many pixels a degree.")
    return out
