"""A stack as FITS, with the coordinates of its field when they are known."""

import unicodedata
from dataclasses import dataclass
from datetime import UTC, datetime
from pathlib import Path
from typing import Protocol

import numpy as np
import numpy.typing as npt

import vinter
from vinter.core.formats.whole import whole

F32 = npt.NDArray[np.float32]
Array = npt.NDArray[np.float64]
Cards = dict[str, float | str | int]
GRID, ORDER = 41, 6  # places along each side of the picture the terms are fitted on, and their order
LEAST_DEPTH = 0.17  # cosine of the angle from the centre beyond which a gnomonic projection is of no use
LOWEST = 0.3  # degrees of altitude, below which the air's bending is not asked to fit


class Field(Protocol):
    """What is needed of a solved field: directions of its pixels, and their altitudes where a zenith is
    known."""

    @property
    def width(self) -> int:
        """Of the picture, px."""
        ...

    @property
    def height(self) -> int:
        """Of the picture, px."""
        ...

    @property
    def zenith(self) -> tuple[float, ...]:
        """ICRS direction overhead; empty where none is known."""
        ...

    def directions(self, xy: Array) -> Array:
        """ICRS unit vectors (n, 3) of pixels (n, 2)."""
        ...

    def altitudes(self, xy: Array) -> Array:
        """Altitudes (n,) in degrees of pixels (n, 2)."""
        ...


def wcs_cards(solution: "Field") -> Cards:
    """Header of a gnomonic projection with SIP terms up to the sixth order, for a picture stored bottom row
    first.

    The terms are fitted to the solved field, lens and air's bending in one, over what stands above the
    horizon: within 0.5 px to 0.5 degrees of altitude.
    """
    width, height = solution.width, solution.height
    gx, gy = np.meshgrid(np.linspace(0, width - 1, GRID), np.linspace(0, height - 1, GRID))
    xy = np.stack([gx.ravel(), gy.ravel()], axis=1)
    middle = np.array([[(width - 1) / 2, (height - 1) / 2]])
    centre = solution.directions(middle)[0]
    ra, dec = np.degrees(np.arctan2(centre[1], centre[0])) % 360, np.degrees(np.arcsin(centre[2]))
    a, d = np.radians([ra, dec])
    east = np.array([-np.sin(a), np.cos(a), 0.0])
    north = np.array([-np.sin(d) * np.cos(a), -np.sin(d) * np.sin(a), np.cos(d)])
    vectors = solution.directions(xy)
    there = vectors @ centre > LEAST_DEPTH
    if solution.zenith:
        there &= solution.altitudes(xy) > LOWEST
    xy, vectors = xy[there], vectors[there]
    depth = vectors @ centre
    plane = np.degrees(np.stack([vectors @ east / depth, vectors @ north / depth], axis=1))
    u, v = (xy[:, 0] - middle[0, 0]), -(xy[:, 1] - middle[0, 1])  # rows are stored from the bottom
    unit = float(max(width, height)) / 2
    powers = [(i, j) for total in range(1, ORDER + 1) for j in range(total + 1) for i in (total - j,)]
    design = np.stack([(u / unit) ** i * (v / unit) ** j for i, j in powers], axis=1)
    terms, *_ = np.linalg.lstsq(design, plane, rcond=None)
    linear = terms[:2].T / unit  # degrees a pixel; columns u, v
    bent = np.linalg.solve(linear, terms[2:].T)
    cards: Cards = {
        "CTYPE1": "RA---TAN-SIP",
        "CTYPE2": "DEC--TAN-SIP",
        "CRVAL1": float(ra),
        "CRVAL2": float(dec),
        "CRPIX1": (width + 1) / 2,
        "CRPIX2": (height + 1) / 2,
        "CUNIT1": "deg",
        "CUNIT2": "deg",
        "CD1_1": float(linear[0, 0]),
        "CD1_2": float(linear[0, 1]),
        "CD2_1": float(linear[1, 0]),
        "CD2_2": float(linear[1, 1]),
        "A_ORDER": ORDER,
        "B_ORDER": ORDER,
        "RADESYS": "ICRS",
        "EQUINOX": 2000.0,
    }
    for (i, j), (x_term, y_term) in zip(powers[2:], bent.T, strict=True):
        scale = unit ** (i + j)
        cards[f"A_{i}_{j}"], cards[f"B_{i}_{j}"] = float(x_term / scale), float(y_term / scale)
    return cards


@dataclass(frozen=True, kw_only=True)
class Taken:
    """How a picture was taken, for its header; what is not known is None or empty."""

    unix: float | None = None
    exposure: float | None = None
    frames: int | None = None
    camera: str = ""
    lens: str = ""
    iso: int | None = None
    aperture: float | None = None
    title: str = ""
    site: tuple[float, float, float] | None = None


def taken_cards(taken: Taken) -> Cards:
    """Header cards of how a picture was taken: start in UTC, seconds a frame, frames, camera, site in degrees
    and metres."""
    lat, lon, metres = taken.site or (None, None, None)
    start = datetime.fromtimestamp(taken.unix, UTC) if taken.unix is not None else None
    cards = {
        "DATE-OBS": start.strftime("%Y-%m-%dT%H:%M:%S.%f")[:-3] if start else None,
        "TIMESYS": "UTC" if start else None,
        "EXPTIME": taken.exposure,
        "NCOMBINE": taken.frames,
        "XPOSURE": taken.exposure * taken.frames if taken.exposure and taken.frames else None,
        "INSTRUME": plain(taken.camera),
        "LENS": plain(taken.lens),
        "ISOSPEED": taken.iso,
        "FNUMBER": taken.aperture,
        "OBJECT": plain(taken.title),
        "SITELAT": lat,
        "SITELONG": lon,
        "SITEELEV": metres,
        "CREATOR": f"Vinter {vinter.__version__}",
    }
    return {name: value for name, value in cards.items() if value not in (None, "")}


def plain(text: str) -> str:
    """Text as a header may hold it: ASCII, 60 characters."""
    flat = unicodedata.normalize("NFKD", text).encode("ascii", "ignore").decode()
    return "".join(c for c in flat if c.isprintable())[:60]


def write_fits(path: Path, picture: F32, cards: Cards | None = None) -> None:
    """Write linear RGB (height, width, 3) as a FITS cube (3, height, width), lowest row first."""
    from astropy.io import fits  # half a second, for few processes

    cube = np.ascontiguousarray(np.moveaxis(picture[::-1], 2, 0), np.float32)
    header = fits.Header()
    header["BUNIT"] = ("share of white", "0 black, 1 white level")
    header["CTYPE3"] = "RGB"
    for name, value in (cards or {}).items():
        header[name] = value
    with whole(path) as draft:
        fits.PrimaryHDU(cube, header).writeto(draft)
