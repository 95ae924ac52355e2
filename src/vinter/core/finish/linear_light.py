"""Everything that an edit does to linear light pixel by pixel, in one pass: what moves ask for is gathered,
and done when another kind of move needs the picture."""

from dataclasses import dataclass, replace

import numba
import numpy as np
import numpy.typing as npt

from vinter.core.finish.canvas import Canvas
from vinter.core.finish.pixels import F32, kernel, places, row_between, widened

I32 = npt.NDArray[np.int32]


@dataclass(frozen=True, kw_only=True)
class LinearLight:
    """What is to be done, in this order; None does nothing. Small maps (rows, columns, planes) are spread
    over the picture.

    gain: factor (rows, columns, 1); amount (rows, columns, 3) and level (3,): taken off the sky, by its
    share; matrices (3, 3) of sky and ground; lift (rows, columns, 1): the sky times 1 and so much, by its
    share; tables: encoded levels of sky and ground over square roots of levels up to ``brightest``, of which
    the nearest counts.
    """

    gain: F32 | None = None
    amount: F32 | None = None
    level: F32 | None = None
    matrices: tuple[F32, F32] | None = None
    lift: F32 | None = None
    tables: tuple[F32, F32] | None = None
    brightest: float = 1.0

    def on(self, canvas: Canvas) -> Canvas:
        """The canvas with it done."""
        nothing = np.zeros((1, 1, 3), np.float32)
        as_it_is = np.eye(3, dtype=np.float32)
        rgb = _done(
            canvas.rgb,
            canvas.sky,
            nothing if self.gain is None else self.gain,
            nothing if self.amount is None else self.amount,
            nothing[0, 0] if self.level is None else self.level,
            *(self.matrices or (as_it_is, as_it_is)),
            nothing if self.lift is None else self.lift,
            *(self.tables or (nothing[0, 0], nothing[0, 0])),
            self.brightest,
        )
        return replace(canvas, rgb=rgb)


@numba.njit(inline="always")  # type: ignore[untyped-decorator]
def _encode(light: F32, share: F32, first: F32, second: F32, scale: np.float32, entry: I32) -> None:
    """A row of one colour through two tables, in place."""
    last = np.int32(len(first) - 1)
    for x in range(len(light)):
        entry[x] = min(np.int32(np.sqrt(max(light[x], np.float32(0))) * scale + np.float32(0.5)), last)
    for x in range(len(light)):
        low = second[entry[x]]
        light[x] = low + share[x] * (first[entry[x]] - low)


@kernel  # type: ignore[untyped-decorator]
def _done(
    rgb: F32,
    share: F32,
    gain: F32,
    amount: F32,
    level: F32,
    sky: F32,
    ground: F32,
    lift: F32,
    first: F32,
    second: F32,
    brightest: float,
) -> F32:
    """``LinearLight`` on a picture; maps of one place and tables of three entries do nothing."""
    out = np.empty_like(rgb)
    height, wide = share.shape
    gain_above, gain_down = places(height, gain.shape[0])
    less_above, less_down = places(height, amount.shape[0])
    lift_above, lift_down = places(height, lift.shape[0])
    wide_gain, wide_amount, wide_lift = widened(gain, wide), widened(amount, wide), widened(lift, wide)
    gains, lifts, takes = gain.size > 3, lift.size > 3, amount.size > 3
    scale = np.float32((len(first) - 1) / np.sqrt(brightest))
    for y in numba.prange(height):
        row, to, shares = rgb[y].reshape(3 * wide), out[y].reshape(3 * wide), share[y]
        spread, entry = np.empty(wide, np.float32), np.empty(wide, np.int32)
        light = np.empty((3, wide), np.float32)
        red, green, blue = light[0], light[1], light[2]
        for x in range(wide):
            red[x], green[x], blue[x] = row[3 * x], row[3 * x + 1], row[3 * x + 2]
        if gains:
            row_between(wide_gain[0], gain_above[y], gain_down[y], spread)
            for x in range(wide):
                red[x], green[x], blue[x] = red[x] * spread[x], green[x] * spread[x], blue[x] * spread[x]
        for c in range(3):
            own, taken = light[c], level[c]
            if takes:
                row_between(wide_amount[c], less_above[y], less_down[y], spread)
                for x in range(wide):
                    own[x] -= spread[x] * shares[x]
            for x in range(wide):
                own[x] -= taken * shares[x]
        if lifts:
            row_between(wide_lift[0], lift_above[y], lift_down[y], spread)
        else:
            spread[:] = 0
        for x in range(wide):
            r, g, b, s = red[x], green[x], blue[x], shares[x]
            lifted = np.float32(1) + spread[x] * s
            q = ground[0, 0] * r + ground[0, 1] * g + ground[0, 2] * b
            red[x] = (q + s * (sky[0, 0] * r + sky[0, 1] * g + sky[0, 2] * b - q)) * lifted
            q = ground[1, 0] * r + ground[1, 1] * g + ground[1, 2] * b
            green[x] = (q + s * (sky[1, 0] * r + sky[1, 1] * g + sky[1, 2] * b - q)) * lifted
            q = ground[2, 0] * r + ground[2, 1] * g + ground[2, 2] * b
            blue[x] = (q + s * (sky[2, 0] * r + sky[2, 1] * g + sky[2, 2] * b - q)) * lifted
        if len(first) > 3:
            for c in range(3):
                _encode(light[c], shares, first, second, scale, entry)
        for x in range(wide):
            to[3 * x], to[3 * x + 1], to[3 * x + 2] = red[x], green[x], blue[x]
    return out


def warm() -> None:
    """Compile the loop."""
    rgb, share = np.full((4, 4, 3), 0.2, np.float32), np.full((4, 4), 0.5, np.float32)
    LinearLight().on(Canvas(rgb, share, np.eye(3), np.ones(3)))
