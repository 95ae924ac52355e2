"""Electrons from sky and stars, noise and contrast. Pitch in um, brightness in V magnitudes."""

import numpy as np
import numpy.typing as npt

from vinter.core.camera.phones import Lens
from vinter.core.constants import ARCSEC_PER_RADIAN

PHOTONS_V0 = 1e7  # photons per second, square metre and angstrom at V = 0
BANDWIDTH = 1000.0  # Angstrom


def sky_rate(lens: Lens, mag_arcsec2: float) -> float:
    """Sky electrons per second and output pixel for a surface brightness in mag/arcsec^2 (+-30 %)."""
    flux = PHOTONS_V0 * 10 ** (-0.4 * mag_arcsec2) * BANDWIDTH * lens.quantum_efficiency
    return float(flux * np.pi / 4 * (lens.pitch * 1e-6 / lens.aperture) ** 2 * ARCSEC_PER_RADIAN**2)


def star_rate(lens: Lens, magnitude: float) -> float:
    """Electrons per second from a star of a V magnitude, all its pixels together."""
    flux = PHOTONS_V0 * 10 ** (-0.4 * magnitude) * BANDWIDTH * lens.quantum_efficiency
    return float(flux * np.pi / 4 * (lens.focal * 1e-3 / lens.aperture) ** 2)


def noise(lens: Lens, electrons: float, seconds: float, iso: float) -> float:
    """Noise in electrons of one output pixel: shot, dark current and read noise."""
    return float(np.sqrt(electrons + lens.dark_current * seconds + lens.noise_at(iso) ** 2))


def snr(lens: Lens, signal_rate: float, sky: float, seconds: float, iso: float, frames: int = 1) -> float:
    """Signal to noise of a surface brightness (signal_rate e/s on a sky of ``sky`` e/s) in a stack."""
    return float(
        np.sqrt(frames) * signal_rate * seconds / noise(lens, (signal_rate + sky) * seconds, seconds, iso)
    )


def srgb(linear: npt.NDArray[np.float64]) -> npt.NDArray[np.float64]:
    """The sRGB-encoded levels of linear ones, both 0 to 1, any shape."""
    x = np.clip(linear, 0, 1)
    return np.where(x <= 0.0031308, 12.92 * x, 1.055 * x ** (1 / 2.4) - 0.055)


def encoded(linear: float) -> float:
    """The sRGB-encoded level of a linear one, both 0 to 1: where a histogram shows it."""
    return float(srgb(np.asarray(linear, float)))


def star_clipping(
    lens: Lens, seconds: float, iso: float, fwhm_px: float = 2.6, trail_px: float = 0.0
) -> float:
    """V magnitude at which a star's peak reaches the white level (brighter ones clip)."""
    sigma = fwhm_px / 2.355
    area = 2 * np.pi * sigma**2 + np.sqrt(2 * np.pi) * sigma * trail_px
    return float(2.5 * np.log10(star_rate(lens, 0.0) * seconds / area / lens.full_scale(iso)))
