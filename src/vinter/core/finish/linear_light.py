"""Everything that an edit does to linear light pixel by pixel, in one pass: what moves ask for is gathered,
and done when another kind of move needs the picture."""

from dataclasses import dataclass, replace

import cv2
import numba
import numpy as np
import numpy.typing as npt

from vinter.core.finish.canvas import Canvas
from vinter.core.finish.loops.pixels import (
    BAND,
    F32,
    apart,
    joined,
    kernel,
    places,
    row_between,
    row_kernel,
    widened,
)

I32 = npt.NDArray[np.int32]
LEAST_GROUND = 0.75  # of the ground's light that an edge keeps whatever its share of sky says


@dataclass(frozen=True, kw_only=True)
class LinearLight:
    """What is to be done, in this order; None does nothing. Small maps (rows, columns, planes) are spread
    over the picture.

    gain: factor (rows, columns, 1); amount (rows, columns, 3) and level (3,): taken off the sky, by its
    share, but of what is less than half sky no larger part of the light it has over the ground's than of the
    sky's: ``smooth`` (rows and columns of the amount, or of one place; 3) is the sky's, ``below`` (rows,
    columns, 3) the ground's; matrices (3, 3) of sky and ground; lift (rows, columns, 1): the sky times 1 and
    so much, by its share; tables: encoded levels of sky and ground over square roots of levels up to
    ``brightest``, straight between their entries.
    """

    gain: F32 | None = None
    amount: F32 | None = None
    level: F32 | None = None
    smooth: F32 | None = None
    below: F32 | None = None
    matrices: tuple[F32, F32] | None = None
    lift: F32 | None = None
    tables: tuple[F32, F32] | None = None
    brightest: float = 1.0

    def on(self, canvas: Canvas) -> Canvas:
        """The canvas with it done."""
        nothing = np.zeros((1, 1, 3), np.float32)
        amount = nothing if self.amount is None else self.amount
        level = nothing[0, 0] if self.level is None else self.level
        most, below = np.ones((1, 1, 3), np.float32), nothing
        if self.smooth is not None:
            most = np.clip((amount + level) / np.maximum(self.smooth, 1e-9), 0, 1)
        if self.below is not None:
            below = LEAST_GROUND * self.below
            if self.gain is not None:
                below = below * cv2.resize(self.gain, below.shape[1::-1])[..., None]
        as_it_is = np.eye(3, dtype=np.float32)
        rgb = _done(
            canvas.rgb,
            canvas.sky,
            nothing if self.gain is None else self.gain,
            amount,
            level,
            np.asarray(most, np.float32),
            np.asarray(below, np.float32),
            *(self.matrices or (as_it_is, as_it_is)),
            nothing if self.lift is None else self.lift,
            *(self.tables or (nothing[0, 0], nothing[0, 0])),
            self.brightest,
        )
        return replace(canvas, rgb=rgb)


@row_kernel  # type: ignore[untyped-decorator]
def _encoded(
    light: F32, share: F32, first: F32, second: F32, scale: np.float32, entry: I32, along: F32
) -> None:
    """A row of one colour through two tables, in place; through one of them where it is all of one zone.
    ``entry`` and ``along`` (wide,) are worked in."""
    last, of_sky = np.float32(len(first) - 2), np.float32(0)
    for x in range(len(light)):
        place = min(np.sqrt(max(light[x], np.float32(0))) * scale, last)
        entry[x] = np.int32(place)
        along[x] = place - np.float32(entry[x])
        of_sky += share[x]
    one = np.uint64(1)
    if of_sky == 0 or of_sky == len(share):
        table = second if of_sky == 0 else first
        for x in range(len(light)):
            at = np.uint64(entry[x])
            light[x] = table[at] + along[x] * (table[at + one] - table[at])
        return
    for x in range(len(light)):
        at = np.uint64(entry[x])
        low = second[at] + along[x] * (second[at + one] - second[at])
        light[x] = low + share[x] * (first[at] + along[x] * (first[at + one] - first[at]) - low)


@row_kernel  # type: ignore[untyped-decorator]
def _times(light: F32, gain: F32) -> None:
    """A row times another, in place."""
    for x in range(len(light)):
        light[x] *= gain[x]


@row_kernel  # type: ignore[untyped-decorator]
def _taken(light: F32, share: F32, spread: F32, level: np.float32) -> None:
    """A row of one colour less so much of its sky, in place."""
    for x in range(len(light)):
        light[x] -= (spread[x] + level) * share[x]


