"""A stack as FITS, with the coordinates of its field when they are known."""

from pathlib import Path

import numpy as np
import numpy.typing as npt
from astropy.io import fits

from vinter.core.formats.whole import whole

F32 = npt.NDArray[np.float32]


def wcs_cards(
    rotation: list[list[float]], focal_px: float, k1: float, width: int, height: int
) -> dict[str, float | str | int]:
    """Header of a gnomonic projection with the radial term as SIP, for a picture stored bottom row first.

    ``rotation`` takes ICRS vectors to the camera (right, down, forward). The radial term is inverted to first
    order: good to 0.5 px at 2 % of distortion.
    """
    right, down, forward = np.array(rotation)
    ra, dec = np.degrees(np.arctan2(forward[1], forward[0])) % 360, np.degrees(np.arcsin(forward[2]))
    a, d = np.radians([ra, dec])
    east = np.array([-np.sin(a), np.cos(a), 0.0])
    north = np.array([-np.sin(d) * np.cos(a), -np.sin(d) * np.sin(a), np.cos(d)])
    step = np.degrees(1 / focal_px)
    up = -down
    bend = -k1 / focal_px**2
    return {
        "CTYPE1": "RA---TAN-SIP",
        "CTYPE2": "DEC--TAN-SIP",
        "CRVAL1": float(ra),
        "CRVAL2": float(dec),
        "CRPIX1": (width + 1) / 2,
        "CRPIX2": (height + 1) / 2,
        "CUNIT1": "deg",
        "CUNIT2": "deg",
        "CD1_1": float(step * (right @ east)),
        "CD1_2": float(step * (up @ east)),
        "CD2_1": float(step * (right @ north)),
        "CD2_2": float(step * (up @ north)),
        "A_ORDER": 3,
        "B_ORDER": 3,
        "A_3_0": bend,
        "A_1_2": bend,
        "B_0_3": bend,
        "B_2_1": bend,
        "RADESYS": "ICRS",
        "EQUINOX": 2000.0,
    }


def write_fits(path: Path, picture: F32, cards: dict[str, float | str | int] | None = None) -> None:
    """Write linear RGB (height, width, 3) as a FITS cube (3, height, width), lowest row first."""
    cube = np.ascontiguousarray(np.moveaxis(picture[::-1], 2, 0), np.float32)
    header = fits.Header()
    header["BUNIT"] = ("share of white", "0 black, 1 white level")
    header["CTYPE3"] = "RGB"
    for name, value in (cards or {}).items():
        header[name] = value
    with whole(path) as draft:
        fits.PrimaryHDU(cube, header).writeto(draft)
