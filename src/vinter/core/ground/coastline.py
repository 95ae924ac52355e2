"""Coast and borders of the world: lines to draw for a region, and which of its cells are land."""

from dataclasses import dataclass
from functools import cache
from itertools import pairwise
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
        if not (
            -85 <= self.south < self.north <= 85
            and -540 <= self.west < self.east <= 540
            and self.east - self.west <= 360
        ):
            raise BadInput(
                f"the region {self.south:g}, {self.west:g} to {self.north:g}, {self.east:g} is not a box on "
                "the map"
            )


def around(lat: float, lon: float, km: float) -> Region:
    """The box that holds a circle of a radius about a place; cut off at 85 degrees of latitude."""
    high = km / 111.2
    wide = km / (111.2 * max(float(np.cos(np.radians(min(abs(lat) + high, 84)))), 0.05))
    return Region(max(lat - high, -85), lon - min(wide, 179), min(lat + high, 85), lon + min(wide, 179))


@dataclass(frozen=True)
class _Lines:
    """Polylines of (longitude, latitude) in degrees, unwrapped over the date line, with their boxes (west,
    south, east, north)."""

    points: list[Array]
    boxes: Array


def _unwrapped(points: Array) -> Array:
    return np.stack([np.degrees(np.unwrap(np.radians(points[:, 0]))), points[:, 1]], axis=1)


def _closed(ring: Array) -> Array:
    """A ring that goes round the pole, closed through it."""
    ring = _unwrapped(ring)
    first, last = ring[0, 0], ring[-1, 0]
    return ring if abs(last - first) < 180 else np.concatenate([ring, [[last, -90.0], [first, -90.0]]])


def _boxed(points: list[Array]) -> _Lines:
    return _Lines(points, np.array([[*p.min(axis=0), *p.max(axis=0)] for p in points]))


@cache
def _atlas() -> tuple[_Lines, npt.NDArray[np.bool_], _Lines]:
    """Arcs, which of them are coast, and the rings of the land."""
    with np.load(DATA) as data:
        starts = np.concatenate([[0], np.cumsum(data["counts"])])
        total = np.cumsum(data["steps"].astype(np.int64), axis=0)
        before = np.repeat(np.concatenate([[[0, 0]], total[starts[1:-1] - 1]]), data["counts"], axis=0)
        points = (total - before) * data["scale"] + data["origin"]
        members, sizes = data["ring_arcs"], data["ring_counts"]
    arcs = [points[a:b] for a, b in pairwise(starts)]
    coast = np.zeros(len(arcs), bool)
    coast[np.where(members < 0, ~members, members)] = True
    rings = [
        np.concatenate([arcs[~i][::-1] if i < 0 else arcs[i] for i in ring])
        for ring in np.split(members, np.cumsum(sizes)[:-1])
    ]
    return _boxed([_unwrapped(a) for a in arcs]), coast, _boxed([_closed(r) for r in rings])


def _copies(found: _Lines, region: Region) -> list[tuple[int, float]]:
    """Lines that touch a region, each with the turn of 360 degrees that brings it there."""
    west, south, east, north = found.boxes.T
    out = []
    for shift in (-720.0, -360.0, 0.0, 360.0, 720.0):
        touch = (
            (east + shift >= region.west)
            & (west + shift <= region.east)
            & (north >= region.south)
            & (south <= region.north)
        )
        out += [(int(i), shift) for i in np.flatnonzero(touch)]
    return out


def lines(region: Region, step: float) -> list[tuple[bool, Array]]:
    """Coasts (True) and borders (False) in a region as (n, 2) longitude, latitude, simplified to ``step``
    degrees."""
    arcs, coast, _ = _atlas()
    out = []
    for i, shift in _copies(arcs, region):
        line = cv2.approxPolyDP(arcs.points[i].astype(np.float32)[:, None], step, False)[:, 0].astype(float)
        if len(line) > 1:
            out.append((bool(coast[i]), line + np.array([shift, 0.0])))
    return out


def land_mask(region: Region, rows: int, columns: int) -> npt.NDArray[np.bool_]:
    """Which cells of a grid over a region are land; rows run from north to south. Coasts are right to 1 or 2
    km."""
    _, _, rings = _atlas()
    filled = np.zeros((rows, columns), np.uint8)
    scale = np.array([columns / (region.east - region.west), -rows / (region.north - region.south)])
    shapes = []
    for i, shift in _copies(rings, region):
        corner = (rings.points[i] + np.array([shift, 0.0]) - np.array([region.west, region.north])) * scale
        shapes.append(np.round(np.clip(corner, -FARTHEST, FARTHEST) * 2**SUBPIXEL).astype(np.int32))
    if shapes:
        cv2.fillPoly(filled, shapes, 1, shift=SUBPIXEL)
    return filled.astype(bool)


def on_land(lat: float, lon: float) -> bool:
    """Whether a place is on land, to 1 or 2 km."""
    return bool(land_mask(around(lat, lon, 20), 41, 41)[20, 20])
