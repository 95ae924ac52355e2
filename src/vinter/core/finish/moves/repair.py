"""Small things brushed away: a stray lamp, the rest of a plane, a hot pixel, dust."""

from dataclasses import replace

import numpy as np

from vinter.core.finish.canvas import Canvas
from vinter.core.finish.moves.base import F32, Move, Part, move, setting
from vinter.core.finish.scene import Scene

MOST_SPOTS = 60
DIRECTIONS, DISTANCES = 16, (2.4, 3.4, 4.6)  # where a patch to copy is looked for, in radii
FEATHER = 0.3  # share of the radius over which a patch fades in
BRIGHT_COSTS = 0.5  # weight against a patch that holds something bright


class Spot(Part):
    """A place to mend: its centre and radius as shares of the picture's width (y of its height)."""

    x: float = setting(0.5, ge=0, le=1)
    y: float = setting(0.5, ge=0, le=1)
    radius: float = setting(0.01, ge=0.001, le=0.15)


@move("repair", place=5)
class Repair(Move):
    """Each spot is filled with a patch from beside it, whose surroundings are most like its own, brought to
    their level: so grain and stars are those of the picture."""

    spots: tuple[Spot, ...] = setting((), max_length=MOST_SPOTS)

    def apply(self, canvas: Canvas, scene: Scene) -> Canvas:
        """The canvas without the spots."""
        if not self.spots:
            return canvas
        rgb = canvas.rgb.copy()
        (sx, _, ox), (_, sy, oy), _ = canvas.to_shares  # nothing is turned before this move
        for spot in self.spots:
            mended(rgb, canvas.sky, ((spot.x - ox) / sx, (spot.y - oy) / sy), spot.radius / sx)
        return replace(canvas, rgb=rgb)


def mended(rgb: F32, sky: F32, at: tuple[float, float], radius: float) -> None:
    """Fill a disc (px) of a picture with a patch from beside it, in place; out of the picture nothing
    happens."""
    h, w = sky.shape
    reach = int(np.ceil(radius * (1 + FEATHER))) + 3
    cx, cy = round(at[0]), round(at[1])
    left, top = max(cx - reach, 0), max(cy - reach, 0)
    right, bottom = min(cx + reach + 1, w), min(cy + reach + 1, h)
    if right - left < 3 or bottom - top < 3:
        return
    here = np.s_[top:bottom, left:right]
    gy, gx = np.mgrid[top:bottom, left:right]
    away = np.hypot(gx - at[0], gy - at[1])
    cover = np.clip((radius * (1 + FEATHER) - away) / max(radius * FEATHER, 1.0), 0, 1).astype(np.float32)
    ring = (away > radius * (1 + FEATHER)) & (away <= reach)
    if not ring.any():
        return
    target, zone = rgb[here], sky[here]
    level = np.median(target[ring], axis=0)
    best, chosen, shift = np.inf, target, np.zeros(3)
    for turn in np.arange(DIRECTIONS) * 2 * np.pi / DIRECTIONS:
        for far in DISTANCES:
            dx, dy = round(far * radius * np.cos(turn)), round(far * radius * np.sin(turn))
            if not (left + dx >= 0 and right + dx <= w and top + dy >= 0 and bottom + dy <= h):
                continue
            there = np.s_[top + dy : bottom + dy, left + dx : right + dx]
            patch = rgb[there]
            own = np.median(patch[ring], axis=0)
            off = float(np.abs(np.log(np.maximum(own, 1e-6) / np.maximum(level, 1e-6))).mean())
            other = float(np.abs(sky[there] - zone).mean())
            bright = float(np.percentile(patch[cover > 0.5], 98) / max(float(level[1]), 1e-6)) - 1
            cost = off + 4 * other + BRIGHT_COSTS * max(bright - 1, 0)
            if cost < best:
                best, chosen, shift = cost, patch.copy(), level - own
    if np.isfinite(best):
        rgb[here] = target * (1 - cover[..., None]) + (chosen + shift.astype(np.float32)) * cover[..., None]
