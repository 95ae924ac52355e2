"""A stack as linear DNG: demosaiced camera RGB that RAW developers open."""

from pathlib import Path

import numpy as np
import numpy.typing as npt
import tifffile

from vinter.core.formats.whole import whole

F32 = npt.NDArray[np.float32]
LINEAR_RAW = 34892
WHITE = 65535
D65 = 21
BLACK = 2048  # level of black, so that noise below it is kept


def _rationals(values: npt.NDArray[np.float64], scale: int = 10_000) -> tuple[int, ...]:
    return tuple(int(v) for x in values.ravel() for v in (round(float(x) * scale), scale))


def write_linear_dng(
    path: Path,
    picture: F32,
    neutral: tuple[float, float, float],
    xyz_to_camera: npt.NDArray[np.float64],
    camera: str = "Vinter stack",
) -> None:
    """Linear RGB (height, width, 3), 0 black and 1 white, as 16-bit uncompressed DNG 1.4 with its colour
    data."""
    data = np.clip(np.round(picture * (WHITE - BLACK) + BLACK), 0, WHITE).astype(np.uint16)
    tags = [
        (50706, "B", 4, (1, 4, 0, 0), True),
        (50707, "B", 4, (1, 1, 0, 0), True),
        (50708, "s", 0, camera, True),
        (50714, "H", 3, (BLACK,) * 3, True),
        (50717, "H", 3, (WHITE,) * 3, True),
        (50721, "2i", 9, _rationals(xyz_to_camera), True),
        (50728, "2I", 3, _rationals(np.array(neutral)), True),
        (50778, "H", 1, D65, True),
    ]
    with whole(path) as draft:
        tifffile.imwrite(
            draft,
            data,
            photometric=LINEAR_RAW,
            planarconfig="contig",
            extratags=tags,
            metadata=None,
            software="Vinter",
            rowsperstrip=data.shape[0],
        )
