"""Haze and fine contrast at two angles of the sky, without halos at stars and skyline."""

from dataclasses import replace

import cv2
import numpy as np

from vinter.core.finish.canvas import Canvas
from vinter.core.finish.moves.base import F32, Move, Part, Row, Shown, move, setting
from vinter.core.finish.pixels import locally
from vinter.core.finish.scene import Scene

DETAIL = Row("Haze", 55)
LARGE, FINE = 4.0, 0.6  # degrees of the two scales
FAINT = 0.10  # encoded contrast over which something is a star or an edge and stays as it is
REDUCED = 4  # px a side that the wide means are taken on


class Contrast(Part):
    """Contrast of a zone: over some degrees (haze) and over half a degree (lanes, texture)."""

    haze: float = setting(0.0, Shown("contrast over 4°", "%", DETAIL, risky=0.8), ge=-0.8, le=1.5)
    fine: float = setting(0.0, Shown("contrast over 0.6°", "%", DETAIL, risky=0.8), ge=-0.8, le=1.5)


def _mean(y: F32, share: F32, sigma: float) -> F32:
    """Mean of a zone about each pixel; what is not of the zone does not count."""
    return np.asarray(
        cv2.GaussianBlur(y * share, (0, 0), sigma) / np.maximum(cv2.GaussianBlur(share, (0, 0), sigma), 1e-3)
    )


@move("detail", place=62)
class Detail(Move):
    """Differences from the surroundings made larger or smaller, sky and ground apart."""

    sky: Contrast = Contrast()
    ground: Contrast = Contrast()

    def apply(self, canvas: Canvas, scene: Scene) -> Canvas:
        """The canvas with more or less local contrast."""
        if self.sky == Contrast() and self.ground == Contrast():
            return canvas
        h, w = canvas.sky.shape
        y = np.asarray(cv2.transform(canvas.rgb, np.array([[0.3, 0.59, 0.11]], np.float32)), np.float32)
        y = np.asarray(np.minimum(y, 1.0), np.float32)
        size = (max(w // REDUCED, 2), max(h // REDUCED, 2))
        small = cv2.medianBlur(np.ascontiguousarray(cv2.resize(y, size, interpolation=cv2.INTER_AREA)), 3)
        sky = cv2.resize(canvas.sky, size, interpolation=cv2.INTER_AREA)
        step = scene.degrees_px * REDUCED
        full = np.zeros((h, w), np.float32)
        for zone, share, fine in (
            (self.sky, sky, canvas.sky),
            (self.ground, np.asarray(1 - sky, np.float32), np.asarray(1 - canvas.sky, np.float32)),
        ):
            if zone == Contrast():
                continue
            near = _mean(small, share, max(FINE / step / 3, 0.6))
            wide = _mean(small, share, max(FINE / step, 1.0))
            far = _mean(small, share, max(LARGE / step / 2, 2.0))
            change = zone.fine * _faint(near - wide) + zone.haze * _faint(wide - far)
            full += cv2.resize(np.asarray(change, np.float32), (w, h), interpolation=cv2.INTER_LINEAR) * fine
        return replace(canvas, rgb=locally(canvas.rgb, y, full))


def _faint(difference: F32) -> F32:
    """A difference as it is where small, and held where large."""
    return np.asarray(difference / (1 + (difference / FAINT) ** 2), np.float32)
