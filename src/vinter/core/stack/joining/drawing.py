"""Stacks of overlapping fields joined into one picture: an arch, a tall picture, a wide one.

Every stack is laid by its solved field. The sky is drawn as it stood at the moment of the stack that looks
lowest, the ground of each as it stood at its own moment, so that the horizon stays one line while the stars
went on.
"""

from collections.abc import Callable
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any

import cv2
import numpy as np
import numpy.typing as npt

from vinter.core.camera.projection import (
    laid_out_rays,
)
from vinter.core.errors import BadInput
from vinter.core.formats.whole import mapped_array
from vinter.core.parallel import Cancelled
from vinter.core.sky.catalogue import to_horizon
from vinter.core.sky.refraction import lowered
from vinter.core.sky.site import Site
from vinter.core.stack.file import JOINED, About, write_stack
from vinter.core.stack.joining.layout import enu_of, field_of, layout_of
from vinter.core.stack.joining.light import LightMatch, Sample, match_light
from vinter.core.stack.joining.panels import SURE_SKY, Panel, refine, sky_stars
from vinter.core.stack.plate_solve import Solution, with_names

F32 = npt.NDArray[np.float32]
U8 = npt.NDArray[np.uint8]
Array = npt.NDArray[np.float64]
FEWEST, MOST = 2, 8
GRID_PX = 8  # px between places whose direction is worked out; between them it is interpolated
ROWS = 384  # px of height worked on at once
FEATHER = 0.16  # share of the shorter side over which a stack's sky fades in from its edge
GROUND_FEATHER = 0.012  # share of the shorter side for ground, which may have been seen from slightly aside
SAMPLES_ACROSS = 220  # places across at which the light of stacks is compared
TINY = 1e-30  # weight of a place that nothing shows
RIM_PX, RIM_WEIGHT, LEVEL_SOFT = 18, 1e-4, 6.0  # px beside the skyline, least weight, coarse cells


@dataclass(frozen=True, kw_only=True)
class Joined:
    """What came of it: the field of the picture and the report."""

    field: Solution
    report: dict[str, Any]


@dataclass(frozen=True)
class _Laid:
    """A panel with its turn ``to_ground`` from ENU to its camera, and what brings its light to the
    others'."""

    panel: Panel
    to_ground: Array
    gain: LightMatch


class _Map:
    """Where pixels of a part of the picture lie in a panel, by its sky and by its ground."""

    def __init__(self, field: Solution, axes: Array, site: Site, unix: float) -> None:
        self.field, self.axes, self.zenith = field, axes, np.array([0.0, 0.0, 1.0])
        self.to_icrs = to_horizon(site, unix).T

    def enu(self, x: Array, y: Array) -> Array:
        """Directions (n, 3) of pixels of the picture."""
        f = self.field
        rays = laid_out_rays(np.c_[x, y], f.focal_px, f.layout, f.middle)
        return np.asarray(rays @ self.axes)

    def sky(self, laid: _Laid, enu: Array) -> tuple[Array, Array, npt.NDArray[np.bool_]]:
        """A panel's pixels of the sky that stands in these directions."""
        true = lowered(enu, self.zenith) @ self.to_icrs.T
        return laid.panel.field.places(true)

    def ground(self, laid: _Laid, enu: Array) -> tuple[Array, Array, npt.NDArray[np.bool_]]:
        """A panel's pixels of the ground in these directions."""
        return laid.panel.field.camera_pixels(enu @ laid.to_ground.T)


def _spread(coarse: Array, shape: tuple[int, int]) -> F32:
    """Values known every GRID_PX px, at every px."""
    h, w = shape
    x = np.arange(w, dtype=np.float32) / GRID_PX
    y = np.arange(h, dtype=np.float32) / GRID_PX
    gx, gy = np.meshgrid(x, y)
    # bilinear with full precision: the library's own remap rounds to 1/32 px
    i, j = np.minimum(gy.astype(int), coarse.shape[0] - 2), np.minimum(gx.astype(int), coarse.shape[1] - 2)
    fy, fx = gy - i, gx - j
    top = coarse[i, j] * (1 - fx) + coarse[i, j + 1] * fx
    low = coarse[i + 1, j] * (1 - fx) + coarse[i + 1, j + 1] * fx
    return np.asarray(top * (1 - fy) + low * fy, np.float32)