@row_kernel  # type: ignore[untyped-decorator]
def _taken_at_edges(light: F32, share: F32, spread: F32, level: np.float32, most: F32, below: F32) -> None:
    """``_taken``, but of what is less than half sky no more than a part of its light over the ground's."""
    half, none, one = np.float32(0.5), np.float32(0), np.float32(1)
    for x in range(len(light)):
        less = (spread[x] + level) * share[x]
        held = most[x] * max(light[x] - (one - share[x]) * below[x], none)
        light[x] -= min(less, held) if share[x] < half else less


@row_kernel  # type: ignore[untyped-decorator]
def _has_edges(share: F32) -> bool:
    """Whether some of a row is less than half sky, and not all ground."""
    some = np.float32(0)
    for x in range(len(share)):
        some += np.float32(1) if share[x] > np.float32(0) and share[x] < np.float32(0.5) else np.float32(0)
    return bool(some > np.float32(0))


@row_kernel  # type: ignore[untyped-decorator]
def _balanced(light: F32, share: F32, lift: F32, sky: F32, ground: F32) -> None:
    """A row of three colours through the zones' matrices, and the sky lifted, in place."""
    red, green, blue = light[0], light[1], light[2]
    a, b, c = ground[0], ground[1], ground[2]
    d, e, f = sky[0] - a, sky[1] - b, sky[2] - c
    for x in range(len(share)):
        r, g, low, s = red[x], green[x], blue[x], share[x]
        lifted = np.float32(1) + lift[x] * s
        red[x] = ((a[0] + s * d[0]) * r + (a[1] + s * d[1]) * g + (a[2] + s * d[2]) * low) * lifted
        green[x] = ((b[0] + s * e[0]) * r + (b[1] + s * e[1]) * g + (b[2] + s * e[2]) * low) * lifted
        blue[x] = ((c[0] + s * f[0]) * r + (c[1] + s * f[1]) * g + (c[2] + s * f[2]) * low) * lifted


@kernel  # type: ignore[untyped-decorator]
def _done(
    rgb: F32,
    share: F32,
    gain: F32,
    amount: F32,
    level: F32,
    most: F32,
    below: F32,
    sky: F32,
    ground: F32,
    lift: F32,
    first: F32,
    second: F32,
    brightest: float,
) -> F32:
    """``LinearLight`` on a picture; maps of one place and tables of three entries do nothing. ``most`` (rows
    and columns of the amount, 3) is the part of the sky's light that is taken, ``below`` (rows, columns, 3)
    the light of the ground that an edge keeps."""
    out = np.empty_like(rgb)
    height, wide = share.shape
    gain_above, gain_down = places(height, gain.shape[0])
    less_above, less_down = places(height, amount.shape[0])
    lift_above, lift_down = places(height, lift.shape[0])
    wide_gain, wide_amount, wide_lift = widened(gain, wide), widened(amount, wide), widened(lift, wide)
    below_above, below_down = places(height, below.shape[0])
    wide_most, wide_below = widened(most, wide), widened(below, wide)
    flat, to = rgb.reshape(height, 3 * wide), out.reshape(height, 3 * wide)
    scale = np.float32((len(first) - 1) / np.sqrt(brightest))
    for band in numba.prange((height + BAND - 1) // BAND):
        light, entry = np.empty((3, wide), np.float32), np.empty(wide, np.int32)
        spread, along = np.empty(wide, np.float32), np.empty(wide, np.float32)
        under = np.empty(wide, np.float32)
        for y in range(band * BAND, min(band * BAND + BAND, height)):
            shares = share[y]
            apart(flat[y], light)
            if gain.size > 3:
                row_between(wide_gain[0], gain_above[y], gain_down[y], spread)
                for c in range(3):
                    _times(light[c], spread)
            edges = _has_edges(shares)
            for c in range(3):
                row_between(wide_amount[c], less_above[y], less_down[y], spread)
                if edges:
                    row_between(wide_most[c], less_above[y], less_down[y], along)
                    row_between(wide_below[c], below_above[y], below_down[y], under)
                    _taken_at_edges(light[c], shares, spread, level[c], along, under)
                else:
                    _taken(light[c], shares, spread, level[c])
            row_between(wide_lift[0], lift_above[y], lift_down[y], spread)
            _balanced(light, shares, spread, sky, ground)
            if len(first) > 3:
                for c in range(3):
                    _encoded(light[c], shares, first, second, scale, entry, along)
            joined(light, to[y])
    return out


def warm() -> None:
    """Compile the loop."""
    rgb, share = np.full((4, 4, 3), 0.2, np.float32), np.full((4, 4), 0.5, np.float32)
    LinearLight().on(Canvas(rgb, share, np.eye(3), np.ones(3)))
