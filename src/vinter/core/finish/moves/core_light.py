"""Brightening the core softly inside an ellipse, on the sky only."""

from dataclasses import replace

import numpy as np

from vinter.core.finish.canvas import Canvas
from vinter.core.finish.linear_light import LinearLight
from vinter.core.finish.moves.base import LinearMove, Row, Shown, move, setting
from vinter.core.finish.scene import Scene

CORE = Row("Core and areas", 60)


@move("core", place=50)
class CoreLight(LinearMove):
    """A soft ellipse over the core: brightness in EV, half-axes as shares of the width, angle in degrees (0
    is upright), centre as shares of width and height."""

    brightness: float = setting(0.0, Shown("brightened", "EV", CORE, "sky", step=0.05), ge=-1, le=2)
    length: float = setting(0.22, Shown("ellipse, half length", "%", CORE, "sky"), ge=0.02, le=1)
    breadth: float = setting(0.09, Shown("ellipse, half breadth", "%", CORE, "sky"), ge=0.02, le=1)
    angle: float = setting(0.0, Shown("ellipse, lean", "°", CORE, "sky", step=1), ge=-180, le=180)
    x: float = setting(
        0.5, Shown("", "", CORE, "sky", click="Click the picture to place the ellipse"), ge=0, le=1
    )
    y: float = setting(0.4, ge=0, le=1)

    def asked(self, light: LinearLight, canvas: Canvas, scene: Scene) -> tuple[LinearLight, Canvas]:
        """A soft gain over the core."""
        if self.brightness == 0:
            return light, canvas
        x, y = canvas.places(8)
        dx, dy = x - self.x, (y - self.y) * scene.shape
        c, s = np.cos(np.radians(self.angle)), np.sin(np.radians(self.angle))
        along, across = dx * s - dy * c, dx * c + dy * s
        weight = np.exp(-1.2 * ((along / self.length) ** 2 + (across / self.breadth) ** 2))
        gain = (2.0 ** (self.brightness * weight) - 1).astype(np.float32)
        return replace(light, lift=gain[..., None]), canvas
