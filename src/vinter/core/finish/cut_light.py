"""Places where the sensor was full."""

import numpy as np
import numpy.typing as npt

from vinter.core.frames.frame import Colour

F32 = npt.NDArray[np.float32]
CUT_FROM, CUT = 0.92, 0.985  # of full scale, from which a place is whitened, and wholly
MERGED = 1.2  # of full scale, over which a picture is one of several exposures


def white_where_cut(rgb: F32, colour: Colour) -> F32:
    """A full-size picture (h, w, 3; camera colours, 1 where the sensor is full) whose cut places are white:
    all colours end at the same number there, which the white balance would turn pink.

    A picture merged of exposures goes on beyond 1 and is left as it is, and so is a finished one, in which a
    single full colour is a colour.
    """
    if colour.finished:
        return rgb
    height, width = rgb.shape[:2]
    inner = rgb[height // 4 : -(height // 4) or None, width // 4 : -(width // 4) or None]
    top = rgb.max(axis=2)
    if top.max(initial=0) < CUT_FROM or inner.max(initial=0) > MERGED:
        return rgb
    cut = np.clip((top - CUT_FROM) / (CUT - CUT_FROM), 0, 1)[..., None]
    rows = np.flatnonzero(cut.any(axis=(1, 2)))
    part, neutral = np.s_[rows[0] : rows[-1] + 1], np.array(colour.neutral, np.float32)
    out = rgb.copy()
    here, share = rgb[part], cut[part]
    white = neutral * (here / neutral).mean(axis=2, keepdims=True)
    out[part] = here + share * (white - here)
    return out
