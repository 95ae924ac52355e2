"""Coast and borders of the world: lines to draw for a region, and which of its cells are land."""

from dataclasses import dataclass
from functools import cache
from pathlib import Path

import cv2
import numpy as np
import numpy.typing as npt

from vinter.core.errors import BadInput

Array = npt.NDArray[np.float64]
DATA = Path(__file__).parents[1] / "sky" / "data" / "land.npz"
SUBPIXEL = 4  # binary digits of a pixel kept when filling coasts
FARTHEST = 1e5  # pixels: coasts are cut off here before filling


@dataclass(frozen=True)
class Region:
    """A box in degrees: south, west, north, east (west of it when it crosses no date line)."""

    south: float
    west: float
    north: float
    east: float

    def __post_init__(self) -> None:
        if not (-85 <= self.south < self.north <= 85 and -540 <= self.west < self.east <= 540 and self.east - self.west <= 360):
            raise BadInput(f"the region {self.south:g}, {self.west:g} to {self.north:g}, {self.east:g} is not a box on the map")


def around(lat: float, lon: float, km: float) -> Region:
    """The box that holds a circle of a radius about a place; cut off at 85 degrees of latitude."""
    high = km / 111.2
    wide = km / (111.2 * max(float(np.cos(np.radians(min(abs(lat) + high, 84)))), 0.05))
    return Region(max(lat - high, -85), lon - min(wide, 179), min(lat + high, 85), lon + min(wide, 179))


@dataclass(frozen=True)
class _Atlas:
    points: Array  # (n, 2) longitude, latitude in degrees
    starts: npt.NDArray[np.int64]  # first point of each arc, and the end
    boxes: Array  # (arcs, 4) west, south, east, north
    rings: list[npt.NDArray[np.int32]]
    coast: npt.NDArray[np.bool_]


@cache
def _atlas() -> _Atlas:
    with np.load(DATA) as data:
        starts = np.concatenate([[0], np.cumsum(data["counts"])])
        steps = data["steps"].astype(np.int64)
        total = np.cumsum(steps, axis=0)
        before = np.repeat(np.concatenate([[[0, 0]], total[starts[1:-1] - 1]]), data["counts"], axis=0)
        points = (total - before) * data["scale"] + data["origin"]
        rings = np.split(data["ring_arcs"], np.cumsum(data["ring_counts"])[:-1])
    boxes = np.concatenate([np.minimum.reduceat(points, starts[:-1]), np.maximum.reduceat(points, starts[:-1])], axis=1)
    coast = np.zeros(len(starts) - 1, bool)
    used = np.concatenate(rings)
    coast[np.where(used < 0, ~used, used)] = True
    return _Atlas(points, starts, boxes, rings, coast)


def _arc(atlas: _Atlas, index: int) -> Array:
    """Points of an arc, backwards when the index is a complement."""
    i = ~index if index < 0 else index
    line = atlas.points[atlas.starts[i]:atlas.starts[i + 1]]
    return line[::-1] if index < 0 else line


def _shifts(region: Region) -> list[float]:
    """Turns of 360 degrees by which the world's copies reach into a region."""
    return [s for s in (-360.0, 0.0, 360.0) if region.west < 180 + s and region.east > -180 + s]


def lines(region: Region, step: float) -> list[tuple[bool, Array]]:
    """Coasts (True) and borders (False) in a region as (n, 2) longitude, latitude, simplified to ``step`` degrees."""
    atlas, out = _atlas(), []
    for shift in _shifts(region):
        west, east = region.west - shift, region.east - shift
        b = atlas.boxes
        for i in np.flatnonzero((b[:, 2] >= west) & (b[:, 0] <= east) & (b[:, 3] >= region.south) & (b[:, 1] <= region.north)):
            line = cv2.approxPolyDP(_arc(atlas, int(i)).astype(np.float32)[:, None], step, False)[:, 0].astype(float)
            if len(line) > 1:
                out.append((bool(atlas.coast[i]), line + np.array([shift, 0.0])))
    return out


def land_mask(region: Region, rows: int, columns: int) -> npt.NDArray[np.bool_]:
    """Which cells of a grid over a region are land; rows run from north to south. Coasts are right to 1 or 2 km."""
    atlas, filled = _atlas(), np.zeros((rows, columns), np.uint8)
    scale = np.array([columns / (region.east - region.west), -rows / (region.north - region.south)])
    shapes = []
    for shift in _shifts(region):
        origin = np.array([region.west - shift, region.north])
        for ring in atlas.rings:
            boxes = atlas.boxes[np.where(ring < 0, ~ring, ring)]
            if boxes[:, 2].max() < region.west - shift or boxes[:, 0].min() > region.east - shift or boxes[:, 3].max() < region.south \
                    or boxes[:, 1].min() > region.north:
                continue
            corner = (np.concatenate([_arc(atlas, int(a)) for a in ring]) - origin) * scale
            shapes.append(np.round(np.clip(corner, -FARTHEST, FARTHEST) * 2**SUBPIXEL).astype(np.int32))
    if shapes:
        cv2.fillPoly(filled, shapes, 1, shift=SUBPIXEL)
    return filled.astype(bool)


def on_land(lat: float, lon: float) -> bool:
    """Whether a place is on land, to 1 or 2 km."""
    return bool(land_mask(around(lat, lon, 20), 41, 41)[20, 20])
