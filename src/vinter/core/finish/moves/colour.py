"""Colour: how much of it, the green of airglow, the purple of dark corners, and by hue: red, yellow, blue."""

from dataclasses import replace

import numpy as np

from vinter.core.finish.canvas import Canvas
from vinter.core.finish.loops.pixels import toned
from vinter.core.finish.moves.base import Move, Part, Row, Shown, move, setting
from vinter.core.finish.scene import Scene

COLOUR = Row("Colour", 65)
GAMMA = 2.2


class Saturation(Part):
    """How much colour a zone has."""

    saturation: float = setting(0.0, Shown("colour", "%", COLOUR, risky=0.8), ge=-1, le=1.5)
    warmth: float = setting(0.0, Shown("warmer", "EV", COLOUR), ge=-0.5, le=0.5)


class SkySaturation(Saturation):
    """The sky's, with the tones that small sensors and airglow bring, and its hues one by one."""

    green: float = setting(0.0, Shown("airglow's green taken out", "%", COLOUR), ge=0, le=1)
    purple: float = setting(0.0, Shown("purple taken out", "%", COLOUR), ge=0, le=1)
    red: float = setting(0.0, Shown("red of nebulae", "%", COLOUR), ge=-1, le=1.5)
    yellow: float = setting(0.0, Shown("yellow of the core", "%", COLOUR), ge=-1, le=1.5)
    blue: float = setting(0.0, Shown("blue of the sky", "%", COLOUR), ge=-1, le=1.5)


@move("colour", place=64)
class Colour(Move):
    """Colour of sky and ground, encoded."""

    sky: SkySaturation = SkySaturation()
    ground: Saturation = Saturation()

    def apply(self, canvas: Canvas, scene: Scene) -> Canvas:
        """The canvas in other colours of the same light."""
        if self.sky == SkySaturation() and self.ground == Saturation():
            return canvas
        s, ground = self.sky, self.ground
        sky = np.array([s.saturation, s.green, s.purple, s.red, s.yellow, s.blue])
        warmth = np.array([_encoded_ev(s.warmth), _encoded_ev(ground.warmth)])
        return replace(canvas, rgb=toned(canvas.rgb, canvas.sky, sky, ground.saturation, warmth))


def _encoded_ev(ev: float) -> float:
    """Factor on encoded red (its inverse on blue) of a warmth in EV between them; about a gamma of 2.2."""
    return float(2.0 ** (ev / 2 / GAMMA))