def _edge_weight(x: F32, y: F32, size: tuple[int, int], feather: float) -> F32:
    """0 at a panel's edge, 1 from ``feather`` px on inside of it."""
    w, h = size
    inside = np.minimum(np.minimum(x, w - 1 - x), np.minimum(y, h - 1 - y))
    t = np.clip(inside / feather, 0, 1)
    return np.asarray(t * t * (3 - 2 * t), np.float32)


def _cut_out(values: F32, x: F32, y: F32, how: int) -> F32:
    """Values of a panel at places of it; nothing of it is copied but the part that is needed."""
    h, w = values.shape[:2]
    x0, x1 = int(max(np.floor(x.min()) - 3, 0)), int(min(np.ceil(x.max()) + 4, w))
    y0, y1 = int(max(np.floor(y.min()) - 3, 0)), int(min(np.ceil(y.max()) + 4, h))
    if x1 - x0 < 2 or y1 - y0 < 2:
        return np.zeros((*x.shape, *values.shape[2:]), np.float32)
    part = np.ascontiguousarray(values[y0:y1, x0:x1], np.float32)
    return np.asarray(cv2.remap(part, x - x0, y - y0, how, borderMode=cv2.BORDER_REPLICATE), np.float32)


def _at(values: F32, x: F32, y: F32) -> F32:
    """Values at places (n,), in rows that the library's short indices allow."""
    wide = 512
    px, py = (np.resize(v, -(-len(v) // wide) * wide).reshape(-1, wide) for v in (x, y))
    found = cv2.remap(values, px, py, cv2.INTER_LINEAR)
    return np.asarray(found.reshape(-1, *values.shape[2:])[: len(x)], np.float32)


def _samples(
    laid: list[_Laid],
    at: Callable[[_Laid, Array], tuple[Array, Array, npt.NDArray[np.bool_]]],
    enu: Array,
    field: Solution,
) -> list[Sample]:
    """Mean light of every panel's sky in directions (n, 3), with the places in the panel."""
    soft = max(field.width // SAMPLES_ACROSS // 2, 2)
    out = []
    for one in laid:
        panel = one.panel
        size = (max(panel.rgb.shape[1] // soft, 2), max(panel.rgb.shape[0] // soft, 2))
        small = cv2.medianBlur(
            np.ascontiguousarray(cv2.resize(panel.rgb, size, interpolation=cv2.INTER_AREA)), 5
        )
        sure = cv2.erode(cv2.resize(panel.sky, size, interpolation=cv2.INTER_AREA), np.ones((5, 5)))
        x, y, front = at(one, enu)
        fx, fy = size[0] / panel.rgb.shape[1], size[1] / panel.rgb.shape[0]
        sx, sy = ((x + 0.5) * fx - 0.5).astype(np.float32), ((y + 0.5) * fy - 0.5).astype(np.float32)
        inside = front & (sx > 3) & (sy > 3) & (sx < size[0] - 4) & (sy < size[1] - 4)
        values, here = _at(small, sx, sy), _at(np.asarray(sure, np.float32), sx, sy)
        u, v = 2 * x / panel.rgb.shape[1] - 1, 2 * y / panel.rgb.shape[0] - 1
        out.append(Sample(values.astype(float), inside & (here > SURE_SKY), u, v))
    return out


def largest_rectangle(full: npt.NDArray[np.bool_]) -> tuple[int, int, int, int]:
    """Left, top, width, height of the largest rectangle of true places."""
    h, w = full.shape
    heights = np.zeros(w, int)
    best, out = 0, (0, 0, w, h)
    for row in range(h):
        heights = np.where(full[row], heights + 1, 0)
        stack: list[int] = []
        for i in range(w + 1):
            tall = int(heights[i]) if i < w else 0
            while stack and heights[stack[-1]] >= tall:
                high = int(heights[stack.pop()])
                left = stack[-1] + 1 if stack else 0
                if high * (i - left) > best:
                    best, out = high * (i - left), (left, row - high + 1, i - left, high)
            stack.append(i)
    return out


def _cut(laid: list[_Laid], where: _Map) -> tuple[int, int, int, int]:
    """The largest rectangle of the picture that some panel covers everywhere."""
    f = where.field
    step = max(max(f.width, f.height) // 400, 1)
    gx, gy = np.meshgrid(np.arange(0, f.width, step), np.arange(0, f.height, step))
    enu = where.enu(gx.ravel().astype(float), gy.ravel().astype(float))
    full = np.zeros(gx.size, bool)
    for one in laid:
        w, h = one.panel.rgb.shape[1], one.panel.rgb.shape[0]
        x, y, front = where.ground(one, enu)
        full |= front & (x > 4) & (y > 4) & (x < w - 5) & (y < h - 5)
    left, top, wide, high = largest_rectangle(full.reshape(gx.shape))
    return left * step, top * step, max((wide - 1) * step, 2), max((high - 1) * step, 2)


def _level(laid: list[_Laid], where: _Map) -> F32:
    """By what (h, w, 3), on a coarse grid, sky that is drawn where it stood at another moment is multiplied,
    so that it joins the sky drawn where the stars stand.

    Stars that had set behind the ground leave a rim above the skyline, which only the other way can fill.
    """
    f = where.field
    gx, gy = _coarse(f)
    enu = where.enu(gx.ravel(), gy.ravel())
    sums = np.zeros((2, 4, gx.size))
    for one, moving, fixed in zip(
        laid, _samples(laid, where.sky, enu, f), _samples(laid, where.ground, enu, f), strict=True
    ):
        for k, s in enumerate((moving, fixed)):
            gain = one.gain.at(s.across.astype(np.float32)[None], s.down.astype(np.float32)[None])[0]
            sums[k, :3, s.there] += (s.values * gain)[s.there]
            sums[k, 3, s.there] += 1
    both = (sums[0, 3] > 0) & (sums[1, 3] > 0)
    ratio = np.where(both, sums[0, :3] / sums[0, 3].clip(1) * sums[1, 3].clip(1) / sums[1, :3].clip(1e-9), 0)
    log = np.where(both, np.log(ratio.clip(0.4, 2.5)), 0).reshape(3, *gx.shape).transpose(1, 2, 0)
    weight = both.reshape(gx.shape).astype(np.float32)
    log, weight = (cv2.GaussianBlur(np.asarray(v, np.float32), (0, 0), LEVEL_SOFT) for v in (log, weight))
    return np.asarray(np.exp(log / np.maximum(weight, 1e-4)[..., None]), np.float32)


def _coarse(f: Solution) -> tuple[Array, Array]:
    """Pixels (h, w) of places spread over the picture."""
    step = max(f.width // SAMPLES_ACROSS, 1)
    gx, gy = np.meshgrid(np.arange(step / 2, f.width, step), np.arange(step / 2, f.height, step))
    return gx, gy


def _near(level: F32, f: Solution, top: int, shape: tuple[int, int]) -> F32:
    """The coarse ``level`` over a strip of the picture."""
    step = max(f.width // SAMPLES_ACROSS, 1)
    x = (np.arange(shape[1], dtype=np.float32) + 0.5) / step - 0.5
    y = (np.arange(top, top + shape[0], dtype=np.float32) + 0.5) / step - 0.5
    return np.asarray(cv2.remap(level, *np.meshgrid(x, y), cv2.INTER_LINEAR, borderMode=cv2.BORDER_REPLICATE))


def _strip(laid: list[_Laid], where: _Map, level: F32, top: int, rows: int) -> tuple[F32, F32]:
    """A strip of the picture and its share of sky."""
    f = where.field
    shape = (rows, f.width)
    gx, gy = np.meshgrid(
        np.arange(0, f.width + GRID_PX, GRID_PX), np.arange(top, top + rows + GRID_PX, GRID_PX)
    )
    enu = where.enu(gx.ravel().astype(float), gy.ravel().astype(float))
    sky_sum, ground_sum = np.zeros((*shape, 3), np.float32), np.zeros((*shape, 3), np.float32)
    sky_weight, ground_weight, share = (np.zeros(shape, np.float32) for _ in range(3))
    for one in laid:
        panel = one.panel
        h, w = panel.rgb.shape[:2]
        for of_sky in (True, False):
            x, y, front = (where.sky if of_sky else where.ground)(one, enu)
            x, y = np.where(front, x, -1e4), np.where(front, y, -1e4)
            fx, fy = (_spread(np.clip(v, -1e4, 1e5).reshape(gx.shape), shape) for v in (x, y))
            inside = (fx > 1) & (fy > 1) & (fx < w - 2) & (fy < h - 2)
            if not inside.any():
                continue
            part = _bounds(inside)
            px, py = fx[part], fy[part]
            there = inside[part].astype(np.float32)
            sky = _cut_out(panel.sky, px, py, cv2.INTER_LINEAR)
            rgb = _cut_out(panel.rgb, px, py, cv2.INTER_CUBIC)
            rgb *= one.gain.at(2 * px / w - 1, 2 * py / h - 1)
            feather = (FEATHER if of_sky else GROUND_FEATHER) * min(w, h)
            weight = there * _edge_weight(px, py, (w, h), feather) + there * np.float32(1e-6)
            if of_sky:
                weight = weight * _from_skyline(sky)
                sky_sum[part] += rgb * weight[..., None]
                sky_weight[part] += weight
            else:
                # the stack that looks straightest at it gives the ground, with a narrow passage between
                weight = weight * _straight(px, py, (w, h))
                ground_sum[part] += rgb * weight[..., None]
                ground_weight[part] += weight
                share[part] += sky * weight
    lift = _near(level, f, top, shape)
    mask = share / np.maximum(ground_weight, TINY)
    mask = np.where(ground_weight > TINY, mask, 1.0)
    sky_rgb, ground_rgb = (
        total / np.maximum(weight, TINY)[..., None]
        for total, weight in ((sky_sum, sky_weight), (ground_sum, ground_weight))
    )
    seen = np.clip(sky_weight / RIM_WEIGHT, 0, 1)[..., None]  # fades where only little sky was seen
    sky_rgb = sky_rgb * seen + ground_rgb * lift * (1 - seen)
    ground_rgb = np.where((ground_weight > TINY)[..., None], ground_rgb, sky_rgb)
    m = mask[..., None]
    return np.asarray(sky_rgb * m + ground_rgb * (1 - m), np.float32), np.asarray(mask, np.float32)


def _from_skyline(sky: F32) -> F32:
    """0 on the ground, 1 from RIM_PX off it on."""
    near = cv2.GaussianBlur(cv2.erode(sky, np.ones((2 * RIM_PX // 3, 2 * RIM_PX // 3))), (0, 0), RIM_PX / 4)
    return np.asarray(np.clip(near, 0, 1) * (sky > SURE_SKY), np.float32)


def _bounds(inside: npt.NDArray[np.bool_]) -> tuple[slice, slice]:
    rows, columns = np.flatnonzero(inside.any(axis=1)), np.flatnonzero(inside.any(axis=0))
    return slice(rows[0], rows[-1] + 1), slice(columns[0], columns[-1] + 1)


def _straight(x: F32, y: F32, size: tuple[int, int]) -> F32:
    """How near a place is to a panel's centre, across: to a high power, so that one panel gives the
    ground."""
    w, _ = size
    away = np.abs(2 * x / w - 1)
    return np.asarray(np.maximum(1 - away, 0.02) ** 8, np.float32)


def join(
    panels: list[Panel],
    site: Site,
    out: Path,
    about: About = About(kind=JOINED),  # noqa: B008 - it cannot be changed
    layout: str = "auto",
    width: int | None = None,
    progress: Callable[[str, float], None] = lambda label, share: None,
    stop: Callable[[], bool] = lambda: False,
) -> Joined:
    """Join stacks into ``out`` with its mask beside it; ``about`` is what the file says of itself.

    ``layout`` auto, rectilinear, cylindrical or equal-angle; ``width`` px at most. BadInput when there are
    fewer than two or more than eight, or when one has no neighbour; Cancelled when ``stop`` turns true.
    """
    if not FEWEST <= len(panels) <= MOST:
        raise BadInput(f"{FEWEST} to {MOST} stacks can be joined, not {len(panels)}")
    progress("finding the stars that stacks share", 0.05)
    panels, rms, shared = refine(panels, [sky_stars(p) for p in panels])
    layout = layout_of(panels, site, layout)
    lowest = min(panels, key=lambda p: enu_of(p, site, np.array([p.field.middle]))[0, 2])
    field, axes = field_of(panels, site, layout, lowest.unix, width)
    where = _Map(field, axes, site, lowest.unix)
    even = LightMatch()
    laid = [_Laid(p, np.array(p.field.rotation) @ to_horizon(site, p.unix).T, even) for p in panels]
    _linked(laid, where)
    progress("bringing stacks to one light", 0.2)
    spread = where.enu(*(v.ravel() for v in _coarse(field)))
    matches, seam = match_light(_samples(laid, where.sky, spread, field))
    laid = [replace(one, gain=m) for one, m in zip(laid, matches, strict=True)]
    left, top, wide, high = _cut(laid, where)
    axis = (field.middle[0] - left, field.middle[1] - top)
    field = replace(field, width=wide, height=high, axis=axis)
    where = _Map(field, axes, site, lowest.unix)
    level, folder = _level(laid, where), out.parent
    mapped_array(folder / "joined.npy", (high, wide, 3))
    picture = np.load(folder / "joined.npy", mmap_mode="r+")
    mask = np.empty((high, wide), np.uint8)
    for y in range(0, high, ROWS):
        if stop():
            raise Cancelled
        rows = min(ROWS, high - y)
        picture[y : y + rows], share = _strip(laid, where, level, y, rows)
        mask[y : y + rows] = np.clip(share * 255 + 0.5, 0, 255)
        progress("joining", 0.3 + 0.6 * (y + rows) / high)
    write_stack(out, picture, mask, about)
    (folder / "joined.npy").unlink()
    middle = field.directions(np.array([[wide / 2, high / 2]]))[0]
    centre = (
        float(np.degrees(np.arctan2(middle[1], middle[0])) % 360),
        float(np.degrees(np.arcsin(middle[2]))),
    )
    field = with_names(replace(field, centre=centre))
    report = {
        "layout": layout,
        "shared_stars": shared,
        "shared_px": None if np.isnan(rms) else round(rms, 3),
        "seam": seam,
        "panels": [
            {"name": p.name, "light": round(float(np.mean(m.level)), 4)}
            for p, m in zip(panels, matches, strict=True)
        ],
    }
    return Joined(field=field, report=report)


def _linked(laid: list[_Laid], where: _Map) -> None:
    """BadInput naming a panel that overlaps no other."""
    f = where.field
    gx, gy = np.meshgrid(np.linspace(0, f.width - 1, 160), np.linspace(0, f.height - 1, 120))
    enu = where.enu(gx.ravel(), gy.ravel())
    seen = []
    for one in laid:
        w, h = one.panel.rgb.shape[1], one.panel.rgb.shape[0]
        x, y, front = where.sky(one, enu)
        seen.append(front & (x > 0) & (y > 0) & (x < w - 1) & (y < h - 1))
    reached, waiting = {0}, [0]
    while waiting:
        i = waiting.pop()
        for j, other in enumerate(seen):
            if j not in reached and (seen[i] & other).any():
                reached.add(j)
                waiting.append(j)
    for i, one in enumerate(laid):
        if i not in reached:
            raise BadInput(f"{one.panel.name}: it does not overlap the others")
