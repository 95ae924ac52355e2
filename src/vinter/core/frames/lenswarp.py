"""The lens warp a phone writes into its DNG (opcode WarpRectilinear): where each pixel of the straight
picture comes from."""

import struct
from dataclasses import dataclass

import cv2
import numpy as np
import numpy.typing as npt

Array = npt.NDArray[np.float64]
F32 = npt.NDArray[np.float32]
BAND = 256  # rows worked at once
# Quarter turns counter-clockwise and mirroring that bring an EXIF orientation upright.
UPRIGHT = {
    1: (0, False),
    2: (0, True),
    3: (2, False),
    4: (2, True),
    5: (3, True),
    6: (3, False),
    7: (1, True),
    8: (1, False),
}


BENT_STEP, BENT_ROUNDS = 16, 12  # px between places that are bent back exactly, and rounds until they are


@dataclass(frozen=True)
class LensWarp:
    """Radial terms (r^0, r^2, r^4, r^6) and two tangential ones for one plane or for three (red, green,
    blue), the centre as shares of the frame as stored, and the EXIF orientation that turns the frame upright.
    DNG specification 1.4, chapter 6."""

    planes: tuple[tuple[float, ...], ...]
    centre: tuple[float, float]
    orientation: int = 1

    def source(self, xy: Array, size: tuple[int, int], plane: int = 1) -> Array:
        """Where pixels (n, 2) of the straight upright picture of a size (width, height) lie in the picture as
        shot."""
        quarter, mirrored = UPRIGHT.get(self.orientation, (0, False))
        stored = size if quarter % 2 == 0 else size[::-1]
        here = _unturned(xy, size, quarter, mirrored)
        width, height = stored
        c = np.array([self.centre[0] * (width - 1), self.centre[1] * (height - 1)])
        far = float(np.hypot(max(c[0], width - 1 - c[0]), max(c[1], height - 1 - c[1])))
        d = (here - c) / far
        x, y = d[:, 0], d[:, 1]
        r2 = x * x + y * y
        k = self.planes[min(plane, len(self.planes) - 1)]
        radial = k[0] + r2 * (k[1] + r2 * (k[2] + r2 * k[3]))
        moved = np.c_[
            x * radial + k[4] * 2 * x * y + k[5] * (r2 + 2 * x * x),
            y * radial + k[5] * 2 * x * y + k[4] * (r2 + 2 * y * y),
        ]
        return _turned(c + far * moved, size, quarter, mirrored)

    def most_px(self, size: tuple[int, int]) -> float:
        """How far the warp moves a corner, px."""
        w, h = size
        corners = np.array([[0, 0], [w - 1, 0], [w - 1, h - 1], [0, h - 1]], float)
        return float(np.hypot(*(self.source(corners, size) - corners).T).max())

    def as_shot(self, picture: F32) -> F32:
        """A straight picture (height, width) bent back to how the lens drew it: the inverse of
        ``straightened``, to a hundredth of a pixel."""
        height, width = picture.shape
        x, y = np.meshgrid(np.arange(width, dtype=float), np.arange(height, dtype=float))
        coarse = np.c_[x[::BENT_STEP, ::BENT_STEP].ravel(), y[::BENT_STEP, ::BENT_STEP].ravel()]
        there = coarse.copy()
        for _ in range(BENT_ROUNDS):
            there += coarse - self.source(there, (width, height))
        shape = x[::BENT_STEP, ::BENT_STEP].shape
        rows, columns = np.float32(y / BENT_STEP), np.float32(x / BENT_STEP)
        off = [
            cv2.remap(
                np.float32((there - coarse)[:, k].reshape(shape)),
                columns,
                rows,
                cv2.INTER_CUBIC,
                borderMode=cv2.BORDER_REPLICATE,
            )
            for k in (0, 1)
        ]
        return np.asarray(
            cv2.remap(
                np.ascontiguousarray(picture, np.float32),
                np.float32(x) + off[0],
                np.float32(y) + off[1],
                cv2.INTER_LINEAR,
                borderMode=cv2.BORDER_REPLICATE,
            )
        )

    def straightened(self, picture: F32) -> F32:
        """A picture (height, width[, 3]) as shot made straight, cubic; its edge is repeated where the warp
        reaches over it."""
        height, width = picture.shape[:2]
        out = np.empty_like(picture)
        three = len(self.planes) == 3 and picture.ndim == 3
        for y0 in range(0, height, BAND):
            y1 = min(y0 + BAND, height)
            x, y = np.meshgrid(np.arange(width, dtype=float), np.arange(y0, y1, dtype=float))
            xy = np.c_[x.ravel(), y.ravel()]
            for plane in (0, 1, 2) if three else (1,):
                at = self.source(xy, (width, height), plane).astype(np.float32).reshape(y1 - y0, width, 2)
                part = picture[..., plane] if three else picture
                moved = cv2.remap(
                    np.ascontiguousarray(part), at, None, cv2.INTER_CUBIC, borderMode=cv2.BORDER_REPLICATE
                )
                if three:
                    out[y0:y1, :, plane] = moved
                else:
                    out[y0:y1] = moved
        return out


def _unturned(xy: Array, size: tuple[int, int], quarter: int, mirrored: bool) -> Array:
    """Upright pixels in the frame as stored: the inverse of mirroring and then turning by quarters
    counter-clockwise."""
    (w, h), (x, y) = size, xy.T
    for _ in range(quarter):
        x, y, w, h = h - 1 - y, x, h, w
    return np.asarray(np.c_[w - 1 - x if mirrored else x, y])


def _turned(xy: Array, size: tuple[int, int], quarter: int, mirrored: bool) -> Array:
    """Stored pixels in the upright picture of a size."""
    w, h = size if quarter % 2 == 0 else size[::-1]
    x, y = xy.T
    x = w - 1 - x if mirrored else x
    for _ in range(quarter):
        x, y, w, h = y, w - 1 - x, h, w
    return np.asarray(np.c_[x, y])


def parse(parameters: bytes) -> LensWarp | None:
    """The warp of an opcode's parameters; None when they make no sense."""
    if len(parameters) < 4:
        return None
    count = struct.unpack(">I", parameters[:4])[0]
    if count not in (1, 3) or len(parameters) < 4 + 48 * count + 16:
        return None
    values = struct.unpack(f">{6 * count + 2}d", parameters[4 : 4 + 48 * count + 16])
    planes = tuple(tuple(values[6 * i : 6 * i + 6]) for i in range(count))
    fair = np.isfinite(values).all() and all(0.5 < p[0] < 2 and max(map(abs, p[1:])) < 2 for p in planes)
    return (
        LensWarp(planes, (values[-2], values[-1]))
        if fair and 0 <= values[-2] <= 1 and 0 <= values[-1] <= 1
        else None
    )
