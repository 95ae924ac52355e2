"""Haze and fine contrast at two angles of the sky, without halos at stars and skyline."""

from dataclasses import replace

import cv2
import numpy as np

from vinter.core.finish.canvas import Canvas
from vinter.core.finish.loops.neighbours import locally
from vinter.core.finish.loops.pixels import light_of, shrunk
from vinter.core.finish.moves.base import F32, Move, Part, Row, Shown, move, setting
from vinter.core.finish.scene import Scene

DETAIL = Row("Haze", 55)
LARGE, FINE = 4.0, 0.6  # degrees of the two scales
FAINT = 0.10  # encoded contrast above which something is a star or an edge and stays as it is
REDUCED = 4  # px a side that the means are taken on
SMOOTH = 3.0  # px of deviation that a wide mean keeps when it is taken at a smaller size still


class Contrast(Part):
    """Contrast of a zone: over some degrees (haze) and over half a degree (lanes, texture)."""

    haze: float = setting(0.0, Shown("contrast over 4°", "%", DETAIL, risky=0.8), ge=-0.8, le=1.5)
    fine: float = setting(0.0, Shown("contrast over 0.6°", "%", DETAIL, risky=0.8), ge=-0.8, le=1.5)


def _mean(y: F32, share: F32, sigma: float) -> F32:
    """Mean of a zone about each pixel; what is not of the zone does not count."""
    h, w = share.shape
    reduced = max(int(sigma / SMOOTH), 1)  # a wide mean is as good at a smaller size
    both = [np.asarray(y * share, np.float32), share]
    if reduced > 1:
        size = (max(w // reduced, 2), max(h // reduced, 2))
        both = [np.asarray(cv2.resize(v, size, interpolation=cv2.INTER_AREA), np.float32) for v in both]
    light, weight = (cv2.GaussianBlur(v, (0, 0), sigma / reduced) for v in both)
    mean = np.asarray(light / np.maximum(weight, 1e-3), np.float32)
    return np.asarray(cv2.resize(mean, (w, h)), np.float32) if reduced > 1 else mean


@move("detail", place=62)
class Detail(Move):
    """Differences from the surroundings made larger or smaller, sky and ground apart."""

    sky: Contrast = Contrast()
    ground: Contrast = Contrast()

    def apply(self, canvas: Canvas, scene: Scene) -> Canvas:
        """The canvas with more or less local contrast."""
        if self.sky == Contrast() and self.ground == Contrast():
            return canvas
        small = cv2.medianBlur(light_of(shrunk(canvas.rgb, REDUCED), 1.0), 3)
        sky = cv2.resize(canvas.sky, small.shape[::-1], interpolation=cv2.INTER_AREA)
        step = scene.degrees_px * REDUCED
        changes = []
        for zone, share in ((self.sky, sky), (self.ground, np.asarray(1 - sky, np.float32))):
            if zone == Contrast():
                changes.append(np.zeros_like(small))
                continue
            near = _mean(small, share, max(FINE / step / 3, 0.6))
            wide = _mean(small, share, max(FINE / step, 1.0))
            far = _mean(small, share, max(LARGE / step / 2, 2.0))
            change = zone.fine * _faint(near - wide) + zone.haze * _faint(wide - far)
            changes.append(np.asarray(change, np.float32))
        return replace(canvas, rgb=locally(canvas.rgb, canvas.sky, np.stack(changes, axis=-1)))


def _faint(difference: F32) -> F32:
    """A difference as it is where small, and held where large."""
    return np.asarray(difference / (1 + (difference / FAINT) ** 2), np.float32)
