"""Colour: how much of it, the green of airglow, the purple of dark corners, the red of nebulae."""

from dataclasses import replace

import numpy as np

from vinter.core.finish.canvas import Canvas
from vinter.core.finish.moves.base import Move, Part, Row, Shown, move, setting
from vinter.core.finish.pixels import toned
from vinter.core.finish.scene import Scene

COLOUR = Row("Colour", 65)


class Saturation(Part):
    """How much colour a zone has."""

    saturation: float = setting(0.0, Shown("colour", "%", COLOUR, risky=0.8), ge=-1, le=1.5)


class SkySaturation(Saturation):
    """The sky's, with the tones that small sensors and airglow bring."""

    green: float = setting(0.0, Shown("airglow's green taken out", "%", COLOUR), ge=0, le=1)
    purple: float = setting(0.0, Shown("purple taken out", "%", COLOUR), ge=0, le=1)
    red: float = setting(0.0, Shown("red of nebulae", "%", COLOUR), ge=-1, le=1.5)


@move("colour", place=64)
class Colour(Move):
    """Colour of sky and ground, encoded."""

    sky: SkySaturation = SkySaturation()
    ground: Saturation = Saturation()

    def apply(self, canvas: Canvas, scene: Scene) -> Canvas:
        """The canvas in other colours of the same light."""
        if self.sky == SkySaturation() and self.ground == Saturation():
            return canvas
        sky = np.array([self.sky.saturation, self.sky.green, self.sky.purple, self.sky.red])
        return replace(canvas, rgb=toned(canvas.rgb, canvas.sky, sky, self.ground.saturation))
