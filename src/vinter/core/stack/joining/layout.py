"""How a joined picture is laid out: on a plane, a cylinder or by equal angles, and how large it is."""

import numpy as np
import numpy.typing as npt

from vinter.core.camera.projection import (
    CYLINDRICAL,
    EQUAL_ANGLE,
    LAYOUTS,
    RECTILINEAR,
    Pose,
    View,
    laid_out,
)
from vinter.core.constants import ARCSEC_PER_RADIAN
from vinter.core.errors import BadInput
from vinter.core.sky.catalogue import to_horizon
from vinter.core.sky.site import Site
from vinter.core.stack.joining.panels import Panel
from vinter.core.stack.plate_solve import Solution

F32 = npt.NDArray[np.float32]
U8 = npt.NDArray[np.uint8]
Array = npt.NDArray[np.float64]
FLAT_DEGREES, CYLINDER_DEGREES, CYLINDER_HIGH = 80.0, 200.0, 62.0  # up to which a layout is taken by itself
MOST_PIXELS = 120e6


def layout_of(panels: list[Panel], site: Site, wanted: str = "auto") -> str:
    """How the picture is laid out: as wished, else by how wide and how high it reaches."""
    if wanted in LAYOUTS:
        return wanted
    if wanted != "auto":
        raise BadInput(f"layout {wanted!r} is not one of auto, {', '.join(LAYOUTS)}")
    _, wide, high = _extent(panels, site)
    if max(wide, high[1] - high[0]) <= FLAT_DEGREES and _around(panels, site) <= FLAT_DEGREES:
        return RECTILINEAR
    return CYLINDRICAL if wide <= CYLINDER_DEGREES and high[1] <= CYLINDER_HIGH else EQUAL_ANGLE


def _border(field: Solution) -> Array:
    """Pixels (n, 2) along the edges of a picture."""
    x, y = np.linspace(0, field.width - 1, 24), np.linspace(0, field.height - 1, 24)
    return np.concatenate(
        [
            np.c_[x, np.zeros(24)],
            np.c_[x, np.full(24, field.height - 1.0)],
            np.c_[np.zeros(24), y],
            np.c_[np.full(24, field.width - 1.0), y],
        ]
    )


def enu_of(panel: Panel, site: Site, xy: Array) -> Array:
    """Directions east, north, up of a panel's pixels at its own moment, as the air shows them."""
    return np.asarray(panel.field.rays(xy) @ np.array(panel.field.rotation) @ to_horizon(site, panel.unix).T)


def _borders(panels: list[Panel], site: Site) -> Array:
    """Directions (n, 3) of the edges of all panels."""
    return np.concatenate([enu_of(p, site, _border(p.field)) for p in panels])


def _extent(panels: list[Panel], site: Site) -> tuple[float, float, tuple[float, float]]:
    """Azimuth of the centre, degrees round, and lowest and highest altitude of all panels."""
    enu = _borders(panels, site)
    level = np.concatenate([enu_of(p, site, np.array([p.field.middle])) for p in panels])
    mean = level[:, :2] / np.maximum(np.linalg.norm(level[:, :2], axis=1, keepdims=True), 1e-9)
    middle = float(np.arctan2(*mean.sum(axis=0)))
    azimuth = np.arctan2(enu[:, 0], enu[:, 1]) - middle
    azimuth = (azimuth + np.pi) % (2 * np.pi) - np.pi
    altitude = np.degrees(np.arcsin(np.clip(enu[:, 2], -1, 1)))
    low, high = np.degrees([azimuth.min(), azimuth.max()])
    return (
        float(np.degrees(middle) + (low + high) / 2) % 360,
        float(high - low),
        (float(altitude.min()), float(altitude.max())),
    )


def _around(panels: list[Panel], site: Site) -> float:
    """Twice the widest angle from the centre of all panels, in degrees."""
    enu = _borders(panels, site)
    middle = _middle(enu)
    return float(2 * np.degrees(np.arccos(np.clip(enu @ middle, -1, 1))).max())


def _middle(enu: Array) -> Array:
    total = enu.sum(axis=0)
    return np.asarray(total / np.linalg.norm(total))


def field_of(
    panels: list[Panel], site: Site, layout: str, unix: float, width: int | None
) -> tuple[Solution, Array]:
    """The field of the picture before it is cut, and its rotation from ENU to its camera."""
    enu = _borders(panels, site)
    if layout == RECTILINEAR:
        east, north, up = _middle(enu)
        azimuth = float(np.degrees(np.arctan2(east, north)))
        altitude = float(np.degrees(np.arcsin(up)))
    else:
        azimuth, altitude = _extent(panels, site)[0], 0.0
    axes = View(1, 1, 1.0, 0.0, Pose(azimuth, altitude)).axes
    focal = float(np.median([p.field.focal_px for p in panels]))
    at = laid_out(enu @ axes.T, focal, layout, (0.0, 0.0))
    low, high = at.min(axis=0), at.max(axis=0)
    scale = min(1.0, float(np.sqrt(MOST_PIXELS / np.prod(np.maximum(high - low, 1)))))
    if width:
        scale = min(scale, width / float(high[0] - low[0]))
    size = np.maximum(np.ceil((high - low) * scale).astype(int), 2)
    turn = to_horizon(site, unix)
    rotation = axes @ turn
    zenith = turn[2]
    field = Solution(
        rotation=rotation.tolist(),
        focal_px=focal * scale,
        k1=0.0,
        width=int(size[0]),
        height=int(size[1]),
        matched=sum(p.field.matched for p in panels),
        rms_px=float(np.mean([p.field.rms_px for p in panels])),
        centre=(0.0, 0.0),
        scale_arcsec=ARCSEC_PER_RADIAN / (focal * scale),
        constellations=[],
        targets=[],
        zenith=tuple(zenith.tolist()),
        layout=layout,
        axis=tuple((-low * scale).tolist()),
    )
    return field, axes
