"""Finding and measuring stars on the half-size green plane. All results are in full-frame pixels."""

from dataclasses import dataclass

import numpy as np
import numpy.typing as npt
import sep

from vinter.core.frames.windowed import windowed

Array = npt.NDArray[np.float64]
F32 = npt.NDArray[np.float32]
PIXELS, MOST_PIXELS = (
    300_000,
    3_000_000,
)  # room for pixels above the threshold: it is cleared for every frame, so it is small at first
THRESHOLD = 4.5  # standard deviations of the background
MOST = 4000
PLACE_ERROR, PLACE_FLOOR = (
    2.1,
    0.03,
)  # px: of a star whose peak is one deviation of the background, and of the brightest
BACKGROUND_BOX = 64
WINDOW = 1.3  # half-size px, standard deviation of the window in which places are measured


@dataclass(frozen=True, kw_only=True)
class Stars:
    """Stars brightest first: places (px, first pixel centre 0, 0), flux, peak, FWHM, elongation, angle (deg),
    and the error of their places (px, one axis)."""

    x: Array
    y: Array
    flux: Array
    peak: Array
    fwhm: Array
    elongation: Array
    angle: Array
    error: Array

    def __len__(self) -> int:
        return len(self.x)

    @property
    def xy(self) -> Array:
        """Places as (n, 2)."""
        return np.asarray(np.c_[self.x, self.y])

    def take(self, index: npt.NDArray[np.generic]) -> "Stars":
        """Some of the stars."""
        return Stars(**{n: getattr(self, n)[index] for n in self.__dataclass_fields__})


@dataclass(frozen=True)
class Detection:
    """Stars of a frame."""

    stars: Stars


@dataclass(frozen=True)
class Background:
    """Smooth background of the half-size plane, its noise, and what stands over it, in the plane's units."""

    level: F32
    noise: float
    signal: F32


def background(plane: F32) -> Background:
    """Background by sigma-clipped boxes of 64 half-size pixels."""
    found = sep.Background(np.ascontiguousarray(plane), bw=BACKGROUND_BOX, bh=BACKGROUND_BOX, fw=3, fh=3)
    level = found.back()
    return Background(level, float(found.globalrms), plane - level)


def _extracted(signal: F32, pixels: int, **how: object) -> npt.NDArray[np.void] | None:
    """What the extraction finds with room for this number of pixels; None when there are more."""
    sep.set_extract_pixstack(pixels)
    try:
        return np.asarray(sep.extract(signal, **how))
    except Exception as error:  # the library raises a bare Exception when its pixel stack overflows
        if "pixel" not in str(error):
            raise
        return None


def find_stars(plane: F32, floor: Background | None = None, threshold: float = THRESHOLD) -> Detection:
    """Stars on a half-size plane; aeroplanes and other long shapes are told apart."""
    floor = floor or background(plane)
    signal, err = floor.signal, max(floor.noise, 1e-6)
    found = None
    for pixels in (PIXELS, MOST_PIXELS):
        if found is None:
            found = _extracted(
                signal, pixels, thresh=threshold, err=err, minarea=3, deblend_cont=0.02, clean=True
            )
    if found is None:
        found = sep.extract(signal, threshold * 4, err=err, minarea=5, clean=False)
    a, b = np.maximum(found["a"], 0.3), np.maximum(found["b"], 0.3)
    long = (a / b > 5) & (a > 8)
    good = ~long & (a < 12) & (found["npix"] < 900)
    found, a, b = found[good], a[good], b[good]
    order = np.argsort(-found["flux"])[:MOST]
    found, a, b = found[order], a[order], b[order]
    x, y = windowed(signal, found["x"], found["y"], WINDOW)
    lost = ~(np.hypot(x - found["x"], y - found["y"]) <= 1)
    x, y = np.where(lost, found["x"], x), np.where(lost, found["y"], y)
    fwhm = 2 * 2.355 * np.sqrt((a * a + b * b) / 2)
    stars = Stars(
        x=2 * x + 0.5,
        y=2 * y + 0.5,
        flux=found["flux"].astype(float),
        peak=found["peak"].astype(float),
        fwhm=fwhm,
        elongation=a / b,
        angle=np.degrees(found["theta"]),
        error=np.hypot(PLACE_FLOOR, PLACE_ERROR * err / np.maximum(found["peak"].astype(float), err)),
    )
    return Detection(stars)
