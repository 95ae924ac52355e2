"""Linear DNG of merged modes that LibRaw does not unpack: floating point, deflated, or in JPEG XL."""

from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np
import numpy.typing as npt
import tifffile

from vinter.core.errors import BadInput
from vinter.core.frames.dng import LINEAR_RAW, UNREADABLE, colour_tags, numbers

DEFLATED, JPEG_XL = {8, 32946}, 52546
FLOATING = 3  # value of the tag that says how samples are stored
PEDESTAL = 1024  # levels under black, in which noise stays
HIGHEST = 4.0  # times the white level, where the 16 bits of floating-point light end: in every frame alike
FULL = 65535


@dataclass(frozen=True, kw_only=True)
class MergedLinear:
    """Camera RGB (h, w, 3) as stored, or brought to 16 bits; black and white levels, the colour tags (None
    where absent), and how it is turned."""

    data: npt.NDArray[np.uint16]
    black: float
    white: float
    neutral: npt.NDArray[np.float64] | None
    matrix: npt.NDArray[np.float64] | None
    orientation: int


def _linear_page(file: tifffile.TiffFile) -> tifffile.TiffPage | None:
    """The directory with linear RGB that only this module unpacks, or None."""
    first: Any = file.pages[0]
    for page in (first, *(first.pages or ())):
        if (tag := page.tags.get(262)) is None or int(tag.value) != LINEAR_RAW or page.samplesperpixel < 3:
            continue
        if page.sampleformat == FLOATING or int(page.compression) in DEFLATED | {JPEG_XL}:
            return page
    return None


def _level(page: tifffile.TiffPage, code: int, usual: float) -> float:
    tag = page.tags.get(code)
    return float(numbers(tag.value, tag.dtype).max()) if tag else usual


def _in_16_bits(
    values: npt.NDArray[np.generic], black: float, white: float
) -> tuple[npt.NDArray[np.uint16], float, float]:
    """Floating-point light as 16 bits with its black and white: what is brighter than white keeps its place
    up to ``HIGHEST`` times as much."""
    light = (np.nan_to_num(values[..., :3].astype(np.float32)) - black) / max(white - black, 1e-9)
    data = np.clip(light / HIGHEST * (FULL - PEDESTAL) + PEDESTAL + 0.5, 0, FULL).astype(np.uint16)
    return data, float(PEDESTAL), float(FULL)


def merged_linear(path: Path, check_size: Callable[[Path, int, int], None]) -> MergedLinear | None:
    """The picture of such a file, or None for any other (broken files included).

    Raises:
        BadInput: what ``check_size`` (path, width, height) raises of a picture that is too large.
    """
    try:
        with tifffile.TiffFile(path) as file:
            first: Any = file.pages[0]
            page = _linear_page(file)
            if page is None or 50706 not in first.tags:
                return None
            check_size(path, page.imagewidth, page.imagelength)
            values = np.asarray(page.asarray(maxworkers=1))
            floating = np.issubdtype(values.dtype, np.floating)
            if values.ndim != 3 or not (floating or values.dtype == np.uint16):
                return None
            black = _level(page, 50714, 0.0)
            white = _level(page, 50717, 1.0 if floating else float(FULL))
            data = np.ascontiguousarray(values[..., :3])
            if floating:
                data, black, white = _in_16_bits(values, black, white)
            neutral, matrix, orientation = colour_tags(first.tags)
            return MergedLinear(
                data=data,
                black=black,
                white=white,
                neutral=neutral,
                matrix=matrix,
                orientation=orientation,
            )
    except BadInput:
        raise
    except UNREADABLE:
        return None
